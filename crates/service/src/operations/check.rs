//! What is wrong with a project: its file, its model, its grants and schemas, and how its databases differ from their surveys.

use std::sync::Arc;

use puente_core::access::{self, Role, View};
use puente_core::catalog::{Catalog, Drift, compare};
use puente_core::error::Problem;
use puente_core::model::{self, Model};
use puente_core::project::{Mistake, Project, SourceSettings, TokenKey, UNSET};
use puente_core::schema;
use serde::Serialize;
use utoipa::ToSchema;

use crate::folder::{FolderError, ProjectFolder};
use crate::identity::key_set_at;

/// One thing that is wrong, or worth a word.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub struct Finding {
    /// What it is about.
    pub kind: FindingKind,
    /// What was expected, what came, and the remedy.
    pub text: String,
    /// Does it break something, or is it worth a word only?
    pub breaking: bool,
    /// The line of the project file, from 1.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub line: Option<usize>,
    /// The column there, from 1.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub column: Option<usize>,
}

/// What a finding is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub enum FindingKind {
    /// A file of the project.
    Project,
    /// A secret that is written in the project file.
    Secret,
    /// There are no types.
    Empty,
    /// Keys by which tokens are checked.
    Identity,
    /// What a role is allowed.
    Access,
    /// A schema that cannot be built.
    Schema,
    /// A source that cannot be read.
    Source,
    /// A source that is not as it was surveyed.
    Drift,
}

impl FindingKind {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            FindingKind::Project => "project",
            FindingKind::Secret => "secret",
            FindingKind::Empty => "empty",
            FindingKind::Identity => "identity",
            FindingKind::Access => "access",
            FindingKind::Schema => "schema",
            FindingKind::Source => "source",
            FindingKind::Drift => "drift",
        }
    }
}

impl Finding {
    pub(crate) fn new(kind: FindingKind, text: impl Into<String>, breaking: bool) -> Self {
        Finding { kind, text: text.into(), breaking, line: None, column: None }
    }

    fn of_mistake(kind: FindingKind, mistake: &Mistake, breaking: bool) -> Self {
        let known = |number: usize| (number > 0).then_some(number);
        // Without a place it is about the file as a whole.
        if mistake.place.line == 0 || mistake.place.file.is_some() {
            return Finding::new(kind, mistake.to_string(), breaking);
        }
        Finding {
            kind,
            text: mistake.text.clone(),
            breaking,
            line: known(mistake.place.line),
            column: known(mistake.place.column),
        }
    }

    /// What is wrong with files, each mistake by itself.
    pub fn of_files(error: &FolderError) -> Vec<Finding> {
        match error {
            FolderError::Unreadable(text) => vec![Finding::new(FindingKind::Project, text, true)],
            FolderError::Mistakes(mistakes) => {
                mistakes.iter().map(|mistake| Finding::of_mistake(FindingKind::Project, mistake, true)).collect()
            }
        }
    }
}

/// What a project file comes to on catalogs, and what is wrong with it.
#[derive(Debug, Default)]
pub(crate) struct Checked {
    /// As it was read.
    pub(crate) project: Option<Project>,
    /// The model.
    pub(crate) model: Option<Arc<Model>>,
    /// The roles, where nothing is wrong with any.
    pub(crate) roles: Option<Vec<Role>>,
    /// Everything found.
    pub(crate) findings: Vec<Finding>,
}

impl Checked {
    /// Can it be served?
    pub(crate) fn is_sound(&self) -> bool {
        self.roles.is_some() && !self.findings.iter().any(|finding| finding.kind == FindingKind::Schema)
    }
}

/// Checks the text of a project file against catalogs, one for each of its sources.
pub(crate) fn check_text(
    text: &str,
    folder: &std::path::Path,
    catalogs: impl FnOnce(&Project) -> Result<Vec<Catalog>, FolderError>,
) -> Checked {
    match crate::folder::read_project(folder, text.to_owned(), &crate::environment::of_project(folder)) {
        Ok((project, _)) => check_project(project, catalogs),
        Err(error) => Checked { findings: Finding::of_files(&error), ..Checked::default() },
    }
}

