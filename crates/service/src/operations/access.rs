//! What each role may: all grants as they are in force, and who may see or change a field.

use puente_core::access::{Action, Grant, Role};
use puente_core::model::{Column, Model, TypeId};
use puente_core::project::{FieldRule, Project, RuleText};
use serde::Serialize;
use utoipa::ToSchema;

/// Every role with its grants.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct AccessOverview {
    /// The roles, in the order of the project file.
    pub roles: Vec<RoleSheet>,
    /// The role of whoever says nothing.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub anonymous: Option<String>,
    /// Every grant that is in force, also those that a role takes over.
    pub grants: Vec<GrantSheet>,
}

/// A role.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct RoleSheet {
    /// Its name.
    pub name: String,
    /// What it is for.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub description: Option<String>,
    /// Roles whose grants it takes over where it states none itself.
    pub include: Vec<String>,
    /// The claims that its rules look at.
    pub claims: Vec<String>,
    /// Its line in the project file.
    pub line: usize,
}

/// A grant that is in force.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct GrantSheet {
    /// The role that has it.
    pub role: String,
    /// The type.
    #[serde(rename = "type")]
    pub of: String,
    /// What is allowed.
    pub action: Action,
    /// The fields, as the API calls them.
    pub fields: Vec<String>,
    /// How many fields and links the type has.
    pub out_of: usize,
    /// Is it every field, also those that come later?
    pub all_fields: bool,
    /// Which rows; absent, all.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rows: Option<String>,
    /// What must be true of a row after the change.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub check: Option<String>,
    /// Fields that are set whatever the caller says.
    pub fixed: Vec<FieldRule>,
    /// Fields that show a value only where a rule is true.
    pub masks: Vec<FieldRule>,
    /// The most rows of one page.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub max_page: Option<u32>,
    /// May rows be counted?
    pub count: bool,
    /// May it delete what takes rows of other types along?
    pub cascade: bool,
    /// The role that states it, where it is taken over.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// Its line in the project file.
    pub line: usize,
}

/// Every role with its grants.
pub(crate) fn access_overview(project: &Project, model: &Model, roles: &[Role]) -> AccessOverview {
    AccessOverview {
        anonymous: project.identity.anonymous.clone(),
        grants: roles
            .iter()
            .flat_map(|role| role.grants.iter().map(|grant| grant_sheet(model, role.view.role(), grant)))
            .collect(),
        roles: roles.iter().map(|role| role_sheet(project, role)).collect(),
    }
}

fn role_sheet(project: &Project, role: &Role) -> RoleSheet {
    let name = role.view.role();
    let edit = project.roles.get(name);
    RoleSheet {
        name: name.to_owned(),
        description: role.description.clone(),
        include: edit.map(|edit| edit.include.clone()).unwrap_or_default(),
        claims: claims_of(role),
        line: edit.map_or(0, |edit| edit.place.line),
    }
}

/// The claims that the rules of a role name, in the order in which they do.
fn claims_of(role: &Role) -> Vec<String> {
    let mut claims: Vec<String> = Vec::new();
    for rule in role.grants.iter().flat_map(rules) {
        for (at, _) in rule.text.match_indices("claims.") {
            let rest = &rule.text[at + "claims.".len()..];
            let name: String = rest.chars().take_while(|c| c.is_ascii_alphanumeric() || *c == '_').collect();
            if !name.is_empty() && !claims.contains(&name) {
                claims.push(name);
            }
        }
    }
    claims
}

fn rules(grant: &Grant) -> impl Iterator<Item = &RuleText> {
    let edit = &grant.edit;
    edit.rows.iter().chain(&edit.check).chain(edit.fixed.values()).chain(edit.masks.values())
}

fn grant_sheet(model: &Model, role: &str, grant: &Grant) -> GrantSheet {
    let edit = &grant.edit;
    let text = |rule: &Option<RuleText>| rule.as_ref().map(|rule| rule.text.clone());
    let each = |rules: &indexmap::IndexMap<String, RuleText>| {
        rules.iter().map(|(field, rule)| FieldRule { field: field.clone(), rule: rule.text.clone() }).collect()
    };
    GrantSheet {
        role: role.to_owned(),
        of: model.types[grant.of].name.clone(),
        action: grant.action,
        fields: grant.fields.clone(),
        out_of: model.types[grant.of].fields().count(),
        all_fields: grant.all_fields,
        rows: text(&edit.rows),
        check: text(&edit.check),
        fixed: each(&edit.fixed),
        masks: each(&edit.masks),
        max_page: edit.max_page,
        count: edit.count,
        cascade: edit.cascade,
        from: grant.from.clone(),
        line: edit.place.line,
    }
}

/// A grant by which a role may do something with a field.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub struct WhoLine {
    /// The role.
    pub role: String,
    /// What it may.
    pub action: Action,
    /// The rows for which it may; absent, all.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rows: Option<String>,
    /// Of what is inside the field, what it may; empty, all.
    pub parts: Vec<String>,
    /// Where a value is shown only where a rule is true.
    pub masks: Vec<FieldRule>,
    /// The role that states it, where it is taken over.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// The section of the project file.
    pub section: String,
    /// Its line.
    pub line: usize,
}

/// Who may do what with a field, and by which line.
pub fn who_can(model: &Model, roles: &[Role], of: TypeId, field: &str) -> Vec<WhoLine> {
    let mut lines = Vec::new();
    for role in roles {
        let about = role.grants.iter().filter(|grant| grant.of == of);
        for grant in about.filter(|grant| grant.fields.iter().any(|named| is_about(named, field))) {
            let from = grant.from.clone();
            let stated_by = from.as_deref().unwrap_or(role.view.role());
            let masks = grant.edit.masks.iter().filter(|(masked, _)| is_about(masked, field));
            lines.push(WhoLine {
                role: role.view.role().to_owned(),
                action: grant.action,
                rows: grant.edit.rows.as_ref().map(|rule| rule.text.clone()),
                parts: grant.fields.iter().filter(|named| is_inside(named, field)).cloned().collect(),
                masks: masks.map(|(field, rule)| FieldRule { field: field.clone(), rule: rule.text.clone() }).collect(),
                section: format!("[role.{stated_by}.{}.{}]", model.types[of].name, grant.action.word()),
                line: grant.edit.place.line,
                from,
            });
        }
    }
    lines
}

/// Is there such a field? Those inside JSON are called by the fields that lead to them.
pub fn has_field(model: &Model, of: TypeId, field: &str) -> bool {
    model.types[of].fields().any(|known| known == field) || model.field_called(of, field).is_some()
}

/// Every name under which something of a type can be asked about.
pub fn field_names(model: &Model, of: TypeId) -> Vec<&str> {
    let t = &model.types[of];
    t.fields().chain(t.columns.iter().map(Column::label)).collect()
}

/// Is a field, named by the fields that lead to it, inside of another?
fn is_inside(field: &str, outer: &str) -> bool {
    field.strip_prefix(outer).is_some_and(|rest| rest.starts_with('.'))
}

/// Is what is said of one field said of another, or of something inside of it?
fn is_about(named: &str, field: &str) -> bool {
    named == field || is_inside(field, named) || is_inside(named, field)
}
