//! Edits of the project file: what somebody wrote stays as it is, comments and order too.
//!
//! An edit says what is to be different ([`Edit`]); [`apply`] gives the file's text as somebody would have written it by hand, in the
//! style of docs/project-file.md. Whether the result fits the databases is asked of it afterwards, as of any project file.

mod follow;
mod text;

use std::fmt;

use serde::{Deserialize, Serialize};
use toml_edit::{Array, InlineTable, Item, Table, Value};
use utoipa::ToSchema;

pub use follow::{Renamed, follow};
use text::{Place, Sections, is_table_called};

use super::Action;

/// One change of the project file.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "camelCase", rename_all_fields = "camelCase", deny_unknown_fields)]
pub enum Edit {
    /// `[source.NAME]` for another database.
    AddSource {
        /// Its name.
        name: String,
        /// Its address, as it is to stand in the file: what is secret in it as `${VARIABLE}`.
        url: String,
    },
    /// One setting of `[[type]]`.
    SetType {
        /// The table, as the project file calls it.
        table: String,
        /// What is set.
        setting: TypeSetting,
    },
    /// One setting of `[type.fields.COLUMN]`, or of a member of the JSON in it.
    SetField {
        /// The table, as the project file calls it.
        table: String,
        /// The column.
        column: String,
        /// The names of the members that lead to what is meant, with `/` between; absent, the column itself is.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        member: Option<String>,
        /// What is set.
        setting: FieldSetting,
    },
    /// A `[[link]]` that is not there yet.
    AddLink {
        /// The link.
        link: LinkText,
    },
    /// A `[[link]]` that is there, with another content.
    ChangeLink {
        /// As it is.
        before: LinkText,
        /// As it is to be.
        link: LinkText,
    },
    /// A `[[link]]` less.
    RemoveLink {
        /// As it is.
        link: LinkText,
    },
    /// `[role.NAME]`: a new one, or what an old one says of itself.
    SetRole {
        /// Its name.
        role: String,
        /// What it is for; absent, nothing is said.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        description: Option<String>,
        /// Roles whose grants it takes over.
        #[serde(default)]
        include: Vec<String>,
    },
    /// A role less, with all its grants.
    RemoveRole {
        /// Its name.
        role: String,
    },
    /// `[role.NAME.TYPE.ACTION]`, as a whole.
    SetGrant {
        /// The role.
        role: String,
        /// The type's name.
        of: String,
        /// What is allowed.
        action: Action,
        /// The grant.
        grant: GrantText,
    },
    /// A grant less.
    RemoveGrant {
        /// The role.
        role: String,
        /// The type's name.
        of: String,
        /// What was allowed.
        action: Action,
    },
}

/// A setting of `[[type]]`. Null, false or an empty list takes it out of the file.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "property", content = "value", rename_all = "camelCase")]
pub enum TypeSetting {
    /// The object type's name.
    Name(Option<String>),
    /// The name of the field that finds one.
    One(Option<String>),
    /// The name of the field that lists many.
    List(Option<String>),
    /// Is the table left out?
    Hidden(bool),
    /// The type's description.
    Description(Option<String>),
    /// The columns that tell its rows apart.
    Key(Vec<String>),
    /// The column that makes a row's revision.
    Version(Option<String>),
    /// Columns shown as nullable.
    Nullable(Vec<String>),
}

/// A setting of `[type.fields.COLUMN]`. Null or false takes it out of the file.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "property", content = "value", rename_all = "camelCase")]
pub enum FieldSetting {
    /// The field's name.
    Name(Option<String>),
    /// Is it left out?
    Hidden(bool),
    /// The field's description.
    Description(Option<String>),
    /// Another scalar than the survey's.
    Scalar(Option<String>),
    /// Does the JSON in it get types?
    Shape(bool),
    /// Is a member always there?
    Required(bool),
}

/// A `[[link]]`, as the file states it.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "camelCase", deny_unknown_fields)]
pub struct LinkText {
    /// The referencing table.
    pub table: String,
    /// The table between the two.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub through: Option<String>,
    /// The referencing columns.
    #[serde(default)]
    pub columns: Vec<String>,
    /// The referenced table.
    pub to: String,
    /// The referenced columns.
    #[serde(default)]
    pub references: Vec<String>,
    /// The name of the link.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// The name of the link back.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub back: Option<String>,
}

