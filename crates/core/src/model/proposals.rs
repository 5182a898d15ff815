//! Proposals: links that no foreign key declares but names, types and values suggest. Nothing proposed is applied.

use super::candidates::Speaks;
use super::names;
use crate::catalog::{Catalog, Column, ColumnShape, Table};
use crate::project::{Edit, FieldSetting, LinkText, TypeSetting};

/// A link that the survey suggests.
#[derive(Debug, Clone, PartialEq)]
pub struct Proposal {
    /// The referencing table.
    pub table: String,
    /// The referencing column.
    pub column: String,
    /// The referenced table.
    pub to: String,
    /// The referenced column: a key by itself.
    pub references: String,
    /// The names of their sources, where the project has several: a table is called with its source's name then, so that no later
    /// source makes another one of it.
    pub sources: Option<(String, String)>,
    /// What in the names suggests it.
    pub evidence: String,
    /// What speaks for it before any value is looked at.
    pub speaks: Speaks,
    /// How many distinct sampled values there were, and how many of them exist on the other side. Without values nothing but
    /// the names speaks for it.
    pub sampled: Option<(u64, u64)>,
    /// How many keys there are on the other side, counted up to some bound.
    pub keys: u64,
}

impl Proposal {
    /// What taking it changes in the project file.
    pub fn edit(&self) -> Edit {
        let (table, to) = self.tables();
        let (columns, references) = (vec![self.column.clone()], vec![self.references.clone()]);
        Edit::AddLink { link: LinkText { table, columns, to, references, ..LinkText::default() } }
    }

    /// What the project file calls its tables.
    fn tables(&self) -> (String, String) {
        match &self.sources {
            Some((source, to_source)) => (in_source(source, &self.table), in_source(to_source, &self.to)),
            None => (self.table.clone(), self.to.clone()),
        }
    }

    /// The lines to paste into the project file.
    pub fn to_toml(&self) -> String {
        let (table, to) = self.tables();
        format!(
            "[[link]]\ntable = {table:?}\ncolumns = [{:?}]\nto = {to:?}\nreferences = [{:?}]\n",
            self.column, self.references
        )
    }
}

/// A key that the survey suggests for a table or view that has none.
#[derive(Debug, Clone, PartialEq)]
pub struct KeyProposal {
    /// The table or view.
    pub table: String,
    /// The name of its source, where the project has several.
    pub source: Option<String>,
    /// The columns.
    pub columns: Vec<String>,
    /// How many rows were sampled, no two of which agree in them.
    pub rows: u64,
}

impl KeyProposal {
    /// The lines to paste into the project file, where it says nothing of the table yet.
    pub fn to_toml(&self) -> String {
        format!("[[type]]\ntable = {:?}\n{}", self.table_name(), self.line())
    }

    /// What the project file calls the table.
    fn table_name(&self) -> String {
        self.source.as_ref().map_or_else(|| self.table.clone(), |source| in_source(source, &self.table))
    }

    /// What taking it changes in the project file.
    pub fn edit(&self) -> Edit {
        Edit::SetType { table: self.table_name(), setting: TypeSetting::Key(self.columns.clone()) }
    }

    /// The line that says the key.
    pub fn line(&self) -> String {
        format!("key = {:?}\n", self.columns)
    }
}

/// Types that the survey suggests for what a JSON column holds.
#[derive(Debug, Clone, PartialEq)]
pub struct ShapeProposal {
    /// The table.
    pub table: String,
    /// The name of its source, where the project has several.
    pub source: Option<String>,
    /// The column.
    pub column: String,
    /// What was found in its values.
    pub found: ColumnShape,
}

impl ShapeProposal {
    /// The lines to paste into the project file, where it says nothing of the table yet.
    pub fn to_toml(&self) -> String {
        let column = toml_key(&self.column);
        format!("[[type]]\ntable = {:?}\n[type.fields.{column}]\nshape = true\n", self.table_name())
    }

    /// What taking it changes in the project file.
    pub fn edit(&self) -> Edit {
        let setting = FieldSetting::Shape(true);
        Edit::SetField { table: self.table_name(), column: self.column.clone(), member: None, setting }
    }

    /// What the project file calls the table.
    pub fn table_name(&self) -> String {
        self.source.as_ref().map_or_else(|| self.table.clone(), |source| in_source(source, &self.table))
    }
}

/// A key of TOML: bare where that is allowed.
fn toml_key(name: &str) -> String {
    let is_bare = !name.is_empty() && name.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '_' | '-'));
    if is_bare { name.to_owned() } else { format!("{name:?}") }
}

/// JSON columns whose values are worth types: objects and lists, of which nearly all are JSON.
pub fn shaped(catalog: &Catalog) -> impl Iterator<Item = (&Table, &Column, &ColumnShape)> {
    let columns = catalog.tables.iter().flat_map(|table| table.columns.iter().map(move |column| (table, column)));
    let found = columns.filter_map(|(table, column)| Some((table, column, column.shape.as_ref()?)));
    found.filter(|(_, _, found)| found.shape.is_structured())
}

/// What the project file calls a table of one of several sources.
fn in_source(source: &str, table: &str) -> String {
    if table.starts_with(&format!("{source}:")) { table.to_owned() } else { format!("{source}:{table}") }
}

/// Tables and views without a key, each with the columns that could be one, the likely ones first.
pub fn keyless(catalog: &Catalog) -> Vec<(&Table, Vec<&Column>)> {
    let tables = catalog.tables.iter().filter(|table| table.keys().next().is_none());
    tables
        .map(|table| {
            let mut columns: Vec<&Column> =
                table.columns.iter().filter(|column| column.scalar.is_comparable() && !column.list).collect();
            columns.sort_by_key(|column| !is_called_as_a_key(column));
            (table, columns)
        })
        .filter(|(_, columns)| !columns.is_empty())
        .collect()
}

fn is_called_as_a_key(column: &Column) -> bool {
    let words = names::words(&column.name, names::COLUMN);
    words
        .last()
        .is_some_and(|word| ["id", "uid", "uuid", "code", "key", "no", "number"].iter().any(|end| word.ends_with(end)))
}
