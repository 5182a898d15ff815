//! A project folder: `puente.toml`, `survey/NAME.json`, and `.puente/` for what the machine keeps to itself.

use std::fmt;
use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use puente_core::access::{self, Role};
use puente_core::catalog::Catalog;
use puente_core::error::Problem;
use puente_core::model::{self, Model};
use puente_core::project::{self, Mistake, Project, SourceSettings};
use puente_run::Source;

use crate::api::ApiOptions;
use crate::environment;
use crate::folder_state::FolderState;
use crate::identity::{DevelopmentKey, Identity, IdentityError};

/// An opened project folder.
#[derive(Debug, Clone)]
pub struct ProjectFolder {
    /// Where it is.
    pub path: PathBuf,
    /// The checked project file.
    pub project: Project,
    /// The files that it includes, as they are called in the folder.
    pub included: Vec<String>,
    /// The state of its files that was read.
    pub state: FolderState,
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
        ProjectFolder::open_in(path, &environment::of_project(path))
    }

    /// The same where no secret is needed: a variable of the environment may be missing.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn open_without_secrets(path: &Path) -> Result<Self, FolderError> {
        let known = environment::of_project(path);
        ProjectFolder::open_in(path, &|name| known(name).or_else(|| Some(format!("{}{name}", project::UNSET))))
    }

    fn open_in(path: &Path, environment: &dyn Fn(&str) -> Option<String>) -> Result<Self, FolderError> {
        /// Readings until the files are the same before and after.
        const MOST_READINGS: usize = 5;
        let mut state = FolderState::read(path, &FolderState::default());
        for _ in 1..MOST_READINGS {
            let read = ProjectFolder::read_once(path, environment, state.clone());
            let after = FolderState::read(path, &state);
            if after == state {
                return read;
            }
            state = after;
        }
        // Somebody writes them all the time: whoever looks for changes will read them again.
        ProjectFolder::read_once(path, environment, state)
    }

    fn read_once(
        path: &Path,
        environment: &dyn Fn(&str) -> Option<String>,
        state: FolderState,
    ) -> Result<Self, FolderError> {
        let file = path.join(project::FILE);
        let text = std::fs::read_to_string(&file).map_err(|error| {
            FolderError::Unreadable(format!(
                "no project in {}: {} cannot be read ({error}); `puente init` makes one, `--project DIR` names another",
                path.display(),
                project::FILE
            ))
        })?;
        let (project, included) = read_project(path, text, environment)?;
        Ok(ProjectFolder { path: path.to_owned(), project, included, state })
    }

    /// The project file's text, as it is now.
    ///
    /// # Errors
    /// Where it cannot be read.
    pub fn text(&self) -> Result<String, FolderError> {
        let file = self.path.join(project::FILE);
        match std::fs::read_to_string(&file) {
            Ok(text) => Ok(text),
            // Where nobody has begun yet, nothing is said.
            Err(error) if error.kind() == std::io::ErrorKind::NotFound && self.project.sources.is_empty() => {
                Ok(String::new())
            }
            Err(error) => Err(FolderError::Unreadable(format!("{} cannot be read: {error}", file.display()))),
        }
    }

    /// Writes the project file as a whole.
    ///
    /// # Errors
    /// Where it cannot be written; it is then as it was.
    pub fn write(&self, text: &str) -> Result<(), FolderError> {
        let file = self.path.join(project::FILE);
        replace(&file, text)
            .map_err(|error| FolderError::Unreadable(format!("{} cannot be written: {error}", file.display())))
    }

    /// Reads the folder, or what stands for one in which nobody has begun yet: a project without sources.
    ///
    /// # Errors
    /// What is wrong with the project file that is there.
    pub fn open_or_begin(path: &Path) -> Result<Self, FolderError> {
        if path.join(project::FILE).exists() {
            return ProjectFolder::open(path);
        }
        let state = FolderState::read(path, &FolderState::default());
        Ok(ProjectFolder { path: path.to_owned(), project: Project::empty(), included: Vec::new(), state })
    }

    /// Keeps secrets and records out of version control, where nothing is said of that yet.
    ///
    /// # Errors
    /// Where that cannot be written.
    pub fn keep_private(&self) -> Result<(), FolderError> {
        let file = self.path.join(".gitignore");
        if file.exists() {
            return Ok(());
        }
        std::fs::write(&file, ".puente/\n").map_err(|error| {
            let text =
                format!("{} could not be written ({error}); keep `.puente/` out of git yourself", file.display());
            FolderError::Unreadable(text)
        })
    }

    /// Sets a source up; it is reached with the first ask.
    ///
    /// # Errors
    /// `SOURCE_UNAVAILABLE` where its address or certificate cannot be understood.
    pub fn open_source(&self, source: &SourceSettings) -> Result<Source, Problem> {
        puente_sources::open(source, &self.path, self.project.limits.answer_bytes)
    }

    /// Sets up every source that is not open already, in the order of the file.
    pub(crate) fn open_sources(
        &self,
        open: &dyn Fn(&SourceSettings) -> Option<Source>,
    ) -> Result<Vec<Source>, Problem> {
        let opened = |source| open(source).map_or_else(|| self.open_source(source), Ok);
        self.project.sources.iter().map(opened).collect()
    }

    /// The path of a source's survey file.
    pub fn survey_file(&self, source: &SourceSettings) -> PathBuf {
        self.path.join("survey").join(format!("{}.json", source.name))
    }

    /// What a source's survey file says; none where there is no survey file yet.
    ///
    /// # Errors
    /// What is wrong with the file.
    pub fn surveyed(&self, source: &SourceSettings) -> Result<Option<Catalog>, FolderError> {
        let file = self.survey_file(source);
        let text = match std::fs::read_to_string(&file) {
            Ok(text) => text,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(None),
            Err(error) => return Err(FolderError::Unreadable(format!("{} cannot be read: {error}", file.display()))),
        };
        Catalog::from_text(&text)
            .map(Some)
            .map_err(|error| FolderError::Unreadable(format!("{}: {error}", file.display())))
    }

    /// What the survey files say, in the order of the sources.
    ///
    /// # Errors
    /// A missing survey file, or what is wrong with one.
    pub fn catalogs(&self) -> Result<Vec<Catalog>, FolderError> {
        let catalog = |source: &SourceSettings| self.surveyed(source)?.ok_or_else(|| self.no_survey(source));
        self.project.sources.iter().map(catalog).collect()
    }

    /// What is to be done about a source without a survey file.
    pub(crate) fn no_survey(&self, source: &SourceSettings) -> FolderError {
        let file = self.survey_file(source);
        FolderError::Unreadable(format!("no survey yet: {} is not there; run `puente survey`", file.display()))
    }

    /// The model, from the survey files and the project file; no database is needed.
    ///
    /// # Errors
    /// A missing survey file, or mistakes in the project file.
    pub fn model(&self) -> Result<Arc<Model>, FolderError> {
        let catalogs = self.catalogs()?;
        let catalogs: Vec<&Catalog> = catalogs.iter().collect();
        model::build(&catalogs, &self.project).map(Arc::new).map_err(FolderError::Mistakes)
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
        private_bytes(&file)
            .map_err(|error| FolderError::Unreadable(format!("{} cannot be read or written: {error}", file.display())))
    }

    /// The roles of the project, checked against its model.
    ///
    /// # Errors
    /// Mistakes in the grants and rules of the project file.
    pub fn roles(&self, model: &Arc<Model>) -> Result<Vec<Role>, FolderError> {
        access::roles(model, &self.project).map_err(FolderError::Mistakes)
    }

    /// How it is known who asks. In development, tokens of this machine's own key are believed, too.
    ///
    /// # Errors
    /// Keys that cannot be used.
    pub fn identity(&self, development: bool) -> Result<Identity, OpenError> {
        let key = if development { Some(DevelopmentKey::of(&self.private_folder()?)?) } else { None };
        Ok(Identity::new(&self.project, &self.path, key)?)
    }

    /// What an API of this project is made of, with the sources that are open already, as far as they are.
    ///
    /// # Errors
    /// What is wrong with the files, or with a source's address.
    pub fn api_options(
        &self,
        secret: Vec<u8>,
        open: &dyn Fn(&SourceSettings) -> Option<Source>,
    ) -> Result<ApiOptions, OpenError> {
        let model = self.model()?;
        let roles = self.roles(&model)?;
        let sources = self.open_sources(open).map_err(OpenError::Source)?;
        let (limits, persisted) = (self.project.limits, self.project.service.persisted);
        Ok(ApiOptions { model, roles, limits, secret, sources, persisted, traces: None })
    }
}

