//! Surveying sources, and taking what a survey proposes.

use std::path::PathBuf;

use puente_core::catalog::{self, Advice, AssignedNames, Catalog, Drift, Rename, advise, compare};
use puente_core::error::Problem;
use puente_core::model::{
    self, CrossingCandidate, KeyProposal, Model, Proposal, ShapeProposal, SourceId, crossing_candidates, shaped,
};
use puente_core::project::{Edit, Project, SourceSettings, names_table};

use super::edit::with_edits;
use super::evidence;
use crate::folder::{FolderError, ProjectFolder};
use puente_run::SurveyWatch;

/// What a survey found and changed.
#[derive(Debug)]
pub struct SurveyOutcome {
    /// What was found in each source that was surveyed.
    pub sources: Vec<SourceOutcome>,
    /// The model that the surveys give, if the project file fits them.
    pub model: Result<Model, FolderError>,
    /// Links that are suggested and that the project file does not have yet. Tables are called as the project file calls them.
    pub proposals: Vec<Proposal>,
    /// Keys that are suggested and that the project file does not have yet.
    pub keys: Vec<KeyProposal>,
    /// Types that are suggested for JSON columns and that the project file does not want yet.
    pub shapes: Vec<ShapeProposal>,
    /// Had one source a survey before, and have several now? Root lists are nullable from now on.
    pub became_several: bool,
}

/// What a survey found in one source.
#[derive(Debug)]
pub struct SourceOutcome {
    /// Its name.
    pub name: String,
    /// Its survey file.
    pub file: PathBuf,
    /// The catalog as it was written.
    pub catalog: Catalog,
    /// What may be what is gone, under a new name.
    pub renames: Vec<Rename>,
    /// What could be better about the tables.
    pub advice: Vec<Advice>,
    /// What could not be surveyed.
    pub notices: Vec<String>,
    /// What changed since the last survey; none where there was none.
    pub changes: Option<Vec<Drift>>,
}

impl SurveyOutcome {
    /// Every rename that is still to be decided about, with its source's name.
    pub fn renames(&self) -> impl Iterator<Item = (&str, &Rename)> {
        self.sources.iter().flat_map(|of| of.renames.iter().map(|rename| (of.name.as_str(), rename)))
    }
}

/// Why a survey failed.
#[derive(Debug)]
pub enum SurveyError {
    /// A source could not be read.
    Source(Problem),
    /// A survey file could not be read or written.
    Folder(FolderError),
}

/// Surveys the sources, or one of them, and writes their survey files. Names given earlier are kept.
///
/// # Errors
/// [`SurveyError`]; the old survey files are then as they were.
pub fn survey(folder: &ProjectFolder, only: Option<&str>) -> Result<SurveyOutcome, SurveyError> {
    survey_watched(folder, (only, false), &SurveyWatch::default())
}

/// The same as if there had been no survey before, but for the names: what samples showed once and do not show any more is gone.
///
/// # Errors
/// As for [`survey`].
pub fn survey_afresh(folder: &ProjectFolder, only: Option<&str>) -> Result<SurveyOutcome, SurveyError> {
    survey_watched(folder, (only, true), &SurveyWatch::default())
}

