//! A table's real rows as a role sees them: what is withheld is said, with the rule that withholds it.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use puente_core::access::{Action, Grant, OWNER, Role, View};
use puente_core::error::{Code, Problem};
use puente_core::model::{FieldType, Model, Type, TypeId};
use puente_core::project::is_graphql_name;
use puente_core::value::Scalar;
use serde::Serialize;
use serde_json::{Map, Value as Json};
use utoipa::ToSchema;

use super::visible_rows::{OpenSources, Visible, api_of, data, visible_rows};
use crate::folder::{OpenError, ProjectFolder};

/// Rows of a table, and what of them a role sees.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct SeenRows {
    /// The fields that the owner sees, without lists and objects inside JSON.
    pub columns: Vec<SeenColumn>,
    /// The rows.
    pub rows: Vec<SeenRow>,
    /// How many rows the role sees, of all.
    pub visible: Visible,
    /// The rule that decides which rows it sees; absent where it sees all, or none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rule: Option<String>,
    /// What grants the role to read the type, as the project file calls it; absent where nothing does.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub section: Option<String>,
    /// Its line.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub line: Option<usize>,
    /// Can the rows be told apart? Without a key it is not known which of them the role sees.
    pub keyed: bool,
    /// What the next page begins after; absent on the last.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub next: Option<String>,
}

/// A field of the rows.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct SeenColumn {
    /// Its name.
    pub field: String,
    /// The name of its type.
    #[serde(rename = "type")]
    pub kind: String,
    /// May the role read it?
    pub granted: bool,
    /// The rule under which it shows a value.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub mask: Option<String>,
}

/// A row.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct SeenRow {
    /// Does the role see it?
    pub visible: bool,
    /// Its values, as the owner sees them.
    #[schema(value_type = Vec<Object>)]
    pub cells: Vec<Json>,
    /// The places of those that the role does not see.
    pub withheld: Vec<usize>,
}

/// Rows of one look, where the project and the role may have as many on a page.
const PAGE: u32 = 50;