/// A grant, as the file states it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "camelCase", deny_unknown_fields)]
pub struct GrantText {
    /// Every field, also what is added later? Then `fields` is not looked at.
    #[serde(default)]
    pub all_fields: bool,
    /// The fields.
    #[serde(default)]
    pub fields: Vec<String>,
    /// Which rows, as a rule in CEL; absent, all.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rows: Option<String>,
    /// What must be true of a row as it is after the change.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub check: Option<String>,
    /// Fields that are set whatever the caller says, in the order of the file.
    #[serde(default)]
    pub fixed: Vec<FieldRule>,
    /// Fields that show a value only where a rule is true, in the order of the file.
    #[serde(default)]
    pub masks: Vec<FieldRule>,
    /// The most rows of one page.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max_page: Option<u32>,
    /// May rows be counted and summed up?
    #[serde(default = "yes")]
    pub count: bool,
    /// May it delete what takes rows of other types along?
    #[serde(default)]
    pub cascade: bool,
}

fn yes() -> bool {
    true
}

/// A rule about one field.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "camelCase", deny_unknown_fields)]
pub struct FieldRule {
    /// The field.
    pub field: String,
    /// The rule, in CEL.
    pub rule: String,
}

impl Edit {
    /// May names of the API be others afterwards, so that grants have to follow?
    pub fn renames(&self) -> bool {
        match self {
            Edit::SetType { setting: TypeSetting::Name(_), .. }
            | Edit::SetField { setting: FieldSetting::Name(_), .. }
            | Edit::AddLink { .. }
            | Edit::ChangeLink { .. }
            | Edit::RemoveLink { .. } => true,
            Edit::AddSource { .. }
            | Edit::SetType { .. }
            | Edit::SetField { .. }
            | Edit::SetRole { .. }
            | Edit::RemoveRole { .. }
            | Edit::SetGrant { .. }
            | Edit::RemoveGrant { .. } => false,
        }
    }
}

/// Why an edit cannot be made: a sentence.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EditError(pub String);

impl fmt::Display for EditError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl std::error::Error for EditError {}

/// The file's text after an edit.
///
/// # Errors
/// Where the text is not TOML, or there is nothing of what is to be changed.
pub fn apply(text: &str, edit: &Edit) -> Result<String, EditError> {
    let mut sections = Sections::read(text)?;
    match edit {
        Edit::AddSource { name, url } => add_source(&mut sections, name, url)?,
        Edit::SetType { table, setting } => {
            let (key, value) = of_type(setting);
            set_type(&mut sections, table, key, value)?;
        }
        Edit::SetField { table, column, member, setting } => {
            set_field(&mut sections, (table, column, member.as_deref()), setting)?;
        }
        Edit::AddLink { link } => {
            if find_link(&sections, link).is_ok() {
                let text = format!("the file has this `[[link]]` from `{}` to `{}` already", link.table, link.to);
                return Err(EditError(text));
            }
            let place = sections.after(&["link", "type", "source"]);
            sections.push("link", link_table(link), place)?;
        }
        Edit::ChangeLink { before, link } => {
            let at = find_link(&sections, before)?;
            let table = sections.element("link", at)?;
            for (key, value) in link_values(link) {
                text::set(table, key, value);
            }
        }
        Edit::RemoveLink { link } => {
            let at = find_link(&sections, link)?;
            sections.remove_element("link", at);
        }
        Edit::SetRole { role, description, include } => set_role(&mut sections, role, description.as_ref(), include)?,
        Edit::RemoveRole { role } => {
            if !sections.remove(&["role", role]) {
                return Err(EditError(format!("there is no role `{role}` in the file any more")));
            }
        }
        Edit::SetGrant { role, of, action, grant } => set_grant(&mut sections, (role, of, *action), grant)?,
        Edit::RemoveGrant { role, of, action } => {
            if !sections.remove(&["role", role, of, action.word()]) {
                let text = format!("there is no `[role.{role}.{of}.{}]` in the file any more", action.word());
                return Err(EditError(text));
            }
        }
    }
    Ok(sections.into_text())
}