/// The same, while somebody watches.
///
/// # Errors
/// [`SurveyError`]; the old survey files are then as they were, also where it was stopped.
pub(crate) fn survey_watched(
    folder: &ProjectFolder,
    (only, afresh): (Option<&str>, bool),
    watch: &SurveyWatch,
) -> Result<SurveyOutcome, SurveyError> {
    let project = &folder.project;
    let (mut catalogs, mut sources) = (Vec::new(), Vec::new());
    let (mut proposals, mut keys) = (Vec::new(), Vec::new());
    let mut surveyed_before = 0;
    for (id, source) in project.sources.iter().enumerate() {
        let before = folder.surveyed(source).map_err(SurveyError::Folder)?;
        surveyed_before += usize::from(before.is_some());
        if only.is_some_and(|only| only != source.name) {
            catalogs.push(before);
            continue;
        }
        let found = puente_sources::survey_watched(source, &folder.path, watch).map_err(|problem| {
            SurveyError::Source(if project.sources.len() > 1 { problem.of_source(&source.name) } else { problem })
        })?;
        let mut catalog = match &before {
            Some(before) if !afresh => found.catalog.widened(before),
            _ => found.catalog,
        };
        let mut renames = Vec::new();
        if let Some(before) = &before {
            let mut names = before.names.clone();
            renames = names.open_renames(catalog::renames(before, &catalog), &catalog);
            catalog.names = names;
        }
        proposals.extend(found.proposals.into_iter().map(|proposal| (id, id, proposal)));
        keys.extend(found.keys.into_iter().map(|key| (id, key)));
        sources.push((id, renames, before, found.notices));
        catalogs.push(Some(catalog));
    }
    let model = modelled(folder, &mut catalogs);
    for (source, catalog) in project.sources.iter().zip(&catalogs) {
        if let Some(catalog) = catalog {
            write(folder, source, catalog).map_err(SurveyError::Folder)?;
        }
    }
    let known: Vec<&Catalog> = catalogs.iter().flatten().collect();
    if model.is_ok() && known.len() > 1 {
        let candidates = crossing_candidates(&known).into_iter().filter(|candidate| {
            let CrossingCandidate { source, to_source, proposal } = candidate;
            !is_written(project, &known, (*source, *to_source, proposal))
        });
        let convincing = evidence::convincing(folder, candidates.collect()).into_iter();
        proposals.extend(convincing.map(|candidate| (candidate.source, candidate.to_source, candidate.proposal)));
    }
    let named = |source: SourceId| (project.sources.len() > 1).then(|| project.sources[source].name.clone());
    let called = |source: SourceId, table: String| table_called(project, &known, source, &table);
    let proposals = proposals
        .into_iter()
        .filter(|(source, to, proposal)| !is_written(project, &known, (*source, *to, proposal)))
        .map(|(source, to, proposal)| Proposal {
            table: called(source, proposal.table),
            to: called(to, proposal.to),
            sources: named(source).zip(named(to)),
            ..proposal
        })
        .collect();
    let edit = |table: &String| project.types.iter().find(|(name, _)| names_table(name, table)).map(|(_, edit)| edit);
    let keys = keys
        .into_iter()
        .map(|(source, key)| KeyProposal { table: called(source, key.table), source: named(source), ..key })
        .filter(|key| edit(&key.table).is_none_or(|edit| edit.key.is_empty() && !edit.hidden))
        .collect();
    let wants_shape = |table: &String, column: &str| {
        let fields = edit(table).and_then(|edit| edit.fields.get(column));
        fields.is_some_and(|field| field.shape || field.hidden || field.scalar.is_some())
    };
    let mut shapes = Vec::new();
    for (id, ..) in &sources {
        // What documents hold has types without being asked.
        let catalog = catalogs[*id].iter().filter(|catalog| !catalog.engine.holds_documents());
        for (table, column, found) in catalog.flat_map(shaped) {
            let table = called(*id, table.name.clone());
            if !wants_shape(&table, &column.name) {
                let (column, found) = (column.name.clone(), found.clone());
                shapes.push(ShapeProposal { table, source: named(*id), column, found });
            }
        }
    }
    let of_names = |id: SourceId| {
        let told = model.iter().flat_map(|model| &model.notices);
        told.filter(move |(source, _)| *source == id).map(|(_, text)| text.clone()).collect::<Vec<_>>()
    };
    let outcome = |(id, renames, before, notices): (SourceId, Vec<Rename>, Option<Catalog>, Vec<String>)| {
        let source = &project.sources[id];
        let catalog = catalogs[id].clone().unwrap_or_else(|| Catalog::empty(source.engine));
        SourceOutcome {
            name: source.name.clone(),
            file: folder.survey_file(source),
            renames,
            advice: advise(&catalog),
            changes: before.map(|before| compare(&before, &catalog)),
            catalog,
            notices: notices.into_iter().chain(of_names(id)).collect(),
        }
    };
    let sources = sources.into_iter().map(outcome).collect();
    let became_several = surveyed_before == 1 && known.len() > 1;
    Ok(SurveyOutcome { sources, model, proposals, keys, shapes, became_several })
}

/// The model of what was surveyed, whose names are remembered there; a source that was never surveyed has none.
fn modelled(folder: &ProjectFolder, catalogs: &mut [Option<Catalog>]) -> Result<Model, FolderError> {
    let sources = folder.project.sources.iter();
    let known = catalogs.iter().zip(sources).map(|(catalog, source)| catalog.as_ref().ok_or(folder.no_survey(source)));
    let known: Vec<&Catalog> = known.collect::<Result<_, _>>()?;
    let model = model::build(&known, &folder.project).map_err(FolderError::Mistakes)?;
    for (catalog, names) in catalogs.iter_mut().flatten().zip(&model.names) {
        remember(catalog, names);
    }
    Ok(model)
}

