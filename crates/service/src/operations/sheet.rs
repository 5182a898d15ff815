//! One type with all that there is to say of it: columns and fields, links, keys, indexes, its part of the schema.

use puente_core::access::View;
use puente_core::model::{Cardinality, Column, FieldType, Link, Model, Type, TypeId};
use puente_core::project::{FieldEdit, LinkEdit, LinkText, TypeEdit, names_table};
use puente_core::schema;
use serde::Serialize;
use utoipa::ToSchema;

use super::overview::Described;
use crate::folder::{FolderError, ProjectFolder};

/// One type with all that there is to say of it.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct TypeSheet {
    /// Its name.
    pub name: String,
    /// The table, as the project file calls it.
    pub table: String,
    /// The source.
    pub source: String,
    /// The field that finds one.
    pub one: String,
    /// The field that lists many.
    pub list: String,
    /// The description.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub description: Option<String>,
    /// About how many rows there are.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub about_rows: Option<u64>,
    /// Can its rows be written?
    pub writable: bool,
    /// The column that makes a row's revision.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub version: Option<String>,
    /// Its columns, those inside JSON behind the column that they are in.
    pub columns: Vec<ColumnSheet>,
    /// Its links.
    pub links: Vec<LinkSheet>,
    /// Its keys.
    pub keys: Vec<KeySheet>,
    /// The columns of its indexes.
    pub indexes: Vec<Vec<String>>,
    /// What the project file says of the type itself.
    pub stated: TypeStated,
    /// The definitions of the owner's schema that are about it: the type, and what finds and changes it.
    pub sdl: String,
    /// A request for its first rows.
    pub sample: String,
}

/// A column, and its field where it has one.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct ColumnSheet {
    /// Its name in the database.
    pub name: String,
    /// The names of the members that lead to it, where it is inside a column's JSON, with `/` between.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub member: Option<String>,
    /// What it is called in grants and rules: by the fields that lead to it, with dots between.
    pub label: String,
    /// Its field; absent where it is hidden.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub field: Option<String>,
    /// The field's type in the schema.
    #[serde(rename = "type")]
    pub kind: String,
    /// The words of an enum.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub values: Vec<String>,
    /// Its type in the database.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub declared: Option<String>,
    /// Can it be null in the database?
    pub nullable: bool,
    /// Is it computed by the database?
    pub computed: bool,
    /// Is it part of the key that pages end their order with?
    pub key: bool,
    /// Could the JSON in it be given types, or has it some?
    pub shape: bool,
    /// The description.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub description: Option<String>,
    /// What the project file says of it.
    pub stated: FieldStated,
}

/// What the project file says of a type.
#[derive(Debug, Clone, Default, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct TypeStated {
    /// A name.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// A name of the field that finds one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub one: Option<String>,
    /// A name of the field that lists many.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub list: Option<String>,
    /// A description.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub description: Option<String>,
    /// A key.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub key: Vec<String>,
    /// The column that makes a row's revision.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub version: Option<String>,
    /// The line of its `[[type]]`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub line: Option<usize>,
}

/// What the project file says of a field.
#[derive(Debug, Clone, Default, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct FieldStated {
    /// A name.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// A description.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub description: Option<String>,
    /// Another scalar.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub scalar: Option<String>,
    /// Types for its JSON.
    pub shape: bool,
    /// The line.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub line: Option<usize>,
}

/// A link with the columns that it goes by.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct LinkSheet {
    /// The field.
    pub field: String,
    /// The type at its other end.
    pub target: String,
    /// Any number, or at most one?
    pub many: bool,
    /// The type of the table between.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub through: Option<String>,
    /// Own columns.
    pub columns: Vec<String>,
    /// The target's columns that match them, in the same order.
    pub references: Vec<String>,
    /// Does it lead to another source?
    pub crosses: bool,
    /// The `[[link]]` of the project file that declares it, with its line; absent where a foreign key does.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub stated: Option<LinkStated>,
}

/// A `[[link]]` of the project file.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct LinkStated {
    /// As it is there.
    pub link: LinkText,
    /// Its line.
    pub line: usize,
}

/// A unique key.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct KeySheet {
    /// Its columns, as the API calls them.
    pub columns: Vec<String>,
    /// Does it tell every row apart?
    pub total: bool,
    /// Is it the project file that says so, and not the database?
    pub promised: bool,
}

