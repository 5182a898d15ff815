//! `/graphql`: POST and GET.

use actix_web::http::StatusCode;
use actix_web::http::header;
use actix_web::{HttpMessage as _, HttpRequest, HttpResponse, web};
use puente_core::error::{Code, Problem};
use puente_core::suggest::did_you_mean;
use serde::Deserialize;
use serde_json::{Map, Value as Json};

use super::Shared;
use super::guard::RequestId;
use super::negotiation::{MediaType, is_json};
use crate::api::{Ask, AskResult};
use crate::identity::{Caller, Unidentified};

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(
        web::resource("/graphql")
            .route(web::post().to(post))
            .route(web::get().to(get))
            .default_service(web::to(other_method)),
    );
}

/// The members of a request ([Request Parameters]).
///
/// [Request Parameters]: https://graphql.github.io/graphql-over-http/draft/#sec-Request-Parameters
#[derive(Debug, Deserialize)]
struct Body {
    query: Option<String>,
    #[serde(rename = "operationName")]
    operation_name: Option<String>,
    variables: Option<Map<String, Json>>,
    extensions: Option<Map<String, Json>>,
}

/// What the request's `extensions` may say.
const EXTENSIONS: &[&str] = &["as", "statements", "explain", "rehearse"];

async fn post(
    request: HttpRequest,
    shared: web::Data<Shared>,
    body: Result<web::Bytes, actix_web::Error>,
) -> HttpResponse {
    let Some(media) = MediaType::accepted(&request) else { return not_acceptable() };
    if !is_json(&request) {
        let text = "the body's type is not JSON; send `Content-Type: application/json`, in UTF-8";
        return refuse(media, StatusCode::UNSUPPORTED_MEDIA_TYPE, text);
    }
    let body = match body {
        Ok(body) => body,
        Err(error) => return unreadable(media, &error, shared.api.limits().body_bytes),
    };
    let caller = match shared.caller(&request).await {
        Ok(caller) => caller,
        Err(unidentified) => return unidentified.respond(media),
    };
    if body.iter().find(|byte| !byte.is_ascii_whitespace()) == Some(&b'[') {
        return refuse(media, StatusCode::BAD_REQUEST, "one request at a time: the body must be an object, not a list");
    }
    match serde_json::from_slice::<Body>(&body)
        .map_err(|error| format!("the body is no GraphQL request: {error}"))
        .and_then(ask)
    {
        Ok((ask, role)) => answer(&request, &shared, media, (caller, role), &ask).await,
        Err(text) => refuse(media, StatusCode::BAD_REQUEST, &text),
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

async fn get(request: HttpRequest, shared: web::Data<Shared>) -> HttpResponse {
    let Some(media) = MediaType::accepted(&request) else { return not_acceptable() };
    let caller = match shared.caller(&request).await {
        Ok(caller) => caller,
        Err(unidentified) => return unidentified.respond(media),
    };
    let parameters = match web::Query::<Parameters>::from_query(request.query_string()) {
        Ok(parameters) => parameters.into_inner(),
        Err(error) => return refuse(media, StatusCode::BAD_REQUEST, &format!("the query string: {error}")),
    };
    let parse = |name: &str, text: Option<String>| match text.filter(|text| !text.is_empty()) {
        None => Ok(None),
        Some(text) => {
            serde_json::from_str(&text).map(Some).map_err(|error| format!("`{name}` is no JSON object: {error}"))
        }
    };
    let body = parse("variables", parameters.variables).and_then(|variables| {
        let extensions = parse("extensions", parameters.extensions)?;
        Ok(Body { query: parameters.query, operation_name: parameters.operation_name, variables, extensions })
    });
    match body.and_then(ask) {
        Ok((ask, _)) if is_mutation(&ask) => {
            let text = "GET does not change anything; send a mutation with POST";
            let mut response = refuse(media, StatusCode::METHOD_NOT_ALLOWED, text);
            response.headers_mut().insert(header::ALLOW, header::HeaderValue::from_static("POST"));
            response
        }
        Ok((ask, role)) => answer(&request, &shared, media, (caller, role), &ask).await,
        Err(text) => refuse(media, StatusCode::BAD_REQUEST, &text),
    }
}

/// Would the operation change something? Judged from the syntax alone, before validation.
fn is_mutation(ask: &Ask) -> bool {
    puente_core::plan::is_mutation(&ask.document, ask.operation_name.as_deref())
}

async fn other_method() -> HttpResponse {
    let mut response = refuse(MediaType::GraphqlResponse, StatusCode::METHOD_NOT_ALLOWED, "ask with POST or GET");
    response.headers_mut().insert(header::ALLOW, header::HeaderValue::from_static("GET, POST"));
    response
}

/// The ask of a request, and as whom it is to be asked.
fn ask(body: Body) -> Result<(Ask, Option<Json>), String> {
    let Body { query, operation_name, variables, extensions } = body;
    let extensions = extensions.unwrap_or_default();
    for name in extensions.keys() {
        if !EXTENSIONS.contains(&name.as_str()) {
            let hint = did_you_mean(name, EXTENSIONS.iter().copied());
            return Err(format!("unknown member `{name}` of `extensions`{hint}; known are {}", EXTENSIONS.join(", ")));
        }
    }
    let flag = |name: &str| match extensions.get(name) {
        None => Ok(false),
        Some(Json::Bool(value)) => Ok(*value),
        Some(other) => Err(format!("`extensions.{name}` expects true or false, found {other}")),
    };
    let (statements, explain) = (flag("statements")?, flag("explain")?);
    let ask = Ask {
        document: query.ok_or("the request lacks `query`, the GraphQL document")?,
        operation_name: operation_name.filter(|name| !name.is_empty()),
        variables: variables.unwrap_or_default(),
        // An explanation is part of a statement's report.
        statements: statements || explain,
        explain,
        rehearse: flag("rehearse")?,
    };
    Ok((ask, extensions.get("as").cloned()))
}

async fn answer(
    request: &HttpRequest,
    shared: &Shared,
    media: MediaType,
    (caller, role): (Caller, Option<Json>),
    ask: &Ask,
) -> HttpResponse {
    let id = request.extensions().get::<RequestId>().cloned();
    let result = match caller.asking_as(role.as_ref(), &|role| shared.api.has_role(role)) {
        Ok(asker) => shared.api.ask(ask, &asker, id.as_ref().map_or("", RequestId::as_str)).await,
        Err(problem) => AskResult::refused(&[problem]),
    };
    HttpResponse::build(media.status(&result))
        .insert_header((header::CONTENT_TYPE, media.content_type()))
        .insert_header((header::CACHE_CONTROL, header::HeaderValue::from_static("no-store")))
        .body(result.body)
}

impl Unidentified {
    /// The response that says what is missing.
    pub(super) fn respond(self, media: MediaType) -> HttpResponse {
        let (challenge, text) = match self {
            Unidentified::Missing => {
                ("Bearer", "who is asking? Send `Authorization: Bearer …` with an access key or a token".to_owned())
            }
            Unidentified::Malformed => {
                ("Bearer", "the `Authorization` header is not of the form `Bearer KEY`".to_owned())
            }
            // RFC 6750, section 3.1.
            Unidentified::Refused(text) => ("Bearer error=\"invalid_token\"", text),
            Unidentified::Unchecked(detail) => {
                let text = "who is asking cannot be checked at the moment; try again later";
                let problem = Problem::new(Code::Internal, text);
                tracing::error!(target: "puente::service", detail, "{text}");
                return respond(media, StatusCode::INTERNAL_SERVER_ERROR, &[problem]);
            }
        };
        let mut response = respond(media, StatusCode::UNAUTHORIZED, &[Problem::new(Code::Unauthenticated, text)]);
        response.headers_mut().insert(header::WWW_AUTHENTICATE, header::HeaderValue::from_static(challenge));
        response
    }
}

fn unreadable(media: MediaType, error: &actix_web::Error, most: usize) -> HttpResponse {
    let status = error.as_response_error().status_code();
    let text = if status == StatusCode::PAYLOAD_TOO_LARGE {
        format!("the body is over {most} bytes; ask in parts")
    } else {
        format!("the body could not be read: {error}")
    };
    refuse(media, status, &text)
}

fn not_acceptable() -> HttpResponse {
    let text = "answers are `application/graphql-response+json` or `application/json`; accept one of them";
    refuse(MediaType::GraphqlResponse, StatusCode::NOT_ACCEPTABLE, text)
}

fn refuse(media: MediaType, status: StatusCode, text: &str) -> HttpResponse {
    respond(media, status, &[Problem::new(Code::InvalidRequest, text)])
}

fn respond(media: MediaType, status: StatusCode, problems: &[Problem]) -> HttpResponse {
    HttpResponse::build(status)
        .insert_header((header::CONTENT_TYPE, media.content_type()))
        .body(AskResult::refused(problems).body)
}
