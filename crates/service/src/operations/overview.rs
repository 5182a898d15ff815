//! The model as a whole: its types, how they hang together, and what was left out of it.

use puente_core::catalog::{Catalog, Table, TableKind};
use puente_core::model::{Cardinality, Model, Type};
use serde::Serialize;
use utoipa::ToSchema;

use super::survey::table_called;
use crate::folder::{FolderError, ProjectFolder};

/// The model as a whole.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct ModelOverview {
    /// Changes whenever anything changes that could change an answer.
    pub version: String,
    /// The names of the sources.
    pub sources: Vec<String>,
    /// The types of tables and collections.
    pub types: Vec<TypeOverview>,
    /// Tables and collections that have no type.
    pub hidden: Vec<HiddenTable>,
}

/// A type of the model.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct TypeOverview {
    /// Its name.
    pub name: String,
    /// The source of its rows.
    pub source: String,
    /// The table, as the project file calls it.
    pub table: String,
    /// Is it a view, or a table?
    pub view: bool,
    /// About how many rows there are.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub about_rows: Option<u64>,
    /// What it is.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub description: Option<String>,
    /// The field that lists many.
    pub list: String,
    /// Its fields: those of columns.
    pub fields: Vec<String>,
    /// Columns that have no field.
    pub hidden_columns: usize,
    /// Its links.
    pub links: Vec<LinkOverview>,
    /// Can its rows be written?
    pub writable: bool,
}

/// A link of a type.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct LinkOverview {
    /// The field.
    pub field: String,
    /// The type at its other end.
    pub target: String,
    /// Any number, or at most one?
    pub many: bool,
    /// The type of the table between, for a link from many to many.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub through: Option<String>,
    /// Does it lead to another source?
    pub crosses: bool,
}

/// A table that has no type.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct HiddenTable {
    /// The source.
    pub source: String,
    /// The table, as the project file calls it.
    pub table: String,
}

/// The model of a project with its catalogs.
pub(crate) struct Described<'p> {
    pub(crate) folder: &'p ProjectFolder,
    pub(crate) catalogs: Vec<Catalog>,
}

impl<'p> Described<'p> {
    pub(crate) fn of(folder: &'p ProjectFolder) -> Result<Self, FolderError> {
        Ok(Described { folder, catalogs: folder.catalogs()? })
    }

    /// The table of a type.
    pub(crate) fn table(&self, t: &Type) -> Option<&Table> {
        self.catalogs.get(t.source)?.table(&t.table)
    }

    /// What the project file calls a table.
    pub(crate) fn called(&self, source: usize, table: &str) -> String {
        table_called(&self.folder.project, &self.catalogs.iter().collect::<Vec<_>>(), source, table)
    }
}

/// The model as a whole.
///
/// # Errors
/// Where a survey file cannot be read.
pub(crate) fn overview(folder: &ProjectFolder, model: &Model) -> Result<ModelOverview, FolderError> {
    let described = Described::of(folder)?;
    let types = model.tables().map(|(_, t)| type_overview(&described, model, t)).collect();
    let tables = described.catalogs.iter().enumerate();
    let tables = tables.flat_map(|(source, catalog)| catalog.tables.iter().map(move |table| (source, table)));
    let is_hidden =
        |(source, table): &(usize, &Table)| !model.tables().any(|(_, t)| t.source == *source && t.table == table.name);
    let hidden = tables.filter(is_hidden).map(|(source, table)| HiddenTable {
        source: model.sources[source].clone(),
        table: described.called(source, &table.name),
    });
    let hidden = hidden.collect();
    Ok(ModelOverview { version: model.version.clone(), sources: model.sources.clone(), types, hidden })
}

fn type_overview(described: &Described<'_>, model: &Model, t: &Type) -> TypeOverview {
    let table = described.table(t);
    let own = t.columns.iter().filter(|column| column.member.is_none());
    TypeOverview {
        name: t.name.clone(),
        source: model.sources[t.source].clone(),
        table: described.called(t.source, &t.table),
        view: table.is_some_and(|table| table.kind == TableKind::View),
        about_rows: table.and_then(|table| table.about_rows),
        description: t.description.clone(),
        list: t.list.clone(),
        fields: own.clone().filter_map(|column| column.field.clone()).collect(),
        hidden_columns: own.filter(|column| column.field.is_none()).count(),
        links: t.links.iter().map(|link| link_overview(model, link)).collect(),
        writable: t.writable,
    }
}

fn link_overview(model: &Model, link: &puente_core::model::Link) -> LinkOverview {
    LinkOverview {
        field: link.field.clone(),
        target: model.types[link.target].name.clone(),
        many: link.cardinality == Cardinality::Many,
        through: link.through.as_ref().map(|through| model.types[through.join].name.clone()),
        crosses: link.crosses,
    }
}