/// The sheet of a type.
///
/// # Errors
/// Where a survey file cannot be read.
pub(crate) fn sheet(folder: &ProjectFolder, view: &View, of: TypeId) -> Result<TypeSheet, FolderError> {
    let described = Described::of(folder)?;
    let model = view.model();
    let t = &model.types[of];
    let table = described.called(t.source, &t.table);
    let edit = folder.project.types.iter().find(|(name, _)| names_table(name, &table)).map(|(_, edit)| edit);
    let label = |column: &usize| t.columns[*column].label().to_owned();
    Ok(TypeSheet {
        name: t.name.clone(),
        source: model.sources[t.source].clone(),
        one: t.one.clone(),
        list: t.list.clone(),
        description: t.description.clone(),
        about_rows: described.table(t).and_then(|table| table.about_rows),
        writable: t.writable,
        version: t.version.map(|version| t.columns[version].name.clone()),
        columns: columns(&described, model, (of, None), edit),
        links: t.links.iter().map(|link| link_sheet(&described, model, t, link)).collect(),
        keys: t
            .keys
            .iter()
            .map(|key| KeySheet {
                columns: key.columns.iter().map(label).collect(),
                total: key.total,
                promised: key.promised,
            })
            .collect(),
        indexes: t.indexes.iter().map(|index| index.iter().map(label).collect()).collect(),
        stated: edit.map(type_stated).unwrap_or_default(),
        sdl: definitions(&schema::print(view), t),
        sample: sample(view, of),
        table,
    })
}

fn type_stated(edit: &TypeEdit) -> TypeStated {
    TypeStated {
        name: edit.name.clone(),
        one: edit.one.clone(),
        list: edit.list.clone(),
        description: edit.description.clone(),
        key: edit.key.clone(),
        version: edit.version.clone(),
        line: Some(edit.place.line),
    }
}

/// The columns of a type, each with what is inside of its JSON behind it; of items of a list, with the way to the list before.
fn columns(
    described: &Described<'_>,
    model: &Model,
    (of, list): (TypeId, Option<(&str, &str, &str)>),
    edit: Option<&TypeEdit>,
) -> Vec<ColumnSheet> {
    let t = &model.types[of];
    let mut found = Vec::new();
    for (id, column) in t.columns.iter().enumerate() {
        // The item itself is the list's value.
        if list.is_some() && column.member.is_none() {
            continue;
        }
        let way = column.member.as_ref().map(|member| member.path.join("/"));
        let (name, member, label) = match (list, way) {
            (Some((name, before, label)), Some(way)) => {
                let member = if before.is_empty() { way } else { format!("{before}/{way}") };
                (name.to_owned(), Some(member), format!("{label}.{}", column.label()))
            }
            (_, way) => {
                let outer = column.member.as_ref().map_or(&column.name, |member| &t.columns[member.of].name);
                (outer.clone(), way, column.label().to_owned())
            }
        };
        let stated = edit.and_then(|edit| edit.fields.get(&name));
        let table = described.table(&model.types[model.table_of(of)]);
        let declared = table.and_then(|table| table.columns.iter().find(|known| known.name == name));
        found.push(ColumnSheet {
            label: label.clone(),
            field: column.field.clone(),
            kind: type_words(model, column),
            values: match column.kind {
                FieldType::Enum(id) => model.enums[id].values.iter().map(|(_, text)| text.clone()).collect(),
                _ => Vec::new(),
            },
            declared: declared.filter(|_| member.is_none()).map(|declared| declared.declared.clone()),
            nullable: column.nullable,
            // Items of a list are written with the list.
            computed: list.is_none() && t.is_computed(id),
            key: list.is_none() && t.row_key().is_some_and(|key| key.columns.contains(&id)),
            shape: member.is_none() && declared.is_some_and(|declared| declared.shape.is_some()),
            description: column.description.clone(),
            stated: stated.map(|stated| field_stated(stated, member.as_deref())).unwrap_or_default(),
            name: name.clone(),
            member: member.clone(),
        });
        if let FieldType::Items(items) = column.kind {
            let before = member.unwrap_or_default();
            found.extend(columns(described, model, (items, Some((&name, &before, &label))), edit));
        }
    }
    found
}

fn field_stated(edit: &FieldEdit, member: Option<&str>) -> FieldStated {
    match member {
        None => FieldStated {
            name: edit.name.clone(),
            description: edit.description.clone(),
            scalar: edit.scalar.map(|scalar| scalar.name().to_owned()),
            shape: edit.shape,
            line: Some(edit.place.line),
        },
        Some(member) => {
            let edit = edit.members.get(member);
            FieldStated {
                name: edit.and_then(|edit| edit.name.clone()),
                description: edit.and_then(|edit| edit.description.clone()),
                scalar: edit.and_then(|edit| edit.scalar).map(|scalar| scalar.name().to_owned()),
                shape: false,
                line: edit.map(|edit| edit.place.line),
            }
        }
    }
}

/// A field's type as the schema writes it.
fn type_words(model: &Model, column: &Column) -> String {
    let name = model.kind_name(column.kind);
    let inner = match column.kind {
        FieldType::List(_) | FieldType::Items(_) => format!("[{name}!]"),
        FieldType::Scalar(_) | FieldType::Enum(_) | FieldType::Object(_) => name.to_owned(),
    };
    if column.non_null { format!("{inner}!") } else { inner }
}

