//! `[[type]]`: what differs from the survey for one table.

use indexmap::IndexMap;

use super::Place;
use super::reader::{Reader, Section};
use crate::value::Scalar;

/// `[[type]]`: what differs from the survey for one table.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct TypeEdit {
    /// The object type's name.
    pub name: Option<String>,
    /// The name of the field that finds one.
    pub one: Option<String>,
    /// The name of the field that lists many.
    pub list: Option<String>,
    /// Leave the table out.
    pub hidden: bool,
    /// The type's description.
    pub description: Option<String>,
    /// Columns that the API shows as nullable although the engine enforces a value.
    pub nullable: Vec<String>,
    /// Columns that tell its rows apart where the database promises no key: never null, and together unique.
    pub key: Vec<String>,
    /// The column that changes with every change of a row, and makes its revision.
    pub version: Option<String>,
    /// What differs for single columns.
    pub fields: IndexMap<String, FieldEdit>,
    /// Where in the file.
    pub place: Place,
}

/// `[type.fields.COLUMN]`.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct FieldEdit {
    /// The field's name.
    pub name: Option<String>,
    /// Leave the column out.
    pub hidden: bool,
    /// The field's description.
    pub description: Option<String>,
    /// Another scalar than the survey's.
    pub scalar: Option<Scalar>,
    /// Where in the file.
    pub place: Place,
}

pub(super) fn read_type(reader: &mut Reader<'_>, section: &Section) -> Option<(String, TypeEdit)> {
    reader.only(
        section,
        &["table", "name", "one", "list", "hidden", "description", "nullable", "key", "version", "fields"],
    );
    let mut fields = IndexMap::new();
    if let Some(section) = reader.section(section, "fields") {
        for (column, field) in reader.named_sections(&section) {
            reader.only(&field, &["name", "hidden", "description", "scalar"]);
            let scalar = reader.text(&field, "scalar").and_then(|name| {
                let known = Scalar::from_name(&name);
                if known.is_none() {
                    let names: Vec<_> = Scalar::ALL.iter().map(|scalar| scalar.name()).collect();
                    let text = format!("`{name}` is not a scalar; expected one of {}", names.join(", "));
                    reader.mistake_at(&field, "scalar", text);
                }
                known
            });
            let edit = FieldEdit {
                name: reader.graphql_name(&field, "name"),
                hidden: reader.flag(&field, "hidden"),
                description: reader.text(&field, "description"),
                scalar,
                place: field.place,
            };
            fields.insert(column, edit);
        }
    }
    let edit = TypeEdit {
        name: reader.graphql_name(section, "name"),
        one: reader.graphql_name(section, "one"),
        list: reader.graphql_name(section, "list"),
        hidden: reader.flag(section, "hidden"),
        description: reader.text(section, "description"),
        nullable: reader.texts(section, "nullable"),
        key: reader.texts(section, "key"),
        version: reader.text(section, "version"),
        fields,
        place: section.place,
    };
    let Some(table) = reader.text(section, "table") else {
        reader.missing(section, "table", "the table or view that this `[[type]]` is about");
        return None;
    };
    Some((table, edit))
}