/// What the project file calls a table: by its own name, and where several sources have one of that name, with the source's before
/// it.
pub(crate) fn table_called(project: &Project, catalogs: &[&Catalog], source: SourceId, table: &str) -> String {
    let is_one_of_several = catalogs.iter().filter(|catalog| catalog.table(table).is_some()).count() > 1;
    if is_one_of_several { format!("{}:{table}", project.sources[source].name) } else { table.to_owned() }
}

/// Does the project file have a link already?
fn is_written(
    project: &Project,
    catalogs: &[&Catalog],
    (source, to, proposal): (SourceId, SourceId, &Proposal),
) -> bool {
    let table = table_called(project, catalogs, source, &proposal.table);
    let target = table_called(project, catalogs, to, &proposal.to);
    project.links.iter().any(|link| {
        names_table(&link.table, &table) && names_table(&link.to, &target) && link.columns == [proposal.column.clone()]
    })
}

/// What of a survey's proposals is to be taken.
#[derive(Debug, Default)]
pub struct Accepted<'p> {
    /// Links.
    pub links: Vec<&'p Proposal>,
    /// Keys.
    pub keys: Vec<&'p KeyProposal>,
    /// Types for JSON columns.
    pub shapes: Vec<&'p ShapeProposal>,
    /// Renames, each with its source's name.
    pub renames: Vec<(&'p str, &'p Rename)>,
}

impl Accepted<'_> {
    /// What is to be written into the project file.
    fn edits(&self) -> Vec<Edit> {
        let links = self.links.iter().map(|proposal| proposal.edit());
        let keys = self.keys.iter().map(|key| key.edit());
        let shapes = self.shapes.iter().map(|shape| shape.edit());
        links.chain(keys).chain(shapes).collect()
    }
}

/// Writes links and keys into the project file, after what is there: nothing that somebody wrote is touched. What was renamed
/// gets the names that it had, in the survey file.
///
/// # Errors
/// Where a file cannot be read or written, or the project file would not fit the survey any more; it is then as it was.
pub fn accept(folder: &ProjectFolder, proposals: &Accepted<'_>) -> Result<(), FolderError> {
    let mut catalogs = folder.catalogs()?;
    for (of, rename) in &proposals.renames {
        for (source, catalog) in folder.project.sources.iter().zip(&mut catalogs) {
            if source.name == *of {
                catalog.names.keep(rename);
            } else {
                catalog.names.keep_links_to(of, rename);
            }
            write(folder, source, catalog)?;
        }
    }
    if proposals.links.is_empty() && proposals.keys.is_empty() && proposals.shapes.is_empty() {
        return Ok(());
    }
    let before = folder.text()?;
    let text = with_edits(&before, &proposals.edits(), &|_| None).map_err(|error| FolderError::Unreadable(error.0))?;
    let known = crate::environment::of_project(&folder.path);
    let (accepted, _) = crate::folder::read_project(&folder.path, text.clone(), &known)?;
    model::build(&catalogs.iter().collect::<Vec<_>>(), &accepted).map_err(FolderError::Mistakes)?;
    folder.write(&text)
}

/// Keeps the names of tables that are gone, too: they may come back.
fn remember(catalog: &mut Catalog, names: &AssignedNames) {
    for (table, names) in &names.types {
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
        kept.members.extend(names.members.clone());
        kept.shapes.extend(names.shapes.clone());
    }
}

fn write(folder: &ProjectFolder, source: &SourceSettings, catalog: &Catalog) -> Result<(), FolderError> {
    let (file, text) = (folder.survey_file(source), catalog.to_text());
    if std::fs::read_to_string(&file).is_ok_and(|before| before == text) {
        return Ok(());
    }
    let failed =
        |error: std::io::Error| FolderError::Unreadable(format!("{} cannot be written: {error}", file.display()));
    if let Some(parent) = file.parent() {
        std::fs::create_dir_all(parent).map_err(failed)?;
    }
    crate::folder::replace(&file, &text).map_err(failed)
}