fn add_source(sections: &mut Sections, name: &str, url: &str) -> Result<(), EditError> {
    if sections.has(&["source", name]) {
        return Err(EditError(format!("there is a source `{name}` already; give this one another name")));
    }
    let mut table = Table::new();
    table.insert("url", text::text(url));
    let place = sections.after(&["source"]);
    sections.insert(&["source", name], table, place)
}

/// The key of a setting, and its value; none takes it out.
fn of_type(setting: &TypeSetting) -> (&'static str, Option<Item>) {
    let some = |name: &Option<String>| name.as_deref().map(text::text);
    match setting {
        TypeSetting::Name(name) => ("name", some(name)),
        TypeSetting::One(name) => ("one", some(name)),
        TypeSetting::List(name) => ("list", some(name)),
        TypeSetting::Hidden(hidden) => ("hidden", text::flag(*hidden)),
        TypeSetting::Description(text) => ("description", some(text)),
        TypeSetting::Key(columns) => ("key", text::list(columns)),
        TypeSetting::Version(column) => ("version", some(column)),
        TypeSetting::Nullable(columns) => ("nullable", text::list(columns)),
    }
}

fn of_field(setting: &FieldSetting) -> (&'static str, Option<Item>) {
    let some = |name: &Option<String>| name.as_deref().map(text::text);
    match setting {
        FieldSetting::Name(name) => ("name", some(name)),
        FieldSetting::Hidden(hidden) => ("hidden", text::flag(*hidden)),
        FieldSetting::Description(text) => ("description", some(text)),
        FieldSetting::Scalar(scalar) => ("scalar", some(scalar)),
        FieldSetting::Shape(shape) => ("shape", text::flag(*shape)),
        FieldSetting::Required(required) => ("required", text::flag(*required)),
    }
}

/// The `[[type]]` of a table among the file's, if there is one.
fn find_type(sections: &Sections, table: &str) -> Option<usize> {
    sections.elements("type").position(|edit| is_table_called(edit, table))
}

/// The `[[type]]` of a table: a new one where there is none.
fn type_at(sections: &mut Sections, table: &str) -> Result<usize, EditError> {
    if let Some(at) = find_type(sections, table) {
        return Ok(at);
    }
    let mut new = Table::new();
    new.insert("table", text::text(table));
    let place = sections.after(&["type", "source"]);
    sections.push("type", new, place)?;
    Ok(sections.elements("type").count() - 1)
}

fn set_type(sections: &mut Sections, table: &str, key: &str, value: Option<Item>) -> Result<(), EditError> {
    if value.is_none() && find_type(sections, table).is_none() {
        return Ok(());
    }
    let at = type_at(sections, table)?;
    text::set(sections.element("type", at)?, key, value);
    forget_type(sections, at);
    Ok(())
}

/// A `[[type]]` that says nothing any more goes, unless somebody wrote a comment on it.
fn forget_type(sections: &mut Sections, at: usize) {
    let says_nothing =
        sections.elements("type").nth(at).is_some_and(|edit| edit.len() == 1 && !text::has_comment(edit));
    if says_nothing {
        sections.remove_element("type", at);
    }
}

fn set_field(
    sections: &mut Sections,
    (table, column, member): (&str, &str, Option<&str>),
    setting: &FieldSetting,
) -> Result<(), EditError> {
    let (key, value) = of_field(setting);
    if value.is_none() && find_type(sections, table).is_none() {
        return Ok(());
    }
    let at = type_at(sections, table)?;
    let path: Vec<&str> = match member {
        None => vec!["fields", column],
        Some(member) => vec!["fields", column, "members", member],
    };
    // Plain settings stand in one line under `[type.fields]`; what has members of its own has a section of its own.
    let place = match (member, setting) {
        (None, FieldSetting::Shape(true)) | (Some(_), _) => Place::Section,
        (None, _) => Place::Line,
    };
    sections.set_within(("type", at), &path, place, key, value)?;
    forget_type(sections, at);
    Ok(())
}

