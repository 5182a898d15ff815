//! What the command line does beside asking, and what the console will share: surveying and comparing.

use puente_core::catalog::{self, Advice, Catalog, Drift, Rename, advise, compare};
use puente_core::model::{self, KeyProposal, Model, Proposal};
use puente_core::project;

use crate::folder::{FolderError, ProjectFolder};

/// What a survey found and changed.
#[derive(Debug)]
pub struct SurveyOutcome {
    /// The catalog as it was written.
    pub catalog: Catalog,
    /// The model that it gives, if the project file fits it.
    pub model: Result<Model, FolderError>,
    /// Links that it suggests and that the project file does not have yet.
    pub proposals: Vec<Proposal>,
    /// Keys that it suggests and that the project file does not have yet.
    pub keys: Vec<KeyProposal>,
    /// What may be what is gone, under a new name.
    pub renames: Vec<Rename>,
    /// What could be better about the tables.
    pub advice: Vec<Advice>,
    /// What could not be surveyed.
    pub notices: Vec<String>,
    /// What changed since the last survey; none where there was none.
    pub changes: Option<Vec<Drift>>,
}

/// Why a survey failed.
#[derive(Debug)]
pub enum SurveyError {
    /// The source could not be read.
    Source(puente_core::error::Problem),
    /// The survey file could not be read or written.
    Folder(FolderError),
}

/// Surveys the source and writes the survey file. Names given earlier are kept.
///
/// # Errors
/// [`SurveyError`]; the old survey file is then as it was.
pub fn survey(folder: &ProjectFolder) -> Result<SurveyOutcome, SurveyError> {
    let before = folder.surveyed().map_err(SurveyError::Folder)?;
    let found = puente_sources::survey(&folder.project.source, &folder.path).map_err(SurveyError::Source)?;
    let mut catalog = found.catalog;
    let mut renames = Vec::new();
    if let Some(before) = &before {
        let mut names = before.names.clone();
        renames = names.open_renames(catalog::renames(before, &catalog), &catalog);
        catalog.names = names;
    }
    let model = model::build(&catalog, &folder.project).map_err(FolderError::Mistakes);
    if let Ok(model) = &model {
        remember(&mut catalog, model);
    }
    write(folder, &catalog).map_err(SurveyError::Folder)?;
    let proposals = found
        .proposals
        .into_iter()
        .filter(|proposal| {
            !folder.project.links.iter().any(|link| {
                (&link.table, &link.to) == (&proposal.table, &proposal.to) && link.columns == [proposal.column.clone()]
            })
        })
        .collect();
    let is_keyless = |proposal: &KeyProposal| {
        folder.project.types.get(&proposal.table).is_none_or(|edit| edit.key.is_empty() && !edit.hidden)
    };
    Ok(SurveyOutcome {
        keys: found.keys.into_iter().filter(is_keyless).collect(),
        renames,
        advice: advise(&catalog),
        changes: before.map(|before| compare(&before, &catalog)),
        catalog,
        model,
        proposals,
        notices: found.notices,
    })
}

/// What of a survey's proposals is to be taken.
#[derive(Debug, Default)]
pub struct Accepted<'p> {
    /// Links.
    pub links: Vec<&'p Proposal>,
    /// Keys.
    pub keys: Vec<&'p KeyProposal>,
    /// Renames.
    pub renames: Vec<&'p Rename>,
}

/// Writes links and keys into the project file, after what is there: nothing that somebody wrote is touched. What was renamed
/// gets the names that it had, in the survey file.
///
/// # Errors
/// Where a file cannot be read or written, or the project file would not fit the survey any more; it is then as it was.
pub fn accept(folder: &ProjectFolder, proposals: &Accepted<'_>) -> Result<(), FolderError> {
    let surveyed = folder.surveyed()?;
    if let (Some(mut catalog), false) = (surveyed.clone(), proposals.renames.is_empty()) {
        proposals.renames.iter().for_each(|rename| catalog.names.keep(rename));
        write(folder, &catalog)?;
    }
    if proposals.links.is_empty() && proposals.keys.is_empty() {
        return Ok(());
    }
    let file = folder.path.join(project::FILE);
    let failed = |what: &str, error: std::io::Error| {
        FolderError::Unreadable(format!("{} cannot be {what}: {error}", file.display()))
    };
    let before = std::fs::read_to_string(&file).map_err(|error| failed("read", error))?;
    let mut lines: Vec<String> = before.trim_end().lines().map(str::to_owned).collect();
    let mut added: Vec<String> = proposals.links.iter().map(|proposal| proposal.to_toml()).collect();
    // A table of which the file says something already gets its key there; from the end, so that no place moves.
    let mut keys: Vec<(&KeyProposal, Option<usize>)> = proposals
        .keys
        .iter()
        .map(|key| (*key, folder.project.types.get(&key.table).map(|edit| edit.place.line)))
        .collect();
    keys.sort_by_key(|(_, line)| std::cmp::Reverse(*line));
    for (key, line) in keys {
        match line.filter(|line| (1..=lines.len()).contains(line)) {
            Some(line) => lines.insert(line, key.line().trim_end().to_owned()),
            None => added.push(key.to_toml()),
        }
    }
    let mut text = lines.join("\n");
    for more in added {
        text.push_str(&format!("\n\n{}", more.trim_end()));
    }
    text.push('\n');
    let accepted = project::read(&text, &crate::environment::read).map_err(FolderError::Mistakes)?;
    if let Some(catalog) = surveyed {
        model::build(&catalog, &accepted).map_err(FolderError::Mistakes)?;
    }
    replace(&file, &text).map_err(|error| failed("written", error))
}

/// Keeps the names of tables that are gone, too: they may come back.
fn remember(catalog: &mut Catalog, model: &Model) {
    for (table, names) in &model.names.types {
        let kept = catalog.names.types.entry(table.clone()).or_default();
        kept.helpers.clone_from(&names.helpers);
        for (kept, name) in [(&mut kept.name, &names.name), (&mut kept.one, &names.one), (&mut kept.list, &names.list)]
        {
            // None is given by rule where the project file names it: what it was called before may come back.
            if !name.is_empty() {
                kept.clone_from(name);
            }
        }
        kept.fields.extend(names.fields.clone());
        kept.links.extend(names.links.clone());
    }
}

fn write(folder: &ProjectFolder, catalog: &Catalog) -> Result<(), FolderError> {
    let file = folder.survey_file();
    let failed =
        |error: std::io::Error| FolderError::Unreadable(format!("{} cannot be written: {error}", file.display()));
    if let Some(parent) = file.parent() {
        std::fs::create_dir_all(parent).map_err(failed)?;
    }
    replace(&file, &catalog.to_text()).map_err(failed)
}

/// Writes a file as a whole: whoever reads it meanwhile, and whatever interrupts us, finds the old one or the new one.
fn replace(file: &std::path::Path, text: &str) -> std::io::Result<()> {
    let mut draft = file.as_os_str().to_owned();
    draft.push(".draft");
    std::fs::write(&draft, text)?;
    std::fs::rename(&draft, file)
}

/// How the live source differs from the survey file.
///
/// # Errors
/// Where the source cannot be read.
pub fn check_drift(folder: &ProjectFolder, surveyed: &Catalog) -> Result<Vec<Drift>, puente_core::error::Problem> {
    let live = puente_sources::survey(&folder.project.source, &folder.path)?;
    Ok(compare(surveyed, &live.catalog))
}
