//! Edits of the project file: what somebody wrote stays as it is, comments and order too.

use toml_edit::{ArrayOfTables, DocumentMut, Item, Table, TomlError, value};

/// The file's text with `shape = true` for a column, under the `[[type]]` of its table, or under a new one that calls the table
/// `table`. `is_table`: does a `[[type]]` that names its table so mean this one?
///
/// # Errors
/// Where the text is not TOML.
pub fn with_shape(text: &str, is_table: impl Fn(&str) -> bool, table: &str, column: &str) -> Result<String, TomlError> {
    let mut document: DocumentMut = text.parse()?;
    let types = document.entry("type").or_insert_with(|| Item::ArrayOfTables(ArrayOfTables::new()));
    let Some(types) = types.as_array_of_tables_mut() else { return Ok(text.to_owned()) };
    let is_meant = |edit: &Table| edit.get("table").and_then(Item::as_str).is_some_and(&is_table);
    if !types.iter().any(is_meant) {
        let mut new = Table::new();
        new.insert("table", value(table));
        types.push(new);
    }
    let Some(edit) = types.iter_mut().find(|edit| is_meant(edit)) else { return Ok(text.to_owned()) };
    let fields = edit.entry("fields").or_insert_with(implicit);
    if let Some(field) = fields.as_table_like_mut() {
        let field = field.entry(column).or_insert_with(|| Item::Table(Table::new()));
        if let Some(field) = field.as_table_like_mut() {
            field.insert("shape", value(true));
        }
    }
    Ok(document.to_string())
}

/// A table without a heading of its own.
fn implicit() -> Item {
    let mut table = Table::new();
    table.set_implicit(true);
    Item::Table(table)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::nothing_said("# mine\n[source.main]\nurl = \"x\"\n")]
    #[case::of_another("[[type]]\ntable = \"huts\" # kept\nname = \"Hut\"\n")]
    #[case::of_the_table("[[type]]\ntable = \"incidents\" # kept\nhidden = false\n\n[[type]]\ntable = \"huts\"\n")]
    #[case::of_the_field("[[type]]\ntable = \"incidents\"\n[type.fields.report] # kept\nname = \"it\"\n")]
    #[case::inline(
        "[[type]]\ntable = \"incidents\"\nfields = { report = { name = \"it\" }, code = { hidden = true } }\n"
    )]
    fn a_shape_is_added_beside_what_is_there(#[case] before: &str) {
        let after = with_shape(before, |name| name == "incidents", "incidents", "report").unwrap();
        let document: DocumentMut = after.parse().unwrap();
        let types = document["type"].as_array_of_tables().unwrap();
        let edit = types.iter().find(|edit| edit["table"].as_str() == Some("incidents")).unwrap();
        assert_eq!(edit["fields"]["report"]["shape"].as_bool(), Some(true), "{after}");
        for line in before.lines().filter(|line| !line.starts_with("fields")) {
            assert!(after.lines().any(|kept| kept == line), "{line} is gone:\n{after}");
        }
    }
}
