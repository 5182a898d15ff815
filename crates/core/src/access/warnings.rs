//! What grants allow that their author may not have meant.

use super::{Action, Grant, Role};
use crate::model::{FieldType, Model};
use crate::project::{Mistake, Place};

/// Parts of names of columns that hold what is personal, or secret.
const PERSONAL: &[&str] = &[
    "phone",
    "mobile",
    "email",
    "mail",
    "birth",
    "address",
    "street",
    "postcode",
    "zip",
    "iban",
    "passport",
    "salary",
    "password",
    "passwd",
    "secret",
    "token",
    "hash",
    "credit",
    "card",
    "health",
    "emergency",
    "gender",
    "religion",
];
/// Parts of names of columns that say whose a row is.
const OWNING: &[&str] = &[
    "owner",
    "user",
    "customer",
    "member",
    "account",
    "person",
    "employee",
    "author",
    "tenant",
    "created_by",
    "client",
];

/// Warnings about a role, each with the place of its grant. `anonymous`: is it the role of whoever says nothing?
pub fn warnings(role: &Role, anonymous: bool) -> Vec<Mistake> {
    let model = role.view.model();
    let mut found = role.loose_rules.clone();
    for grant in &role.grants {
        let texts = match grant.action {
            // The role that states it is warned of it.
            _ if grant.from.is_some() => Vec::new(),
            Action::Read => about_reading(role, model, grant),
            Action::Create => about_creating(role, model, grant),
            Action::Update => about_updating(role, model, grant),
            Action::Delete => about_deleting(role, model, grant),
        };
        found.extend(texts.into_iter().map(|text| Mistake { place: grant.edit.place, text }));
        if anonymous && grant.action != Action::Read {
            let text = format!(
                "role `{}` may {} `{}`, and it is the role of whoever says nothing: anybody may",
                role.view.role(),
                grant.action.word(),
                model.types[grant.of].name
            );
            found.push(Mistake { place: grant.edit.place, text });
        }
    }
    found
}

fn about_reading(role: &Role, model: &Model, grant: &Grant) -> Vec<String> {
    let t = &model.types[grant.of];
    let name = role.view.role();
    let mut texts = Vec::new();
    if grant.all_fields {
        texts.push(format!(
            "role `{name}` reads all fields of `{}`, also those that are added later; list them",
            t.name
        ));
    }
    // Whoever states `rows` has thought of them, also where that is all of them.
    if grant.edit.rows.is_some() {
        return texts;
    }
    let personal: Vec<&str> = role
        .view
        .columns(grant.of)
        .filter(|(column, _)| looks_personal(&t.columns[*column].name) && !role.view.is_masked(grant.of, *column))
        .map(|(_, field)| field)
        .collect();
    if !personal.is_empty() {
        texts.push(format!(
            "role `{name}` reads {} of every row of `{}`, which looks personal; state `rows`, mask it, or leave it out",
            listed(&personal),
            t.name
        ));
    }
    if let Some(owning) = t.columns.iter().find(|column| says_whose(&column.name)) {
        texts.push(format!(
            "role `{name}` reads every row of `{}`, whose column `{}` looks as if rows belonged to somebody; state `rows`",
            t.name, owning.name
        ));
    }
    texts
}

fn about_creating(role: &Role, model: &Model, grant: &Grant) -> Vec<String> {
    let t = &model.types[grant.of];
    let Some(write) = role.view.type_view(grant.of).and_then(|view| view.create.as_ref()) else { return Vec::new() };
    let is_set = |column: usize| write.columns[column] || write.fixed.iter().any(|(fixed, _)| *fixed == column);
    let lacking: Vec<&str> = (0..t.columns.len())
        .filter(|column| !t.may_leave_out(*column) && !is_set(*column))
        .map(|column| t.columns[column].label())
        .collect();
    if lacking.is_empty() {
        return Vec::new();
    }
    vec![format!(
        "role `{}` cannot create a `{}` by itself: {} is needed, and neither among `fields` nor `fixed`",
        role.view.role(),
        t.name,
        listed(&lacking)
    )]
}

fn about_updating(role: &Role, model: &Model, grant: &Grant) -> Vec<String> {
    if grant.edit.check.is_some() {
        return Vec::new();
    }
    let kept = if grant.edit.rows.is_some() { "only `rows` is asked again" } else { "nothing is asked" };
    vec![format!(
        "role `{}` updates `{}` without `check`: of the row as it is after the change {kept}",
        role.view.role(),
        model.types[grant.of].name
    )]
}

fn about_deleting(role: &Role, model: &Model, grant: &Grant) -> Vec<String> {
    if grant.edit.rows.is_some() {
        return Vec::new();
    }
    vec![format!(
        "role `{}` deletes any row of `{}` that it can read; state `rows`",
        role.view.role(),
        model.types[grant.of].name
    )]
}

/// Warnings about versions of rows that do not change with the rows.
pub fn about_versions(model: &Model, place: &dyn Fn(&str) -> Place) -> Vec<Mistake> {
    let mut found = Vec::new();
    for t in model.types.iter().filter(|t| t.items_of.is_none()) {
        let Some(column) = t.version.map(|column| &t.columns[column]) else { continue };
        let text = match (t.version_step(), column.kind) {
            (Some(_), _) if column.nullable => format!(
                "`{}` is the version of `{}` and may be null: a null one never changes; give the column a default, and `not null`",
                column.name, t.name
            ),
            (Some(_), _) => continue,
            (None, FieldType::Scalar(_)) if column.input.computed => continue,
            (None, _) => format!(
                "`{}` is the version of `{}`, and is neither a whole number nor a time: it changes only where the database \
                 changes it",
                column.name, t.name
            ),
        };
        found.push(Mistake { place: place(&t.table), text });
    }
    found
}

/// Does a column's name contain what is personal?
fn looks_personal(name: &str) -> bool {
    let name = name.to_ascii_lowercase();
    // Short words are parts of many others.
    PERSONAL.iter().any(|word| name.split('_').any(|part| part == *word) || (word.len() > 4 && name.contains(word)))
}

/// Does a column's name say whose a row is, such as `owner_id`, `userId`, `created_by`?
fn says_whose(name: &str) -> bool {
    let name = heck::ToSnakeCase::to_snake_case(name);
    let name = ["_id", "_key"].iter().find_map(|suffix| name.strip_suffix(suffix)).unwrap_or(&name);
    OWNING.contains(&name)
}

fn listed(names: &[&str]) -> String {
    names.iter().map(|name| format!("`{name}`")).collect::<Vec<_>>().join(", ")
}
