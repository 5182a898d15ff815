//! Proposals: links that no foreign key declares but names, types and values suggest. Nothing proposed is applied.

use std::collections::HashMap;

use super::{SourceId, names};
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
    /// How many distinct sampled values there were, and how many of them exist on the other side. Without values nothing but
    /// the names speaks for it.
    pub sampled: Option<(u64, u64)>,
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
    let words = names::words(&column.name);
    words
        .last()
        .is_some_and(|word| ["id", "uid", "uuid", "code", "key", "no", "number"].iter().any(|end| word.ends_with(end)))
}

/// Columns that look like references by their name and type, before any value was looked at: `hut_code`, or
/// `first_hut_code`, where `huts` has a key `code` of the same type.
pub fn candidates(catalog: &Catalog) -> Vec<Proposal> {
    let called = called(catalog);
    let same_type = |own: &Column, key: &Column| own.scalar == key.scalar;
    let found = referring(catalog).map(|(table, column)| {
        let targets = targets(&called, (table, column), same_type);
        targets.map(|(target, key)| proposal(table, column, target, key)).collect::<Vec<_>>()
    });
    found.flatten().collect()
}

/// A link between two sources that the survey might suggest.
#[derive(Debug, Clone, PartialEq)]
pub struct CrossingCandidate {
    /// The source of the referencing table.
    pub source: SourceId,
    /// The source of the referenced one.
    pub to_source: SourceId,
    /// The link; its tables are called as in their sources.
    pub proposal: Proposal,
}

/// The same between tables of different sources: their types need not be one, as long as values of one can be values of the other.
pub fn crossing_candidates(catalogs: &[&Catalog]) -> Vec<CrossingCandidate> {
    let called: Vec<_> = catalogs.iter().map(|catalog| called(catalog)).collect();
    let fits = |own: &Column, key: &Column| {
        let is_plain = |column: &Column| !column.list && column.values.is_empty();
        own.scalar.converts_to(key.scalar) && is_plain(own) && is_plain(key)
    };
    let mut found = Vec::new();
    for (source, catalog) in catalogs.iter().enumerate() {
        for (table, column) in referring(catalog) {
            for (to_source, called) in called.iter().enumerate().filter(|(other, _)| *other != source) {
                found.extend(targets(called, (table, column), fits).map(|(target, key)| CrossingCandidate {
                    source,
                    to_source,
                    proposal: proposal(table, column, target, key),
                }));
            }
        }
    }
    found
}

/// What a reference to a key is called, and the keys that are referred to so.
type Called<'c> = HashMap<String, Vec<(&'c Table, &'c String)>>;

/// What a reference to each single-column key would be called: `HutCode`; a key that has its table's name in its own, such as
/// `client_id` of `clients`, is referred to by that.
fn called(catalog: &Catalog) -> Called<'_> {
    let mut called = Called::new();
    for target in &catalog.tables {
        let name = names::pascal(&names::one_name(&names::table_words(target)));
        for key in target.keys().filter_map(|key| if let [only] = key { Some(only) } else { None }) {
            let own = names::pascal(&names::field_name(key));
            let reference = if own.len() > name.len() && own.starts_with(&name) { own } else { name.clone() + &own };
            called.entry(reference).or_default().push((target, key));
        }
    }
    called
}

/// The columns that may refer to something, and of which nothing says so.
fn referring(catalog: &Catalog) -> impl Iterator<Item = (&Table, &Column)> {
    let columns = catalog.tables.iter().flat_map(|table| table.columns.iter().map(move |column| (table, column)));
    columns.filter(|(table, column)| {
        let declared = table.foreign_keys.iter().any(|key| key.columns.contains(&column.name));
        !declared && table.primary_key != [column.name.clone()]
    })
}

/// The keys that a column's name, or the words at its end, stand for.
fn targets<'c>(
    called: &Called<'c>,
    (table, column): (&'c Table, &'c Column),
    fits: impl Fn(&Column, &Column) -> bool,
) -> impl Iterator<Item = (&'c Table, &'c String)> {
    let name = names::pascal(&names::field_name(&column.name));
    let words = name.char_indices().filter(|(_, c)| c.is_ascii_uppercase()).map(|(at, _)| at).collect::<Vec<_>>();
    let mut found: Vec<(&Table, &String)> = Vec::new();
    for at in words {
        for (target, key) in called.get(&name[at..]).into_iter().flatten() {
            let is_itself = std::ptr::eq(table, *target) && column.name == **key;
            let fits = target.column(key).is_some_and(|key| fits(column, key));
            // A table has one key that a name stands for.
            if fits && !is_itself && !found.iter().any(|(known, _)| known.name == target.name) {
                found.push((target, key));
            }
        }
    }
    found.into_iter()
}

fn proposal(table: &Table, column: &Column, target: &Table, key: &str) -> Proposal {
    Proposal {
        table: table.name.clone(),
        column: column.name.clone(),
        to: target.name.clone(),
        references: key.to_owned(),
        sources: None,
        evidence: {
            let kind = target.column(key).map_or(column.scalar, |key| key.scalar);
            let kinds = match kind == column.scalar {
                true => format!("both are {}", kind.name()),
                false => format!("they are {} and {}", column.scalar.name(), kind.name()),
            };
            format!("`{}` reads as the `{key}` of `{}`, and {kinds}", column.name, target.name)
        },
        sampled: None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_key_named_after_its_table_is_referred_to_by_its_name() {
        let text = include_str!("../../tests/data/huts.json").replace("\"about\"", "\"hut_code\"");
        let mut catalog = Catalog::from_text(&text).unwrap();
        let scalar = crate::value::Scalar::String;
        catalog.tables.iter_mut().find(|t| t.name == "notes").unwrap().columns[0].scalar = scalar;
        let huts = catalog.tables.iter_mut().find(|t| t.name == "huts").unwrap();
        huts.columns.iter_mut().find(|column| column.name == "code").unwrap().name = "hut_code".to_owned();
        huts.unique_keys = vec![vec!["hut_code".to_owned()]];
        let found = candidates(&catalog);
        assert_eq!(found.len(), 1, "{found:?}");
        assert_eq!((found[0].table.as_str(), found[0].references.as_str()), ("notes", "hut_code"));
    }

    #[test]
    fn a_column_named_after_a_key_is_a_candidate() {
        let text = include_str!("../../tests/data/huts.json").replace("\"about\"", "\"hut_code\"");
        let mut catalog = Catalog::from_text(&text).unwrap();
        let notes = catalog.tables.iter_mut().find(|t| t.name == "notes").unwrap();
        notes.columns[0].scalar = crate::value::Scalar::String;
        let found = candidates(&catalog);
        assert_eq!(found.len(), 1, "{found:?}");
        assert_eq!((found[0].to.as_str(), found[0].references.as_str()), ("huts", "code"));
        assert!(found[0].to_toml().contains("columns = [\"hut_code\"]"));
    }
}
