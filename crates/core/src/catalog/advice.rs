//! Advice: what the survey would tell the owner of the database, without changing anything.

use super::{Catalog, TableKind};

/// One piece of advice.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Advice {
    /// What it is about: a table, or a table's columns.
    pub place: String,
    /// What was seen, what follows, and the remedy.
    pub text: String,
}

/// Rows below which a missing index is not worth a word.
pub(crate) const WORTH_AN_INDEX: u64 = 1_000;

/// What could be better about the tables: links without an index, tables without a key, columns whose values
/// made the survey choose another type than the declared one.
pub fn advise(catalog: &Catalog) -> Vec<Advice> {
    let mut found = Vec::new();
    for table in &catalog.tables {
        let name = &table.name;
        if table.kind == TableKind::Table && table.keys().next().is_none() {
            found.push(Advice {
                place: name.clone(),
                text: "has no key: it is read-only and paged by `skip` only; a primary key would give cursors".into(),
            });
        }
        for key in table.keys() {
            let incomparable = key
                .iter()
                .filter_map(|name| table.column(name))
                .find(|column| column.list || !column.scalar.is_comparable());
            if let Some(column) = incomparable {
                let what = if column.list { "a list" } else { column.scalar.name() };
                found.push(Advice {
                    place: format!("{name}({})", key.join(", ")),
                    text: format!(
                        "is a key over `{}`, which is {what}: rows are not found by it, nor paged",
                        column.name
                    ),
                });
            }
        }
        for key in &table.foreign_keys {
            if !table.is_indexed(&key.columns) && table.about_rows >= WORTH_AN_INDEX {
                let columns = key.columns.join(", ");
                found.push(Advice {
                    place: format!("{name}({columns})"),
                    text: format!(
                        "refers to `{}` without an index over about {} rows; `create index on {name} ({columns})` \
                         would make the link from `{}` cheap",
                        key.table, table.about_rows, key.table
                    ),
                });
            }
        }
        for column in &table.columns {
            if let Some(notice) = &column.notice {
                found.push(Advice { place: format!("{name}.{}", column.name), text: notice.clone() });
            }
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_key_that_nothing_is_found_by_is_worth_a_word() {
        let text = r#"{"format": 1, "engine": "postgres", "tables": [{"name": "walks", "kind": "table",
            "columns": [{"name": "id", "declared": "integer", "scalar": "Int", "enforced": true},
                {"name": "tags", "declared": "text[]", "scalar": "String", "list": true, "enforced": true}],
            "primary_key": ["id"], "unique_keys": [["tags"]]}]}"#;
        let found = advise(&Catalog::from_text(text).unwrap());
        assert_eq!(found.len(), 1, "{found:?}");
        assert!(found[0].place == "walks(tags)" && found[0].text.contains("`tags`, which is a list"), "{found:?}");
    }
}