/// Reads the text of a folder's project file, and the files that it includes.
///
/// # Errors
/// What is wrong with any of them.
pub(crate) fn read_project(
    path: &Path,
    text: String,
    environment: &dyn Fn(&str) -> Option<String>,
) -> Result<(Project, Vec<String>), FolderError> {
    let (patterns, place) = project::included(&text).map_err(FolderError::Mistakes)?;
    let mut files = vec![(project::FILE.to_owned(), text)];
    let mut included: Vec<String> = Vec::new();
    for pattern in &patterns {
        let wrong = |text: String| FolderError::Mistakes(vec![Mistake { place, text }]);
        let whole = Path::new(&glob::Pattern::escape(&path.to_string_lossy())).join(pattern);
        let found = glob::glob(&whole.to_string_lossy()).map_err(|error| wrong(format!("`{pattern}`: {error}")))?;
        let before = included.len();
        for file in found.filter_map(Result::ok) {
            let name = file.strip_prefix(path).unwrap_or(&file).to_string_lossy().into_owned();
            if name == project::FILE || included.contains(&name) {
                continue;
            }
            let text = std::fs::read_to_string(&file);
            let text = text.map_err(|error| wrong(format!("{name} cannot be read: {error}")))?;
            files.push((name.clone(), text));
            included.push(name);
        }
        if included.len() == before && !pattern.contains(['*', '?', '[']) && !included.contains(pattern) {
            return Err(wrong(format!("`include` names `{pattern}`, which is not there; make it, or leave it out")));
        }
    }
    let project = project::read_files(&files, environment).map_err(FolderError::Mistakes)?;
    Ok((project, included))
}

