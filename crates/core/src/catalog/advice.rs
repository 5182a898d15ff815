//! Advice: what the survey would tell the owner of the database, without changing anything.

use indexmap::IndexMap;

use super::{Catalog, Engine, Table, TableKind};

/// One piece of advice.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Advice {
    /// What it is about: a table, or a table's columns.
    pub place: String,
    /// What was seen, what follows, and the remedy.
    pub text: String,
    /// A statement that would mend it, ready to be run.
    pub statement: Option<String>,
}

/// Rows below which a missing index is not worth a word.
pub(crate) const WORTH_AN_INDEX: u64 = 1_000;

/// What could be better about the tables: links without an index, tables without a key, columns whose values
/// made the survey choose another type than the declared one.
pub fn advise(catalog: &Catalog) -> Vec<Advice> {
    let mut found = Vec::new();
    let mut noticed: IndexMap<&str, Vec<String>> = IndexMap::new();
    for table in &catalog.tables {
        let name = &table.name;
        if table.kind == TableKind::Table && table.keys().next().is_none() {
            found.push(Advice {
                place: name.clone(),
                text: "has no key: it is read-only and paged by `skip` only; a primary key would give cursors".into(),
                statement: None,
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
                    statement: None,
                });
            }
        }
        for key in &table.foreign_keys {
            // Where it is not known, there may be any number.
            if !table.is_indexed(&key.columns) && table.about_rows.is_none_or(|rows| rows >= WORTH_AN_INDEX) {
                let statement = index_statement(catalog.engine, table, &key.columns);
                found.push(Advice {
                    place: format!("{name}({})", key.columns.join(", ")),
                    text: format!(
                        "refers to `{}` without an index over {} rows; `{statement}` would make the link from `{}` cheap",
                        key.table, rows_in_words(table.about_rows), key.table
                    ),
                    statement: Some(statement),
                });
            }
        }
        for column in &table.columns {
            if let Some(notice) = &column.notice {
                noticed.entry(notice.as_str()).or_default().push(format!("{name}.{}", column.name));
            }
        }
    }
    // What is to be said of many columns alike is said once.
    found.extend(noticed.into_iter().map(|(text, places)| Advice {
        place: several_places(&places),
        text: text.to_owned(),
        statement: None,
    }));
    found
}

/// Columns that something is said of: each of a few, some of many.
fn several_places(places: &[String]) -> String {
    const NAMED: usize = 3;
    match places.len().checked_sub(NAMED) {
        None | Some(0) => places.join(", "),
        Some(others) => format!("{} and {others} more", places[..NAMED].join(", ")),
    }
}

/// `about 1200`, `an unknown number of`: before `rows`.
fn rows_in_words(rows: Option<u64>) -> String {
    rows.map_or_else(|| "an unknown number of".to_owned(), |rows| format!("about {rows}"))
}

/// The statement that makes an index, with the names quoted as the engine has it.
fn index_statement(engine: Engine, table: &Table, columns: &[String]) -> String {
    let quoted = |name: &str| match engine {
        Engine::Mariadb => format!("`{}`", name.replace('`', "``")),
        Engine::Sqlite | Engine::Postgres | Engine::Mongodb => format!("\"{}\"", name.replace('"', "\"\"")),
    };
    let relation = table.relation.as_deref().unwrap_or(&table.name);
    let schema = table.schema.as_ref().map_or_else(String::new, |schema| format!("{}.", quoted(schema)));
    let name = quoted(&format!("{relation}_{}", columns.join("_")));
    let columns: Vec<String> = columns.iter().map(|column| quoted(column)).collect();
    format!("create index {name} on {schema}{} ({})", quoted(relation), columns.join(", "))
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
