//! What surveys found, for whoever looks at it: tables, proposals with their evidence, advice, changes.

use puente_core::catalog::{Catalog, Column, Rename, Shape, Table, TableKind};
use puente_core::model::{Model, Proposal};
use puente_core::project::Edit;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::survey::{SourceOutcome, SurveyOutcome};
use crate::folder::{FolderError, ProjectFolder};

/// What is known of the sources.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct Surveyed {
    /// Each source with its tables.
    pub sources: Vec<SurveyedSource>,
    /// What the last survey of this service found beside; absent where it has not surveyed yet.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub found: Option<Found>,
}

/// A source with its tables.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct SurveyedSource {
    /// Its name.
    pub name: String,
    /// What kind of database it is.
    pub engine: String,
    /// Has it a survey file?
    pub surveyed: bool,
    /// Its tables and views, or collections.
    pub tables: Vec<SurveyedTable>,
}

/// A table, view or collection.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct SurveyedTable {
    /// Its name.
    pub name: String,
    /// Its type in the API; absent where it is hidden.
    #[serde(rename = "type", skip_serializing_if = "Option::is_none")]
    pub of: Option<String>,
    /// Is it a view?
    pub view: bool,
    /// About how many rows there are.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub about_rows: Option<u64>,
    /// How many columns it has.
    pub columns: usize,
    /// The columns of its primary key.
    pub primary_key: Vec<String>,
    /// Other unique keys.
    pub unique_keys: Vec<Vec<String>>,
    /// Its foreign keys.
    pub foreign_keys: Vec<SurveyedReference>,
}

/// A foreign key.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct SurveyedReference {
    /// The columns.
    pub columns: Vec<String>,
    /// The table referred to.
    pub table: String,
    /// Its columns.
    pub references: Vec<String>,
}

/// The columns of a table.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct SurveyedColumns {
    /// The columns, in the order of the table.
    pub columns: Vec<SurveyedColumn>,
    /// The columns of its indexes.
    pub indexes: Vec<Vec<String>>,
    /// The engine's comment on the table.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub comment: Option<String>,
}

/// A column.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct SurveyedColumn {
    /// Its name.
    pub name: String,
    /// Its type in the database.
    pub declared: String,
    /// The API's scalar for it.
    pub scalar: String,
    /// Is it a list of values?
    pub list: bool,
    /// Can it be null?
    pub nullable: bool,
    /// Why the scalar is not the one that the declared type suggests.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub notice: Option<String>,
    /// The engine's comment on it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub comment: Option<String>,
    /// What its JSON is made of.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub shape: Option<SurveyedShape>,
    /// How many values were looked at for that.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub samples: Option<u64>,
}

/// A part of JSON.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct SurveyedShape {
    /// The member's name; absent where it is a column's value.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// What it is, in words.
    pub what: String,
    /// In how many of a hundred of the objects around it it is.
    pub share: u8,
    /// Is it null in some?
    pub nullable: bool,
    /// Are values of several types there?
    pub mixed: bool,
    /// What is inside: of an object its members, of a list those of its items.
    #[schema(no_recursion)]
    pub members: Vec<SurveyedShape>,
}

/// What a survey found beside tables.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct Found {
    /// What it suggests and does not apply.
    pub proposals: Vec<ProposalSheet>,
    /// What may be what is gone, under a new name.
    pub renames: Vec<RenameSheet>,
    /// What could be better about the databases.
    pub advice: Vec<AdviceSheet>,
    /// What could not be surveyed.
    pub notices: Vec<SourceText>,
    /// What changed since the survey before; absent where there was none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub changes: Option<Vec<ChangeSheet>>,
}

/// A proposal, with what speaks for it.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct ProposalSheet {
    /// Is it a link, a key, or types for JSON?
    pub kind: ProposalKind,
    /// What it is about: `readings.hut_code`.
    pub about: String,
    /// What it would do, as a sentence.
    pub text: String,
    /// What in the names speaks for it.
    pub evidence: String,
    /// How many sampled values there were.
    pub sampled: u64,
    /// How many of them speak for it.
    pub found: u64,
    /// The lines that accepting it writes.
    pub toml: String,
    /// The edit that accepts it.
    pub edit: Edit,
}

