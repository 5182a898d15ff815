//! Edits of the project file: proposed, looked at, saved. What is saved is checked first, and only where the file is still as it was
//! when the edits were proposed.

use std::sync::Arc;

use puente_core::access::{self, View};
use puente_core::catalog::Catalog;
use puente_core::model::{self, Model};
use puente_core::project::{self, Edit, EditError, Project};
use puente_core::schema;
use ring::digest;
use serde::Serialize;
use similar::{ChangeTag, TextDiff};
use utoipa::ToSchema;

use super::check::{Checked, Finding, check_text};
use crate::folder::read_project;
use crate::folder::{FolderError, ProjectFolder};

/// What edits would make of the project file.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct Proposed {
    /// A digest of the file as it is: what is saved says which file it was proposed for.
    pub base: String,
    /// The file's text as it would be.
    pub text: String,
    /// The lines that differ, each group with what is around it.
    pub lines: Vec<DiffGroup>,
    /// What is wrong with it, as `puente check` says it.
    pub findings: Vec<Finding>,
    /// Can it be served so? Else it is not saved.
    pub sound: bool,
    /// What it does to the schemas.
    pub differences: Vec<SchemaDifference>,
}

/// Lines of the file that differ, and the unchanged ones around them.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct DiffGroup {
    /// The lines.
    pub lines: Vec<DiffLine>,
}

/// A line of a difference.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct DiffLine {
    /// Is it in both, gone, or new?
    pub kind: DiffKind,
    /// Its number in the file as it is, from 1.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub before: Option<usize>,
    /// Its number in the file as it would be, from 1.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub after: Option<usize>,
    /// Its text, without its end.
    pub text: String,
}

/// What becomes of a line.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) enum DiffKind {
    /// It stays.
    Same,
    /// It goes.
    Removed,
    /// It comes.
    Added,
}

/// A difference between the schemas of a role before and after.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct SchemaDifference {
    /// The roles in whose schemas it is.
    pub roles: Vec<String>,
    /// What differs: `Hut.name`, `Query.huts(filter:)`.
    pub coordinate: String,
    /// How: "is gone".
    pub text: String,
    /// Can a request fail now that did not?
    pub breaking: bool,
}

/// Differences that are told one by one; of more, those that break something come first.
const MOST_DIFFERENCES: usize = 400;

/// Why nothing was saved.
#[derive(Debug)]
pub(crate) enum SaveError {
    /// An edit cannot be made.
    Edit(EditError),
    /// The file could not be read or written.
    Folder(FolderError),
    /// The file is another one meanwhile; this is its text.
    Changed {
        /// The file's text now.
        now: String,
    },
    /// The file would not be served so.
    Unsound(Vec<Finding>),
}

impl From<EditError> for SaveError {
    fn from(error: EditError) -> Self {
        SaveError::Edit(error)
    }
}

impl From<FolderError> for SaveError {
    fn from(error: FolderError) -> Self {
        SaveError::Folder(error)
    }
}

/// A digest of a file's text, in hexadecimal digits.
pub(crate) fn digest_of(text: &str) -> String {
    let hash = digest::digest(&digest::SHA256, text.as_bytes());
    hash.as_ref().iter().map(|byte| format!("{byte:02x}")).collect()
}

/// The text after edits. Whoever gathers them calls types and fields as they are called now: grants are written first, and where
/// another edit gives things other names, the grants follow. `model` is what a text comes to, as far as it comes to anything.
pub(crate) fn with_edits(
    text: &str,
    edits: &[Edit],
    model: &dyn Fn(&str) -> Option<Model>,
) -> Result<String, EditError> {
    let mut ordered: Vec<&Edit> = edits.iter().collect();
    ordered.sort_by_key(|edit| match edit {
        Edit::SetRole { .. } | Edit::RemoveRole { .. } => 0,
        Edit::SetGrant { .. } | Edit::RemoveGrant { .. } => 1,
        Edit::AddSource { .. }
        | Edit::SetType { .. }
        | Edit::SetField { .. }
        | Edit::AddLink { .. }
        | Edit::ChangeLink { .. }
        | Edit::RemoveLink { .. } => 2,
    });
    ordered.into_iter().try_fold(text.to_owned(), |before, edit| {
        let after = project::apply(&before, edit)?;
        if !edit.renames() {
            return Ok(after);
        }
        match (model(&before), model(&after)) {
            (Some(was), Some(is)) => access::follow(&after, &was, &is),
            _ => Ok(after),
        }
    })
}

/// What the file's texts are checked against: the surveys as they are.
pub(crate) struct Surveys<'f> {
    folder: &'f ProjectFolder,
}

impl<'f> Surveys<'f> {
    pub(crate) fn of(folder: &'f ProjectFolder) -> Self {
        Surveys { folder }
    }

    /// One for each source of a project, which may be another than the folder's.
    fn catalogs(&self, project: &Project) -> Result<Vec<Catalog>, FolderError> {
        let folder = ProjectFolder { project: project.clone(), ..self.folder.clone() };
        folder.catalogs()
    }

    pub(crate) fn check(&self, text: &str) -> Checked {
        check_text(text, &self.folder.path, |project| self.catalogs(project))
    }

