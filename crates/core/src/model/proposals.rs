//! Proposals: links that no foreign key declares but names, types and values suggest. Nothing proposed is applied.

use super::names;
use crate::catalog::{Catalog, Table};

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
    /// What in the names suggests it.
    pub evidence: String,
    /// How many distinct sampled values there were, and how many of them exist on the other side.
    pub sampled: Option<(u64, u64)>,
}

impl Proposal {
    /// The lines to paste into the project file.
    pub fn to_toml(&self) -> String {
        format!(
            "[[link]]\ntable = {:?}\ncolumns = [{:?}]\nto = {:?}\nreferences = [{:?}]\n",
            self.table, self.column, self.to, self.references
        )
    }
}

/// Columns that look like references by their name and type, before any value was looked at.
pub fn candidates(catalog: &Catalog) -> Vec<Proposal> {
    let mut found = Vec::new();
    for table in &catalog.tables {
        for column in &table.columns {
            let declared = table.foreign_keys.iter().any(|key| key.columns.contains(&column.name));
            if declared || table.primary_key == [column.name.clone()] {
                continue;
            }
            found.extend(catalog.tables.iter().filter_map(|target| candidate(table, &column.name, target)));
        }
    }
    found
}

fn candidate(table: &Table, column: &str, target: &Table) -> Option<Proposal> {
    let wanted = names::one_name(&names::type_name(&target.name));
    let field = names::field_name(column);
    target.keys().filter_map(|key| if let [only] = key { Some(only) } else { None }).find_map(|key| {
        let key_field = names::field_name(key);
        let suffix = names::pascal(&key_field);
        let stem = field.strip_suffix(&suffix)?;
        let last_word = names::pascal(&wanted);
        let matches = stem == wanted || (names::pascal(stem).ends_with(&last_word) && !stem.is_empty());
        let same_type = table.column(column)?.scalar == target.column(key)?.scalar;
        (matches && same_type && !(table.name == target.name && column == key)).then(|| Proposal {
            table: table.name.clone(),
            column: column.to_owned(),
            to: target.name.clone(),
            references: key.clone(),
            evidence: format!(
                "`{column}` reads as the `{key}` of `{}`, and both are {}",
                target.name,
                table.column(column).map_or("", |c| c.scalar.name())
            ),
            sampled: None,
        })
    })
}

#[cfg(test)]
mod tests {
    use super::*;

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
