//! What the command line does beside asking, and what the console will share: surveying and comparing.

use std::path::PathBuf;

use puente_core::catalog::{self, Advice, AssignedNames, Catalog, Drift, Rename, advise, compare};
use puente_core::error::Problem;
use puente_core::model::{
    self, CrossingCandidate, KeyProposal, Model, Proposal, ShapeProposal, SourceId, crossing_candidates, shaped,
};
use puente_core::project::{self, Project, SourceSettings};

use crate::evidence;
use crate::folder::{FolderError, ProjectFolder};

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
        let found = puente_sources::survey(source, &folder.path).map_err(|problem| {
            SurveyError::Source(if project.sources.len() > 1 { problem.of_source(&source.name) } else { problem })
        })?;
        let mut catalog = found.catalog;
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
            notices,
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
fn table_called(project: &Project, catalogs: &[&Catalog], source: SourceId, table: &str) -> String {
    let is_one_of_several = catalogs.iter().filter(|catalog| catalog.table(table).is_some()).count() > 1;
    if is_one_of_several { format!("{}:{table}", project.sources[source].name) } else { table.to_owned() }
}

/// Does a name in the project file, perhaps with its source's before it, mean the table that is called so?
fn names_table(name: &str, called: &str) -> bool {
    name == called || name.split_once(':').is_some_and(|(_, table)| table == called)
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
        .map(|key| {
            let mut edits = folder.project.types.iter().filter(|(name, _)| names_table(name, &key.table));
            (*key, edits.next().map(|(_, edit)| edit.place.line))
        })
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
    for shape in &proposals.shapes {
        let is_table = |name: &str| names_table(name, &shape.table) || name == shape.table_name();
        text = project::with_shape(&text, is_table, &shape.table_name(), &shape.column)
            .map_err(|error| FolderError::Unreadable(format!("{} cannot be changed: {error}", file.display())))?;
    }
    let accepted = project::read(&text, &crate::environment::read).map_err(FolderError::Mistakes)?;
    model::build(&catalogs.iter().collect::<Vec<_>>(), &accepted).map_err(FolderError::Mistakes)?;
    replace(&file, &text).map_err(|error| failed("written", error))
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
    replace(&file, &text).map_err(failed)
}

/// Writes a file as a whole: whoever reads it meanwhile, and whatever interrupts us, finds the old one or the new one.
fn replace(file: &std::path::Path, text: &str) -> std::io::Result<()> {
    let mut draft = file.as_os_str().to_owned();
    draft.push(".draft");
    std::fs::write(&draft, text)?;
    std::fs::rename(&draft, file)
}

/// How a live source differs from its survey file.
///
/// # Errors
/// Where the source cannot be read.
pub fn check_drift(folder: &ProjectFolder, source: &SourceSettings, surveyed: &Catalog) -> Result<Vec<Drift>, Problem> {
    let live = puente_sources::survey(source, &folder.path)?;
    Ok(compare(surveyed, &live.catalog))
}