/// The files of a folder that patterns name, by their names in it.
pub(crate) fn files_of(folder: &Path, patterns: &[String]) -> Vec<String> {
    let whole = |pattern: &String| Path::new(&glob::Pattern::escape(&folder.to_string_lossy())).join(pattern);
    let found = patterns.iter().filter_map(|pattern| glob::glob(&whole(pattern).to_string_lossy()).ok());
    let name = |file: PathBuf| file.strip_prefix(folder).unwrap_or(&file).to_string_lossy().into_owned();
    found.flatten().filter_map(Result::ok).map(name).collect()
}

/// Why a project cannot be served.
#[derive(Debug)]
pub enum OpenError {
    /// What is wrong with the files.
    Folder(FolderError),
    /// What is wrong with the source.
    Source(Problem),
    /// What is wrong with how it is known who asks.
    Identity(IdentityError),
}

impl From<FolderError> for OpenError {
    fn from(error: FolderError) -> Self {
        OpenError::Folder(error)
    }
}

impl From<IdentityError> for OpenError {
    fn from(error: IdentityError) -> Self {
        OpenError::Identity(error)
    }
}

impl fmt::Display for OpenError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            OpenError::Folder(error) => error.fmt(f),
            OpenError::Source(problem) => f.write_str(&problem.message),
            OpenError::Identity(error) => error.fmt(f),
        }
    }
}

impl std::error::Error for OpenError {}

/// Writes a file as a whole: whoever reads it meanwhile, and whatever interrupts us, finds the old one or the new one. Who may read or
/// write it stays as it was.
pub(crate) fn replace(file: &Path, text: &str) -> std::io::Result<()> {
    let mut draft = file.as_os_str().to_owned();
    draft.push(".draft");
    // Nobody else reads the draft before it has the rights of the file; one that is left over from before may have others.
    let _ = std::fs::remove_file(&draft);
    match std::fs::metadata(file) {
        Ok(before) => {
            write_private(Path::new(&draft), text.as_bytes())?;
            std::fs::set_permissions(&draft, before.permissions())?;
        }
        Err(_) => std::fs::write(&draft, text)?,
    }
    std::fs::rename(&draft, file)
}

/// The bytes of a file that only its owner can read; made at random where it is not there.
pub(crate) fn private_bytes(file: &Path) -> std::io::Result<Vec<u8>> {
    const FEWEST: usize = 32;
    match std::fs::read(file) {
        Ok(bytes) if bytes.len() >= FEWEST => return Ok(bytes),
        Ok(_) => {}
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => {}
        Err(error) => return Err(error),
    }
    let bytes = crate::access_keys::random_text(FEWEST).into_bytes();
    write_private(file, &bytes)?;
    Ok(bytes)
}

/// Writes a file that only its owner can read.
pub(crate) fn write_private(file: &Path, bytes: &[u8]) -> std::io::Result<()> {
    let mut options = std::fs::OpenOptions::new();
    options.write(true).create(true).truncate(true);
    #[cfg(unix)]
    {
        use std::os::unix::fs::OpenOptionsExt as _;
        options.mode(0o600);
    }
    options.open(file)?.write_all(bytes)
}