fn check_project(project: Project, catalogs: impl FnOnce(&Project) -> Result<Vec<Catalog>, FolderError>) -> Checked {
    let mut checked = Checked::default();
    checked.findings.extend(project.exposed.iter().map(|exposed| {
        let text = format!("{}; production refuses this", exposed.text);
        Finding::of_mistake(FindingKind::Secret, &Mistake { text, ..exposed.clone() }, false)
    }));
    let model = catalogs(&project).and_then(|catalogs| {
        model::build(&catalogs.iter().collect::<Vec<_>>(), &project).map(Arc::new).map_err(FolderError::Mistakes)
    });
    match model {
        Ok(model) => {
            if model.types.is_empty() {
                let text = "the API has no types: no table was found; `puente survey` says where it looked";
                checked.findings.push(Finding::new(FindingKind::Empty, text, false));
            }
            match access::roles(&model, &project) {
                Ok(roles) => {
                    checked.findings.extend(roles.iter().flat_map(|role| about_role(&project, role)));
                    checked.roles = Some(roles);
                }
                Err(mistakes) => checked.findings.extend(Finding::of_files(&FolderError::Mistakes(mistakes))),
            }
            if let Err(problem) = schema::build(&View::owner(Arc::clone(&model))) {
                checked.findings.push(unbuilt(&problem, ""));
            }
            let place = |table: &str| project.types.get(table).map(|edit| edit.place).unwrap_or_default();
            let versions = access::about_versions(&model, &place);
            checked
                .findings
                .extend(versions.iter().map(|found| Finding::of_mistake(FindingKind::Access, found, false)));
            checked.model = Some(model);
        }
        Err(error) => checked.findings.extend(Finding::of_files(&error)),
    }
    checked.project = Some(project);
    checked
}

fn unbuilt(problem: &Problem, whose: &str) -> Finding {
    let text = format!("{whose}{} {}", problem.message, problem.told());
    Finding::new(FindingKind::Schema, text, true)
}

/// What a role allows that may not have been meant, and whether its schema can be built.
fn about_role(project: &Project, role: &Role) -> Vec<Finding> {
    let anonymous = project.identity.anonymous.as_deref() == Some(role.view.role());
    let warned = access::warnings(role, anonymous);
    let mut findings: Vec<Finding> =
        warned.iter().map(|warning| Finding::of_mistake(FindingKind::Access, warning, false)).collect();
    if let Err(problem) = schema::build(&role.view) {
        findings.push(unbuilt(&problem, &format!("role `{}`: ", role.view.role())));
    }
    findings
}

/// Everything that is wrong with the files of a folder; no database is asked.
pub fn check(folder: &ProjectFolder) -> Vec<Finding> {
    let mut findings = check_folder(folder).findings;
    findings.extend(unreadable_keys(folder));
    findings
}

/// Keys of tokens that cannot be read, but for those that a command does without.
fn unreadable_keys(folder: &ProjectFolder) -> Option<Finding> {
    let tokens = folder.project.identity.tokens.as_ref()?;
    if matches!(&tokens.key, TokenKey::Key { key, .. } if key.0.contains(UNSET)) {
        return None;
    }
    let error = folder.identity(false).err()?;
    Some(Finding::new(FindingKind::Identity, error.to_string(), true))
}

/// What is wrong with the set of keys that is fetched from elsewhere, if there is one: asked of whoever publishes it.
pub fn check_key_set(folder: &ProjectFolder) -> Option<Finding> {
    let tokens = folder.project.identity.tokens.as_ref()?;
    let TokenKey::SetAt(address) = &tokens.key else { return None };
    let text = match key_set_at(address) {
        Ok(_) => return None,
        Err(text) => text,
    };
    let text = format!("the key set at {address}: {text}; tokens cannot be checked with it");
    Some(Finding::new(FindingKind::Identity, text, true))
}

/// What the files of a folder come to.
pub(crate) fn check_folder(folder: &ProjectFolder) -> Checked {
    check_project(folder.project.clone(), |_| folder.catalogs())
}

/// How the sources of a folder differ from their survey files, and which of them cannot be read.
pub fn find_drift(folder: &ProjectFolder) -> Vec<Finding> {
    let mut findings = Vec::new();
    for source in &folder.project.sources {
        let Ok(Some(surveyed)) = folder.surveyed(source) else { continue };
        // Which of several sources it is about.
        let of = match folder.project.sources.len() {
            1 => String::new(),
            _ => format!("source `{}`: ", source.name),
        };
        match check_drift(folder, source, &surveyed) {
            Ok(drift) => findings.extend(
                drift.into_iter().map(|d| Finding::new(FindingKind::Drift, format!("{of}{}", d.text), d.breaking)),
            ),
            Err(problem) => {
                findings.push(Finding::new(FindingKind::Source, format!("{of}{}", problem.message), true));
            }
        }
    }
    if findings.iter().any(|finding| finding.kind == FindingKind::Drift && finding.breaking) {
        findings.push(Finding::new(FindingKind::Drift, "run `puente survey` to take the changes over", true));
    }
    findings
}

/// How a live source differs from its survey file.
///
/// # Errors
/// Where the source cannot be read.
fn check_drift(folder: &ProjectFolder, source: &SourceSettings, surveyed: &Catalog) -> Result<Vec<Drift>, Problem> {
    let live = puente_sources::survey(source, &folder.path)?;
    // What samples do not show this time is no difference.
    Ok(compare(surveyed, &live.catalog.widened(surveyed)))
}