/// Kinds of proposals.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) enum ProposalKind {
    /// A link.
    Link,
    /// A key.
    Key,
    /// Types for JSON.
    Shape,
}

/// What may be what is gone, under a new name.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "camelCase", deny_unknown_fields)]
pub(crate) struct RenameSheet {
    /// The source.
    pub source: String,
    /// What it is called now.
    pub now: String,
    /// What it may have been called before.
    pub before: String,
}

/// What could be better about a database.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct AdviceSheet {
    /// The source.
    pub source: String,
    /// The table, or its columns.
    pub place: String,
    /// What was seen, what follows, and the remedy.
    pub text: String,
    /// A statement that would mend it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub statement: Option<String>,
}

/// A sentence about a source.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct SourceText {
    /// The source.
    pub source: String,
    /// The sentence.
    pub text: String,
}

/// What changed in a source.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct ChangeSheet {
    /// The source.
    pub source: String,
    /// The table.
    pub table: String,
    /// What changed.
    pub text: String,
    /// Can requests fail for it?
    pub breaking: bool,
}

/// What is known of the sources of a project: their survey files, and what the last survey found.
///
/// # Errors
/// Where a survey file cannot be read.
pub(crate) fn surveyed(
    folder: &ProjectFolder,
    model: &Model,
    outcome: Option<&SurveyOutcome>,
) -> Result<Surveyed, FolderError> {
    let sources = folder.project.sources.iter().map(|source| {
        let catalog = folder.surveyed(source)?;
        let tables = catalog.iter().flat_map(|catalog| &catalog.tables);
        Ok(SurveyedSource {
            name: source.name.clone(),
            engine: engine_word(source.engine).to_owned(),
            surveyed: catalog.is_some(),
            tables: tables.map(|table| table_sheet(model, &source.name, table)).collect(),
        })
    });
    Ok(Surveyed { sources: sources.collect::<Result<_, _>>()?, found: outcome.map(|outcome| found(folder, outcome)) })
}

/// The name by which people know an engine.
pub(crate) fn engine_word(engine: puente_core::catalog::Engine) -> &'static str {
    use puente_core::catalog::Engine;
    match engine {
        Engine::Sqlite => "SQLite",
        Engine::Postgres => "PostgreSQL",
        Engine::Mariadb => "MariaDB",
        Engine::Mongodb => "MongoDB",
    }
}

fn table_sheet(model: &Model, source: &str, table: &Table) -> SurveyedTable {
    let is_it = |t: &&puente_core::model::Type| t.table == table.name && model.sources[t.source] == source;
    let t = model.tables().map(|(_, t)| t).find(is_it);
    SurveyedTable {
        name: table.name.clone(),
        of: t.map(|t| t.name.clone()),
        view: table.kind == TableKind::View,
        about_rows: table.about_rows,
        columns: table.columns.len(),
        primary_key: table.primary_key.clone(),
        unique_keys: table.unique_keys.clone(),
        foreign_keys: table
            .foreign_keys
            .iter()
            .map(|key| SurveyedReference {
                columns: key.columns.clone(),
                table: key.table.clone(),
                references: key.references.clone(),
            })
            .collect(),
    }
}

/// The columns of a table, if the source has it.
pub(crate) fn columns(catalog: &Catalog, table: &str) -> Option<SurveyedColumns> {
    let table = catalog.table(table)?;
    let columns = table.columns.iter().map(column_sheet).collect();
    Some(SurveyedColumns { columns, indexes: table.indexes.clone(), comment: table.comment.clone() })
}

fn column_sheet(column: &Column) -> SurveyedColumn {
    SurveyedColumn {
        name: column.name.clone(),
        declared: column.declared.clone(),
        scalar: column.scalar.name().to_owned(),
        list: column.list,
        nullable: column.nullable,
        notice: column.notice.clone(),
        comment: column.comment.clone(),
        shape: column.shape.as_ref().map(|found| shape_sheet(None, &found.shape)),
        samples: column.shape.as_ref().map(|found| found.samples),
    }
}