/// A page of a table's rows, and what of them a role sees with these claims; or of those rows that it sees alone.
///
/// # Errors
/// What is wrong with the project, or with the source.
pub(crate) async fn seen_rows(
    folder: &ProjectFolder,
    role: &Role,
    of: TypeId,
    claims: Map<String, Json>,
    (after, only_seen): (Option<&str>, bool),
    open: &OpenSources<'_>,
) -> Result<SeenRows, OpenError> {
    let model = Arc::clone(role.view.model());
    let t = &model.types[of];
    let owner = View::owner(Arc::clone(&model));
    let grant = role.grants.iter().find(|grant| grant.of == of && grant.action == Action::Read);
    let looking = Role { view: role.view.clone().seeing_through(of), ..role.clone() };
    let api = api_of(folder, Arc::clone(&model), vec![looking], open)?;
    let columns = columns(&owner, role, of, grant);
    let fields: Vec<&str> = columns.iter().map(|column| column.field.as_str()).collect();
    let list = t.list.as_str();
    let key = key_fields(t);
    let size = PAGE.min(folder.project.limits.page).min(role.limits.page);
    let (page, info) = match key.is_some() {
        true => {
            let after = after.map(|after| format!(", after: {}", quoted(after))).unwrap_or_default();
            (format!("first: {size}{after}"), "pageInfo { hasNextPage endCursor }")
        }
        false => (format!("first: {size}"), ""),
    };
    let selection = if fields.is_empty() { "__typename".to_owned() } else { fields.join(" ") };
    let document = format!("{{ {list}({page}) {{ nodes {{ {selection} }} {info} }} }}");
    let mut page = match (&key, grant, only_seen) {
        (Some(key), Some(_), true) => {
            let keys = format!("{{ {list}({page}) {{ nodes {{ {} }} {info} }} }}", key.join(" "));
            let mut seen = data(&api, role.view.role(), claims.clone(), keys).await?;
            let rows = seen[list]["nodes"].as_array().cloned().unwrap_or_default();
            let values = match rows.is_empty() {
                true => Json::Array(Vec::new()),
                false => data(&api, OWNER, Map::new(), by_keys(t, key, &selection, &rows)).await?[list]["nodes"].take(),
            };
            seen[list]["nodes"] = values;
            seen
        }
        _ => data(&api, OWNER, Map::new(), document).await?,
    };
    let nodes = page[list]["nodes"].take();
    let nodes = nodes.as_array().map(Vec::as_slice).unwrap_or_default();
    let visible = match grant {
        Some(_) => visible_rows(folder, role, of, claims.clone(), open).await?,
        None => {
            let document = format!("{{ {list} {{ totalCount }} }}");
            let all = data(&api, OWNER, Map::new(), document).await?;
            Visible { rows: 0, of: all[list]["totalCount"].as_u64().unwrap_or_default() }
        }
    };
    let known = match (&key, grant) {
        (Some(key), Some(_)) => {
            let seen = seen_by_role(&api, role, (t, key, &fields), claims, nodes).await?;
            Some((key, seen))
        }
        _ => None,
    };
    let rows = nodes.iter().map(|node| {
        let cells: Vec<Json> = fields.iter().map(|field| node[*field].clone()).collect();
        let as_role = known.as_ref().and_then(|(key, seen)| seen.get(&key_of(node, key)));
        let is_keyless = key.is_none();
        let visible = grant.is_some() && (as_role.is_some() || is_keyless);
        let withheld = columns.iter().enumerate().filter(|(at, column)| {
            let is_masked = column.mask.is_some()
                && as_role.is_some_and(|seen| seen[column.field.as_str()].is_null() && !cells[*at].is_null());
            !column.granted || is_masked
        });
        SeenRow { visible, withheld: withheld.map(|(at, _)| at).collect(), cells }
    });
    let rows = rows.collect();
    let info = &page[list]["pageInfo"];
    let next = info["hasNextPage"].as_bool().unwrap_or_default();
    Ok(SeenRows {
        rows,
        visible,
        rule: grant.and_then(|grant| grant.edit.rows.as_ref()).map(|rule| rule.text.clone()),
        section: grant.map(|grant| {
            let stated_by = grant.from.as_deref().unwrap_or(role.view.role());
            format!("[role.{stated_by}.{}.read]", t.name)
        }),
        line: grant.map(|grant| grant.edit.place.line),
        keyed: key.is_some(),
        next: info["endCursor"].as_str().filter(|_| next).map(str::to_owned),
        columns,
    })
}

/// The rows among these that a role sees, by their keys.
async fn seen_by_role(
    api: &crate::api::Api,
    role: &Role,
    (t, key, fields): (&Type, &[String], &[&str]),
    claims: Map<String, Json>,
    nodes: &[Json],
) -> Result<HashMap<Vec<String>, Json>, OpenError> {
    if nodes.is_empty() {
        return Ok(HashMap::new());
    }
    let list = t.list.as_str();
    let document = by_keys(t, key, &fields.join(" "), nodes);
    let mut found = data(api, role.view.role(), claims, document).await?;
    let rows = found[list]["nodes"].take();
    let rows = rows.as_array().cloned().unwrap_or_default();
    Ok(rows.into_iter().map(|row| (key_of(&row, key), row)).collect())
}

/// A request for the rows that have the keys of these.
fn by_keys(t: &Type, key: &[String], selection: &str, nodes: &[Json]) -> String {
    let one = |node: &Json| {
        let members =
            key.iter().map(|field| format!("{field}: {{ eq: {} }}", literal(t, field, &node[field.as_str()])));
        format!("{{ {} }}", members.collect::<Vec<_>>().join(", "))
    };
    let any: Vec<String> = nodes.iter().map(one).collect();
    let (list, count) = (&t.list, nodes.len());
    format!("{{ {list}(first: {count}, filter: {{ or: [{}] }}) {{ nodes {{ {selection} }} }} }}", any.join(", "))
}

fn key_of(node: &Json, key: &[String]) -> Vec<String> {
    key.iter().map(|field| node[field.as_str()].to_string()).collect()
}

/// The fields of the key by which rows are found, if there is one whose columns all have fields.
fn key_fields(t: &Type) -> Option<Vec<String>> {
    t.row_key()?.columns.iter().map(|column| t.columns[*column].field.clone()).collect()
}

