//! A project folder: `puente.toml`, `survey/NAME.json`, and `.puente/` for what the machine keeps to itself.

use std::fmt;
use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use puente_core::catalog::Catalog;
use puente_core::error::Problem;
use puente_core::model::{self, Model};
use puente_core::project::{self, Mistake, Project};
use puente_sources::Source;

use crate::environment;

/// An opened project folder.
#[derive(Debug, Clone)]
pub struct ProjectFolder {
    /// Where it is.
    pub path: PathBuf,
    /// The checked project file.
    pub project: Project,
}

/// Why a project folder cannot be used.
#[derive(Debug)]
pub enum FolderError {
    /// A file is missing or unreadable: a sentence with the remedy.
    Unreadable(String),
    /// Mistakes in the project file.
    Mistakes(Vec<Mistake>),
}

impl fmt::Display for FolderError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            FolderError::Unreadable(text) => f.write_str(text),
            FolderError::Mistakes(mistakes) => {
                for (at, mistake) in mistakes.iter().enumerate() {
                    if at > 0 {
                        f.write_str("\n")?;
                    }
                    write!(f, "{mistake}")?;
                }
                Ok(())
            }
        }
    }
}

impl std::error::Error for FolderError {}

impl ProjectFolder {
    /// Reads and checks the project file of a folder.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn open(path: &Path) -> Result<Self, FolderError> {
        let file = path.join(project::FILE);
        let text = std::fs::read_to_string(&file).map_err(|error| {
            FolderError::Unreadable(format!(
                "no project in {}: {} cannot be read ({error}); `puente init` makes one, `--project DIR` names another",
                path.display(),
                project::FILE
            ))
        })?;
        let project = project::read(&text, &environment::read).map_err(FolderError::Mistakes)?;
        Ok(ProjectFolder { path: path.to_owned(), project })
    }

    /// Sets the source up; it is reached with the first ask.
    ///
    /// # Errors
    /// `SOURCE_UNAVAILABLE` where its address or certificate cannot be understood.
    pub fn source(&self) -> Result<Source, Problem> {
        Source::open(&self.project.source, &self.path)
    }

    /// The survey file's path.
    pub fn survey_file(&self) -> PathBuf {
        self.path.join("survey").join(format!("{}.json", self.project.source.name))
    }

    /// The survey file's catalog; none where there is no survey file yet.
    ///
    /// # Errors
    /// What is wrong with the file.
    pub fn surveyed(&self) -> Result<Option<Catalog>, FolderError> {
        let file = self.survey_file();
        let text = match std::fs::read_to_string(&file) {
            Ok(text) => text,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(None),
            Err(error) => return Err(FolderError::Unreadable(format!("{} cannot be read: {error}", file.display()))),
        };
        Catalog::from_text(&text)
            .map(Some)
            .map_err(|error| FolderError::Unreadable(format!("{}: {error}", file.display())))
    }

    /// The model, from the survey file and the project file; no database is needed.
    ///
    /// # Errors
    /// A missing survey file, or mistakes in the project file.
    pub fn model(&self) -> Result<Arc<Model>, FolderError> {
        let Some(catalog) = self.surveyed()? else {
            return Err(FolderError::Unreadable(format!(
                "no survey yet: {} is not there; run `puente survey`",
                self.survey_file().display()
            )));
        };
        model::build(&catalog, &self.project).map(Arc::new).map_err(FolderError::Mistakes)
    }

    /// The folder `.puente`, made where it is not there.
    ///
    /// # Errors
    /// A sentence where it cannot be made.
    pub fn private_folder(&self) -> Result<PathBuf, FolderError> {
        let folder = self.path.join(".puente");
        std::fs::create_dir_all(&folder)
            .map_err(|error| FolderError::Unreadable(format!("{} cannot be made: {error}", folder.display())))?;
        Ok(folder)
    }

    /// The secret that cursors are sealed with: the project's, else one that is generated once and kept.
    ///
    /// # Errors
    /// A sentence where none is configured and `may_generate` is false, or where the file cannot be read or written.
    pub fn secret(&self, may_generate: bool) -> Result<Vec<u8>, FolderError> {
        if let Some(secret) = &self.project.service.secret {
            return Ok(secret.0.clone().into_bytes());
        }
        if !may_generate {
            return Err(FolderError::Unreadable(format!(
                "no secret: production needs `[service] secret = \"${{{}}}\"` in {}, the same on every replica; \
                 `openssl rand -hex 32` makes one, `--development` does without",
                environment::SECRET,
                project::FILE
            )));
        }
        let file = self.private_folder()?.join("secret");
        match std::fs::read(&file) {
            Ok(secret) if secret.len() >= 32 => return Ok(secret),
            Ok(_) => {}
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {}
            Err(error) => {
                return Err(FolderError::Unreadable(format!("{} cannot be read: {error}", file.display())));
            }
        }
        let secret = crate::records::random_text(32).into_bytes();
        write_private(&file, &secret)
            .map_err(|error| FolderError::Unreadable(format!("{} cannot be written: {error}", file.display())))?;
        Ok(secret)
    }
}

/// Writes a file that only its owner can read.
fn write_private(file: &Path, bytes: &[u8]) -> std::io::Result<()> {
    let mut options = std::fs::OpenOptions::new();
    options.write(true).create(true).truncate(true);
    #[cfg(unix)]
    {
        use std::os::unix::fs::OpenOptionsExt as _;
        options.mode(0o600);
    }
    options.open(file)?.write_all(bytes)
}