fn shape_sheet(name: Option<&str>, shape: &Shape) -> SurveyedShape {
    let inner = shape.items.as_deref().unwrap_or(shape);
    let members = inner.members.iter();
    SurveyedShape {
        name: name.map(str::to_owned),
        what: shape.describe(),
        share: shape.share,
        nullable: shape.nullable,
        mixed: !shape.types.is_empty(),
        members: members.map(|(name, member)| shape_sheet(Some(name), member)).collect(),
    }
}

fn found(folder: &ProjectFolder, outcome: &SurveyOutcome) -> Found {
    let each = |sheets: &dyn Fn(&SourceOutcome) -> Vec<ChangeSheet>| outcome.sources.iter().flat_map(sheets).collect();
    let changes = |of: &SourceOutcome| {
        let changes = of.changes.iter().flatten();
        let sheet = |change: &puente_core::catalog::Drift| ChangeSheet {
            source: of.name.clone(),
            table: change.table.clone(),
            text: change.text.clone(),
            breaking: change.breaking,
        };
        changes.map(sheet).collect()
    };
    let was_surveyed = outcome.sources.iter().any(|of| of.changes.is_some());
    let advice = outcome.sources.iter().flat_map(|of| {
        of.advice.iter().map(|advice| AdviceSheet {
            source: of.name.clone(),
            place: advice.place.clone(),
            text: advice.text.clone(),
            statement: advice.statement.clone(),
        })
    });
    let notices = outcome
        .sources
        .iter()
        .flat_map(|of| of.notices.iter().map(|text| SourceText { source: of.name.clone(), text: text.clone() }));
    Found {
        proposals: proposals(folder, outcome),
        renames: outcome.renames().map(|(source, rename)| rename_sheet(source, rename)).collect(),
        advice: advice.collect(),
        notices: notices.collect(),
        changes: was_surveyed.then(|| each(&changes)),
    }
}

/// A rename, as it is told and taken.
pub(crate) fn rename_sheet(source: &str, rename: &Rename) -> RenameSheet {
    RenameSheet { source: source.to_owned(), now: rename.now(), before: rename.before() }
}

/// What the project file does not have yet of what was proposed.
fn proposals(folder: &ProjectFolder, outcome: &SurveyOutcome) -> Vec<ProposalSheet> {
    let links = outcome.proposals.iter().map(link_proposal);
    let keys = outcome.keys.iter().map(|key| ProposalSheet {
        kind: ProposalKind::Key,
        about: key.table.clone(),
        text: format!("rows of {} are told apart by {}", key.table, key.columns.join(" and ")),
        evidence: "the table promises no key".to_owned(),
        sampled: key.rows,
        found: key.rows,
        toml: key.to_toml(),
        edit: key.edit(),
    });
    let shapes = outcome.shapes.iter().map(|shape| {
        let unreadable = shape.found.samples * u64::from(shape.found.unreadable) / 100;
        ProposalSheet {
            kind: ProposalKind::Shape,
            about: format!("{}.{}", shape.table, shape.column),
            text: format!("the JSON in {}.{} gets types", shape.table, shape.column),
            evidence: format!("its values are of one kind: {}", shape.found.shape.describe()),
            sampled: shape.found.samples,
            found: shape.found.samples - unreadable,
            toml: shape.to_toml(),
            edit: shape.edit(),
        }
    });
    let text = folder.text().unwrap_or_default();
    // What was taken since changes nothing any more.
    let is_open =
        |proposal: &ProposalSheet| puente_core::project::apply(&text, &proposal.edit).is_ok_and(|after| after != text);
    links.chain(keys).chain(shapes).filter(is_open).collect()
}

fn link_proposal(proposal: &Proposal) -> ProposalSheet {
    let (sampled, found) = proposal.sampled.unwrap_or_default();
    ProposalSheet {
        kind: ProposalKind::Link,
        about: format!("{}.{}", proposal.table, proposal.column),
        text: format!("{}.{} refers to {}.{}", proposal.table, proposal.column, proposal.to, proposal.references),
        evidence: proposal.evidence.clone(),
        sampled,
        found,
        toml: proposal.to_toml(),
        edit: proposal.edit(),
    }
}
