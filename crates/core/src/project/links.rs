//! `[[link]]`: links that no foreign key declares.

use super::Place;
use super::reader::{Reader, Section};

/// `[[link]]`: a link that no foreign key declares.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LinkEdit {
    /// The referencing table.
    pub table: String,
    /// The referencing columns; with `through`, those of the table between that refer to `table`, empty where one foreign key
    /// does.
    pub columns: Vec<String>,
    /// The table between the two, for a direct link over it.
    pub through: Option<String>,
    /// The referenced table.
    pub to: String,
    /// The referenced columns; with `through`, those of the table between that refer to `to`, empty where one foreign key does.
    pub references: Vec<String>,
    /// The name of the link on the referencing type.
    pub name: Option<String>,
    /// The name of the link back.
    pub back: Option<String>,
    /// Where in the file.
    pub place: Place,
}

pub(super) fn read_link(reader: &mut Reader<'_>, section: &Section) -> Option<LinkEdit> {
    reader.only(section, &["table", "columns", "through", "to", "references", "name", "back"]);
    let is_direct = section.has("through");
    for (key, what, needed) in [
        ("table", "the table that refers", true),
        ("columns", "the columns that refer", !is_direct),
        ("to", "the table referred to", true),
        ("references", "the columns referred to", !is_direct),
    ] {
        if needed && !section.has(key) {
            reader.missing(section, key, what);
        }
    }
    let columns = reader.texts(section, "columns");
    let references = reader.texts(section, "references");
    let both = section.has("columns") && section.has("references");
    if both && !is_direct && (columns.len() != references.len() || columns.is_empty()) {
        let text =
            format!("{} columns cannot match {} references; name them in pairs", columns.len(), references.len());
        reader.mistake_at(section, "references", text);
    }
    Some(LinkEdit {
        table: reader.text(section, "table")?,
        columns,
        through: reader.text(section, "through"),
        to: reader.text(section, "to")?,
        references,
        name: reader.graphql_name(section, "name"),
        back: reader.graphql_name(section, "back"),
        place: section.place,
    })
}