    /// The model that a text comes to.
    fn model(&self, text: &str) -> Option<Model> {
        let path = &self.folder.path;
        let (project, _) = read_project(path, text.to_owned(), &crate::environment::of_project(path)).ok()?;
        let catalogs = self.catalogs(&project).ok()?;
        model::build(&catalogs.iter().collect::<Vec<_>>(), &project).ok()
    }

    /// The text after edits.
    pub(crate) fn edited(&self, text: &str, edits: &[Edit]) -> Result<String, EditError> {
        with_edits(text, edits, &|text| self.model(text))
    }
}

/// What edits would make of the project file of a folder.
///
/// # Errors
/// Where an edit cannot be made, or the file cannot be read.
pub(crate) fn propose(folder: &ProjectFolder, edits: &[Edit]) -> Result<Proposed, SaveError> {
    let before = folder.text()?;
    let surveys = Surveys::of(folder);
    let after = surveys.edited(&before, edits)?;
    Ok(proposed(&surveys, &before, after))
}

fn proposed(surveys: &Surveys<'_>, before: &str, after: String) -> Proposed {
    let checked = surveys.check(&after);
    let differences = if before == after { Vec::new() } else { differences(&surveys.check(before), &checked) };
    Proposed {
        base: digest_of(before),
        lines: diff(before, &after),
        sound: checked.is_sound(),
        findings: checked.findings,
        differences,
        text: after,
    }
}

/// Makes edits in the project file, if it is still the one that they were proposed for and can be served with them. Gives the text
/// before.
///
/// # Errors
/// [`SaveError`]; the file is then as it was.
pub(crate) fn save(folder: &ProjectFolder, base: &str, edits: &[Edit]) -> Result<(String, String), SaveError> {
    let before = folder.text()?;
    if digest_of(&before) != base {
        return Err(SaveError::Changed { now: before });
    }
    let surveys = Surveys::of(folder);
    let after = surveys.edited(&before, edits)?;
    write_checked(folder, &surveys, &after)?;
    Ok((before, after))
}

/// Puts a text back that was the project file's, if the file is still what was made of it.
///
/// # Errors
/// [`SaveError`]; the file is then as it was.
pub(crate) fn put_back(folder: &ProjectFolder, made: &str, text: &str) -> Result<(), SaveError> {
    let now = folder.text()?;
    if digest_of(&now) != made {
        return Err(SaveError::Changed { now });
    }
    write_checked(folder, &Surveys::of(folder), text)
}

fn write_checked(folder: &ProjectFolder, surveys: &Surveys<'_>, text: &str) -> Result<(), SaveError> {
    let checked = surveys.check(text);
    if !checked.is_sound() {
        return Err(SaveError::Unsound(checked.findings));
    }
    Ok(folder.write(text)?)
}

/// The lines that differ, with three around them.
pub(crate) fn diff(before: &str, after: &str) -> Vec<DiffGroup> {
    const AROUND: usize = 3;
    let diff = TextDiff::from_lines(before, after);
    let groups = diff.grouped_ops(AROUND).into_iter().map(|group| {
        let changes = group.iter().flat_map(|op| diff.iter_changes(op).collect::<Vec<_>>());
        let lines = changes.map(|change| DiffLine {
            kind: match change.tag() {
                ChangeTag::Equal => DiffKind::Same,
                ChangeTag::Delete => DiffKind::Removed,
                ChangeTag::Insert => DiffKind::Added,
            },
            before: change.old_index().map(|line| line + 1),
            after: change.new_index().map(|line| line + 1),
            text: change.value().trim_end_matches(['\n', '\r']).to_owned(),
        });
        DiffGroup { lines: lines.collect() }
    });
    groups.collect()
}

/// What differs between the schemas of all roles, the owner's first. What is different for several roles is told once.
fn differences(before: &Checked, after: &Checked) -> Vec<SchemaDifference> {
    let views = |checked: &Checked| -> Vec<View> {
        let owner = checked.model.as_ref().map(|model| View::owner(Arc::clone(model)));
        let roles = checked.roles.iter().flatten().map(|role| role.view.clone());
        owner.into_iter().chain(roles).collect()
    };
    let (was, is) = (views(before), views(after));
    let mut found: Vec<SchemaDifference> = Vec::new();
    for view in &was {
        let Some(now) = is.iter().find(|now| now.role() == view.role()) else { continue };
        // Printing is cheap beside building: most edits change the schemas of few roles.
        if schema::print(view) == schema::print(now) {
            continue;
        }
        let (Ok(was), Ok(is)) = (schema::build(view), schema::build(now)) else { continue };
        for difference in schema::differences(&was, &is) {
            let role = view.role().to_owned();
            let known = found
                .iter_mut()
                .find(|known| known.coordinate == difference.coordinate && known.text == difference.text);
            match known {
                Some(known) => known.roles.push(role),
                None => found.push(SchemaDifference {
                    roles: vec![role],
                    coordinate: difference.coordinate,
                    text: difference.text,
                    breaking: difference.breaking,
                }),
            }
        }
    }
    found.sort_by_key(|difference| !difference.breaking);
    found.truncate(MOST_DIFFERENCES);
    found
}