/// The fields that can be shown in a cell. A key's fields are always among them.
fn columns(owner: &View, role: &Role, of: TypeId, grant: Option<&Grant>) -> Vec<SeenColumn> {
    let model: &Model = owner.model();
    let t = &model.types[of];
    let granted: HashSet<usize> = role.view.columns(of).map(|(column, _)| column).collect();
    let plain = owner.columns(of).filter(|(column, _)| match t.columns[*column].kind {
        FieldType::Object(_) | FieldType::Items(_) => false,
        FieldType::Scalar(scalar) => scalar != Scalar::Bytes,
        FieldType::Enum(_) | FieldType::List(_) => true,
    });
    let mask = |field: &str| grant.and_then(|grant| grant.edit.masks.get(field)).map(|rule| rule.text.clone());
    plain
        .map(|(column, field)| SeenColumn {
            field: field.to_owned(),
            kind: model.kind_name(t.columns[column].kind).to_owned(),
            granted: granted.contains(&column),
            mask: mask(field),
        })
        .collect()
}

/// What a role may do with one row.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct RowAccess {
    /// The role.
    pub role: String,
    /// What is asked.
    pub action: Action,
    /// May it, with these claims?
    pub allowed: bool,
    /// The rule that decides; absent where every row is allowed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rule: Option<String>,
    /// The section of the project file.
    pub section: String,
    /// Its line.
    pub line: usize,
}

/// What each role may do with one row that its key names, with these claims. Roles that may do nothing with the type are left out.
///
/// # Errors
/// What is wrong with the project, or with the source.
pub(crate) async fn row_access(
    folder: &ProjectFolder,
    roles: &[Role],
    of: TypeId,
    key: &Map<String, Json>,
    claims: &Map<String, Json>,
    open: &OpenSources<'_>,
) -> Result<Vec<RowAccess>, OpenError> {
    let mut found = Vec::new();
    if let Some(stranger) = roles.first().and_then(|role| {
        let t = &role.view.model().types[of];
        key.keys().find(|field| t.column_called(field).is_none())
    }) {
        let text = format!("the key has no field `{stranger}`");
        return Err(OpenError::Source(Problem::new(Code::InvalidArgument, text)));
    }
    for role in roles {
        let model = Arc::clone(role.view.model());
        let t = &model.types[of];
        let actions = [Action::Read, Action::Update, Action::Delete];
        for grant in role.grants.iter().filter(|grant| grant.of == of && actions.contains(&grant.action)) {
            let reached = role.view.clone().reaching(of, grant.action).seeing_through(of);
            let api = api_of(folder, Arc::clone(&model), vec![Role { view: reached, ..role.clone() }], open)?;
            let members = key.iter().map(|(field, value)| format!("{field}: {{ eq: {} }}", literal(t, field, value)));
            let members: Vec<String> = members.collect();
            let document = format!("{{ {}(first: 1, filter: {{ {} }}) {{ totalCount }} }}", t.list, members.join(", "));
            let answer = data(&api, role.view.role(), claims.clone(), document).await?;
            let stated_by = grant.from.as_deref().unwrap_or(role.view.role());
            found.push(RowAccess {
                role: role.view.role().to_owned(),
                action: grant.action,
                allowed: answer[&t.list]["totalCount"].as_u64() == Some(1),
                rule: grant.edit.rows.as_ref().map(|rule| rule.text.clone()),
                section: format!("[role.{stated_by}.{}.{}]", t.name, grant.action.word()),
                line: grant.edit.place.line,
            });
        }
    }
    Ok(found)
}

/// A field's value as GraphQL writes it. Words of enums come as texts and go as words.
fn literal(t: &Type, field: &str, value: &Json) -> String {
    let is_enum = t.column_called(field).is_some_and(|column| matches!(t.columns[column].kind, FieldType::Enum(_)));
    match value {
        Json::String(word) if is_enum && is_graphql_name(word) => word.clone(),
        Json::String(text) => quoted(text),
        other => other.to_string(),
    }
}

fn quoted(text: &str) -> String {
    Json::from(text).to_string()
}