fn link_sheet(described: &Described<'_>, model: &Model, t: &Type, link: &Link) -> LinkSheet {
    let target = &model.types[link.target];
    let names = |columns: Vec<&str>| columns.into_iter().map(str::to_owned).collect();
    let through = link.through.as_ref();
    LinkSheet {
        field: link.field.clone(),
        target: target.name.clone(),
        many: link.cardinality == Cardinality::Many,
        through: through.map(|through| model.types[through.join].name.clone()),
        columns: names(link.pairs.iter().map(|(own, _)| t.columns[*own].name.as_str()).collect()),
        references: names(link.pairs.iter().map(|(_, other)| target.columns[*other].name.as_str()).collect()),
        crosses: link.crosses,
        stated: described
            .folder
            .project
            .links
            .iter()
            .find(|edit| declares(described, model, edit, (t, link)))
            .map(|edit| LinkStated { link: link_text(edit), line: edit.place.line }),
    }
}

/// Does a `[[link]]` declare a link, or the way back of it?
fn declares(described: &Described<'_>, model: &Model, edit: &LinkEdit, (t, link): (&Type, &Link)) -> bool {
    let target = &model.types[link.target];
    let is_called = |name: &str, t: &Type| names_table(name, &described.called(t.source, &t.table));
    if let Some(through) = &link.through {
        let join = &model.types[through.join];
        let between = edit.through.as_ref().is_some_and(|name| is_called(name, join));
        let ends = is_called(&edit.table, t) && is_called(&edit.to, target);
        return between && (ends || (is_called(&edit.table, target) && is_called(&edit.to, t)));
    }
    let goes_by = |own: &[String], other: &[String]| {
        link.pairs.len() == own.len()
            && link
                .pairs
                .iter()
                .zip(own.iter().zip(other))
                .all(|((a, b), (own, other))| t.columns[*a].name == *own && target.columns[*b].name == *other)
    };
    edit.through.is_none()
        && ((is_called(&edit.table, t) && is_called(&edit.to, target) && goes_by(&edit.columns, &edit.references))
            || (is_called(&edit.table, target) && is_called(&edit.to, t) && goes_by(&edit.references, &edit.columns)))
}

fn link_text(edit: &LinkEdit) -> LinkText {
    LinkText {
        table: edit.table.clone(),
        through: edit.through.clone(),
        columns: edit.columns.clone(),
        to: edit.to.clone(),
        references: edit.references.clone(),
        name: edit.name.clone(),
        back: edit.back.clone(),
    }
}

/// The definitions of a schema that are about a type itself.
fn definitions(sdl: &str, t: &Type) -> String {
    let words = |line: &str| line.split([' ', '{', '(']).nth(1).map(str::to_owned);
    let is_about = |definition: &&str| {
        let head = definition
            .lines()
            .find(|line| ["type ", "input ", "enum ", "interface "].iter().any(|word| line.starts_with(word)));
        head.and_then(words).is_some_and(|name| {
            name == t.name
                || name
                    .strip_prefix(&t.helpers)
                    .is_some_and(|rest| ["Key", "Filter", "Order", "Create", "Set"].contains(&rest))
        })
    };
    let all: Vec<&str> = sdl.split_inclusive("\n}\n").filter(is_about).map(str::trim).collect();
    all.join("\n\n")
}

/// A request for the first rows of a type, with all that is no list, and of what it is linked to the name.
pub(crate) fn sample(view: &View, of: TypeId) -> String {
    const ROWS: u32 = 20;
    let model = view.model();
    let t = &model.types[of];
    let mut fields: Vec<String> = view
        .columns(of)
        .filter(|(column, _)| !matches!(t.columns[*column].kind, FieldType::Items(_) | FieldType::Object(_)))
        .map(|(_, field)| field.to_owned())
        .collect();
    for (_, link) in view.links(of).filter(|(_, link)| link.cardinality == Cardinality::One) {
        if let Some(name) = best_name(view, link.target) {
            fields.push(format!("{} {{ {name} }}", link.field));
        }
    }
    if fields.is_empty() {
        fields.push("__typename".to_owned());
    }
    let fields: String = fields.iter().map(|field| format!("      {field}\n")).collect();
    format!("query First {{\n  {}(first: {ROWS}) {{\n    nodes {{\n{fields}    }}\n  }}\n}}\n", t.list)
}

/// The field by which a person knows a row: a text with a unique key, or the first text, or the key.
pub(crate) fn best_name(view: &View, of: TypeId) -> Option<String> {
    let t = &view.model().types[of];
    let is_text = |column: usize| t.columns[column].scalar() == Some(puente_core::value::Scalar::String);
    let called_name = view.columns(of).find(|(column, field)| is_text(*column) && matches!(*field, "name" | "title"));
    let unique =
        || view.columns(of).find(|(column, _)| is_text(*column) && t.keys.iter().any(|key| key.columns == [*column]));
    let first = || view.columns(of).find(|(column, _)| is_text(*column));
    let any = || view.columns(of).find(|(column, _)| t.columns[*column].is_comparable());
    called_name.or_else(unique).or_else(first).or_else(any).map(|(_, field)| field.to_owned())
}