fn link_values(link: &LinkText) -> Vec<(&'static str, Option<Item>)> {
    let LinkText { table, through, columns, to, references, name, back } = link;
    vec![
        ("table", Some(text::text(table))),
        ("columns", text::list(columns)),
        ("through", through.as_deref().map(text::text)),
        ("to", Some(text::text(to))),
        ("references", text::list(references)),
        ("name", name.as_deref().map(text::text)),
        ("back", back.as_deref().map(text::text)),
    ]
}

fn link_table(link: &LinkText) -> Table {
    let mut table = Table::new();
    for (key, value) in link_values(link) {
        if let Some(value) = value {
            table.insert(key, value);
        }
    }
    table
}

/// Which of the file's links is meant: by its tables and columns.
fn find_link(sections: &Sections, link: &LinkText) -> Result<usize, EditError> {
    let texts = |table: &Table, key: &str| -> Vec<String> {
        let array = table.get(key).and_then(Item::as_array);
        array.map(|array| array.iter().filter_map(Value::as_str).map(str::to_owned).collect()).unwrap_or_default()
    };
    let says = |table: &Table, key: &str| table.get(key).and_then(Item::as_str).map(str::to_owned);
    let is_meant = |table: &Table| {
        says(table, "table").as_ref() == Some(&link.table)
            && says(table, "to").as_ref() == Some(&link.to)
            && says(table, "through") == link.through
            && texts(table, "columns") == link.columns
            && texts(table, "references") == link.references
    };
    let found = sections.elements("link").position(is_meant);
    found.ok_or_else(|| {
        EditError(format!(
            "there is no `[[link]]` from `{}` to `{}` like this in the file any more",
            link.table, link.to
        ))
    })
}

fn set_role(
    sections: &mut Sections,
    role: &str,
    description: Option<&String>,
    include: &[String],
) -> Result<(), EditError> {
    let values = [("description", description.map(|text| text::text(text))), ("include", text::list(include))];
    if !sections.has(&["role", role]) {
        let place = sections.at_the_end("role");
        sections.insert(&["role", role], Table::new(), place)?;
    }
    for (key, value) in values {
        text::set(sections.table(&["role", role])?, key, value);
    }
    Ok(())
}

fn set_grant(
    sections: &mut Sections,
    (role, of, action): (&str, &str, Action),
    grant: &GrantText,
) -> Result<(), EditError> {
    if !sections.has(&["role", role]) {
        return Err(EditError(format!("there is no role `{role}` in the file any more")));
    }
    let path = ["role", role, of, action.word()];
    if !sections.has(&path) {
        // Beside what the role says of this type, else behind what it says of others.
        let place = match sections.end_of(&["role", role, of]) {
            Some(end) => end,
            None => sections.behind(&["role", role]),
        };
        sections.insert(&path, Table::new(), place)?;
    }
    let table = sections.table(&path)?;
    let fields = match (action, grant.all_fields) {
        (Action::Delete, _) => None,
        (_, true) => Some(text::text("all")),
        (_, false) => Some(text::list(&grant.fields).unwrap_or_else(|| Item::Value(Array::new().into()))),
    };
    let rules = |rules: &[FieldRule]| {
        let mut inline = InlineTable::new();
        for FieldRule { field, rule } in rules {
            inline.insert(field, rule.as_str().into());
        }
        (!inline.is_empty()).then(|| Item::Value(inline.into()))
    };
    let rule = |rule: &Option<String>| rule.as_deref().map(text::text);
    for (key, value) in [
        ("fields", fields),
        ("rows", rule(&grant.rows)),
        ("check", rule(&grant.check)),
        ("fixed", rules(&grant.fixed)),
        ("masks", rules(&grant.masks)),
        ("max_page", grant.max_page.map(|most| toml_edit::value(i64::from(most)))),
        ("count", (!grant.count).then(|| toml_edit::value(false))),
        ("cascade", text::flag(grant.cascade)),
    ] {
        text::set(table, key, value);
    }
    Ok(())
}

#[cfg(test)]
mod tests;
