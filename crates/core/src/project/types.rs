//! `[[type]]`: what differs from the survey for one table.

use indexmap::IndexMap;

use super::Place;
use super::reader::{Reader, Section};
use crate::catalog::is_askable;
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
    /// Why clients should use something else.
    pub deprecated: Option<String>,
    /// What differs for single columns.
    pub fields: IndexMap<String, FieldEdit>,
    /// What differs for single links, by what they follow.
    pub links: IndexMap<String, LinkSettings>,
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
    /// Why clients should use something else.
    pub deprecated: Option<String>,
    /// Another scalar than the survey's.
    pub scalar: Option<Scalar>,
    /// Is it given types, by the shape that the survey found in its JSON?
    pub shape: bool,
    /// What differs from that shape, by the names of the members that lead there, with `/` between.
    pub members: IndexMap<String, MemberEdit>,
    /// Where in the file.
    pub place: Place,
}

/// `[type.fields.COLUMN.members."MEMBER/MEMBER"]`.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct MemberEdit {
    /// The field's name.
    pub name: Option<String>,
    /// Leave the member out, and what is inside of it.
    pub hidden: bool,
    /// The field's description.
    pub description: Option<String>,
    /// Why clients should use something else.
    pub deprecated: Option<String>,
    /// Another scalar than the survey's.
    pub scalar: Option<Scalar>,
    /// Is it a list of values, whatever the survey found?
    pub list: Option<bool>,
    /// Is each of its members a field, though it looks like a map?
    pub shape: bool,
    /// Is it always there? Then its field is non-null.
    pub required: bool,
    /// Where in the file.
    pub place: Place,
}

/// `[type.links."COLUMNS"]`, or `"TABLE.COLUMNS"` for the way back: one way of a link, as the type has it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct LinkSettings {
    /// The field's name.
    pub name: Option<String>,
    /// Leave this way out.
    pub hidden: bool,
    /// The field's description.
    pub description: Option<String>,
    /// Why clients should use something else.
    pub deprecated: Option<String>,
    /// Where in the file.
    pub place: Place,
}

fn read_links(reader: &mut Reader<'_>, section: &Section) -> IndexMap<String, LinkSettings> {
    let Some(section) = reader.section(section, "links") else { return IndexMap::new() };
    let mut links = IndexMap::new();
    for (follows, link) in reader.named_sections(&section) {
        reader.only(&link, &["name", "hidden", "description", "deprecated"]);
        let settings = LinkSettings {
            name: reader.graphql_name(&link, "name"),
            hidden: reader.flag(&link, "hidden"),
            description: reader.text(&link, "description"),
            deprecated: reader.text(&link, "deprecated"),
            place: link.place,
        };
        links.insert(follows, settings);
    }
    links
}

/// A scalar that the file gives something.
fn read_scalar(reader: &mut Reader<'_>, section: &Section) -> Option<Scalar> {
    let name = reader.text(section, "scalar")?;
    let known = Scalar::from_name(&name);
    if known.is_none() {
        let names: Vec<_> = Scalar::ALL.iter().map(|scalar| scalar.name()).collect();
        let text = format!("`{name}` is not a scalar; expected one of {}", names.join(", "));
        reader.mistake_at(section, "scalar", text);
    }
    known
}

fn read_members(reader: &mut Reader<'_>, field: &Section) -> IndexMap<String, MemberEdit> {
    let Some(section) = reader.section(field, "members") else { return IndexMap::new() };
    let mut members = IndexMap::new();
    for (way, member) in reader.named_sections(&section) {
        reader.only(&member, &["name", "hidden", "description", "deprecated", "scalar", "list", "shape", "required"]);
        let scalar = read_scalar(reader, &member);
        if scalar == Some(Scalar::Bytes) {
            reader.mistake_at(&member, "scalar", "JSON has no bytes; `String` serves them as they are written");
        }
        if !way.split('/').all(is_askable) {
            let text = format!(
                "{way:?} names no member that can be asked for: names are not empty, and have no quotes or backslashes"
            );
            reader.mistake(member.place, text);
        }
        let edit = MemberEdit {
            name: reader.graphql_name(&member, "name"),
            hidden: reader.flag(&member, "hidden"),
            description: reader.text(&member, "description"),
            deprecated: reader.text(&member, "deprecated"),
            scalar,
            list: member.has("list").then(|| reader.flag(&member, "list")),
            shape: reader.flag(&member, "shape"),
            required: reader.flag(&member, "required"),
            place: member.place,
        };
        members.insert(way, edit);
    }
    members
}

/// What `[[type]]` takes.
const KEYS: &[&str] = &[
    "table",
    "name",
    "one",
    "list",
    "hidden",
    "description",
    "deprecated",
    "nullable",
    "key",
    "version",
    "fields",
    "links",
];

pub(super) fn read_type(reader: &mut Reader<'_>, section: &Section) -> Option<(String, TypeEdit)> {
    reader.only(section, KEYS);
    let mut fields = IndexMap::new();
    if let Some(section) = reader.section(section, "fields") {
        for (column, field) in reader.named_sections(&section) {
            reader.only(&field, &["name", "hidden", "description", "deprecated", "scalar", "shape", "members"]);
            let scalar = read_scalar(reader, &field);
            let members = read_members(reader, &field);
            if !members.is_empty() && !reader.flag(&field, "shape") {
                reader.mistake_at(&field, "members", "`members` says what differs from a shape; add `shape = true`");
            }
            let edit = FieldEdit {
                name: reader.graphql_name(&field, "name"),
                hidden: reader.flag(&field, "hidden"),
                description: reader.text(&field, "description"),
                deprecated: reader.text(&field, "deprecated"),
                scalar,
                shape: reader.flag(&field, "shape"),
                members,
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
        deprecated: reader.text(section, "deprecated"),
        links: read_links(reader, section),
        fields,
        place: section.place,
    };
    let Some(table) = reader.text(section, "table") else {
        reader.missing(section, "table", "the table or view that this `[[type]]` is about");
        return None;
    };
    Some((table, edit))
}
