//! What a request says: its members, out of a body or a query string ([Request Parameters]).
//!
//! [Request Parameters]: https://graphql.github.io/graphql-over-http/draft/#sec-Request-Parameters

use puente_core::suggest::did_you_mean;
use puente_core::value::{read_list, read_object};
use serde::Deserialize;
use serde_json::{Map, Value as Json};

use crate::api::{Ask, Spent};
use crate::persisted;

/// One request, and as whom it is to be asked; or a list of them.
#[derive(Debug)]
pub(super) enum Asked {
    One(Box<(Ask, Option<Json>)>),
    /// Each one, or what is wrong with it.
    List(Vec<Result<(Ask, Option<Json>), String>>),
}

/// The members of a request.
#[derive(Debug, Default)]
struct Body {
    query: Option<String>,
    operation_name: Option<String>,
    variables: Option<Map<String, Json>>,
    extensions: Option<Map<String, Json>>,
}

/// The requests in a body; a list has at most so many.
///
/// # Errors
/// What is wrong with it as a whole.
pub(super) fn in_body(body: &[u8], most: usize) -> Result<Asked, String> {
    let wrong = |error: &dyn std::fmt::Display| format!("the body is not a GraphQL request: {error}");
    if body.iter().find(|byte| !byte.is_ascii_whitespace()) != Some(&b'[') {
        let members = read_object(body).map_err(|error| wrong(&error))?;
        return of_members(members, body.len()).map(|one| Asked::One(Box::new(one)));
    }
    if most <= 1 {
        let text = "one request at a time: the body must be an object, not a list; `batch` of `[limits]` allows lists";
        return Err(text.to_owned());
    }
    let items = read_list(body).map_err(|error| wrong(&error))?;
    if items.is_empty() || items.len() > most {
        return Err(format!("a list has from 1 to {most} requests, found {}; send them in parts", items.len()));
    }
    let bytes = body.len() / items.len();
    let one = |item| match item {
        Json::Object(members) => of_members(members, bytes),
        other => Err(wrong(&format!("expected an object, found {}", kind(&other)))),
    };
    Ok(Asked::List(items.into_iter().map(one).collect()))
}

fn of_members(mut members: Map<String, Json>, bytes: usize) -> Result<(Ask, Option<Json>), String> {
    let wrong = |name: &str, expected: &str, found: &Json| {
        format!("the body is not a GraphQL request: `{name}` expects {expected}, found {}", kind(found))
    };
    let mut text = |name: &str| match members.swap_remove(name) {
        None | Some(Json::Null) => Ok(None),
        Some(Json::String(text)) => Ok(Some(text)),
        Some(other) => Err(wrong(name, "a text", &other)),
    };
    let (query, operation_name) = (text("query")?, text("operationName")?);
    let mut object = |name: &str| match members.swap_remove(name) {
        None | Some(Json::Null) => Ok(None),
        Some(Json::Object(members)) => Ok(Some(members)),
        Some(other) => Err(wrong(name, "an object", &other)),
    };
    let (variables, extensions) = (object("variables")?, object("extensions")?);
    ask(Body { query, operation_name, variables, extensions }, bytes)
}

fn kind(value: &Json) -> &'static str {
    match value {
        Json::Null => "null",
        Json::Bool(_) => "true or false",
        Json::Number(_) => "a number",
        Json::String(_) => "a text",
        Json::Array(_) => "a list",
        Json::Object(_) => "an object",
    }
}

/// The query string's parameters; variables and extensions as JSON text.
#[derive(Debug, Deserialize)]
struct Parameters {
    query: Option<String>,
    #[serde(rename = "operationName")]
    operation_name: Option<String>,
    variables: Option<String>,
    extensions: Option<String>,
}

/// The request in a query string: one that reads only.
///
/// # Errors
/// What is wrong with it.
pub(super) fn in_query_string(text: &str) -> Result<(Ask, Option<Json>), String> {
    let parameters = actix_web::web::Query::<Parameters>::from_query(text);
    let parameters = parameters.map_err(|error| format!("the query string: {error}"))?.into_inner();
    let parse = |name: &str, text: Option<String>| match text.filter(|text| !text.is_empty()) {
        None => Ok(None),
        Some(text) => {
            read_object(text.as_bytes()).map(Some).map_err(|error| format!("`{name}` is not a JSON object: {error}"))
        }
    };
    let variables = parse("variables", parameters.variables)?;
    let extensions = parse("extensions", parameters.extensions)?;
    let body = Body { query: parameters.query, operation_name: parameters.operation_name, variables, extensions };
    let (ask, role) = ask(body, text.len())?;
    Ok((Ask { reads_only: true, ..ask }, role))
}

/// The request of a request, and as whom it is to be asked.
fn ask(body: Body, bytes: usize) -> Result<(Ask, Option<Json>), String> {
    let Body { query, operation_name, variables, extensions } = body;
    let extensions = extensions.unwrap_or_default();
    // Clients have members of their own, which are not for us. One slip alone is not passed over: it would change the rows.
    for name in extensions.keys().filter(|name| *name != "rehearse") {
        if !did_you_mean(name, ["rehearse"]).is_empty() {
            return Err(format!(
                "unknown member `{name}` of `extensions`; did you mean `rehearse`? It would change rows"
            ));
        }
    }
    let flag = |name: &str| match extensions.get(name) {
        None | Some(Json::Null) => Ok(false),
        Some(Json::Bool(value)) => Ok(*value),
        Some(other) => Err(format!("`extensions.{name}` expects true or false, found {other}")),
    };
    let (statements, explain) = (flag("statements")?, flag("explain")?);
    let hash = persisted::hash_of(&extensions)?;
    let query = query.filter(|query| !query.is_empty() || hash.is_none());
    let document = match (query, hash) {
        (Some(document), _) => document,
        (None, Some(_)) => String::new(),
        (None, None) => return Err("the request lacks `query`, the GraphQL document".to_owned()),
    };
    let ask = Ask {
        document,
        operation_name: operation_name.filter(|name| !name.is_empty()),
        variables: variables.unwrap_or_default(),
        // An explanation is part of a statement's report.
        statements: statements || explain,
        explain,
        plan: flag("plan")?,
        rehearse: flag("rehearse")?,
        bytes,
        hash,
        reads_only: false,
        spent: Spent::default(),
    };
    Ok((ask, extensions.get("as").cloned()))
}
