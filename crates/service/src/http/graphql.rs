//! `/graphql`: POST and GET.

use std::time::{Duration, Instant};

use actix_web::http::StatusCode;
use actix_web::http::header;
use actix_web::{HttpMessage as _, HttpRequest, HttpResponse, web};
use puente_core::error::{Code, Problem};
use puente_core::suggest::did_you_mean;
use puente_core::value::read_object;
use puente_run::turns::Turn;
use serde::Deserialize;
use serde_json::{Map, Value as Json};

use super::body::{self, Unread};
use super::guard::RequestId;
use super::negotiation::{MediaType, is_json};
use super::{Served, Shared};
use crate::api::{Arrival, Ask, AskResult};
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
#[derive(Debug, Default)]
struct Body {
    query: Option<String>,
    operation_name: Option<String>,
    variables: Option<Map<String, Json>>,
    extensions: Option<Map<String, Json>>,
}

/// What the request's `extensions` may say.
const EXTENSIONS: &[&str] = &["as", "statements", "explain", "plan", "rehearse"];
/// Bytes up to which a body is read without waiting for a turn, and taken apart where it arrives.
const SMALL: usize = 16 << 10;

async fn post(request: HttpRequest, shared: web::Data<Shared>, payload: web::Payload) -> HttpResponse {
    let start = Instant::now();
    let Some(media) = MediaType::accepted(&request) else { return not_acceptable() };
    if !is_json(&request) {
        let text = "the body's type is not JSON; send `Content-Type: application/json`, in UTF-8";
        return refuse(media, StatusCode::UNSUPPORTED_MEDIA_TYPE, text);
    }
    let served = shared.served();
    // Whoever is not let in has nothing of the body read.
    let caller = match shared.caller(&served, &request).await {
        Ok(caller) => caller,
        Err(unidentified) => return unidentified.respond(media),
    };
    let limits = served.api.limits();
    let deadline = start + Duration::from_millis(limits.time_ms);
    let is_small = body::declared(&request).is_some_and(|bytes| bytes <= SMALL);
    let reading = if is_small { None } else { Some(shared.bodies.enter(caller.party(), deadline).await) };
    let reading = match reading.transpose() {
        Ok(reading) => reading,
        Err(problem) => return respond_with(media, AskResult::refused(&[problem])),
    };
    let body = match body::read(&request, payload, limits.body_bytes, deadline).await {
        Ok(body) => body,
        Err(Unread(status, text)) => return refuse(media, status, &text),
    };
    let (parsed, turn) = if body.len() <= SMALL {
        (parse(&body), None)
    } else {
        match served.api.in_turn(caller.party(), deadline, move || parse(&body)).await {
            Ok((parsed, turn)) => (parsed, Some(turn)),
            Err(problem) => return respond_with(media, AskResult::refused(&[problem])),
        }
    };
    drop(reading);
    match parsed {
        Ok((ask, role)) => answer(&request, &served, media, (caller, role), (ask, start, turn)).await,
        Err(text) => refuse(media, StatusCode::BAD_REQUEST, &text),
    }
}

/// The request in a body.
fn parse(body: &[u8]) -> Result<(Ask, Option<Json>), String> {
    if body.iter().find(|byte| !byte.is_ascii_whitespace()) == Some(&b'[') {
        return Err("one request at a time: the body must be an object, not a list".to_owned());
    }
    let wrong = |error: &dyn std::fmt::Display| format!("the body is not a GraphQL request: {error}");
    let mut members = read_object(body).map_err(|error| wrong(&error))?;
    let mut text = |name: &str| match members.swap_remove(name) {
        None | Some(Json::Null) => Ok(None),
        Some(Json::String(text)) => Ok(Some(text)),
        Some(other) => Err(wrong(&format!("`{name}` expects a text, found {}", kind(&other)))),
    };
    let (query, operation_name) = (text("query")?, text("operationName")?);
    let mut object = |name: &str| match members.swap_remove(name) {
        None | Some(Json::Null) => Ok(None),
        Some(Json::Object(members)) => Ok(Some(members)),
        Some(other) => Err(wrong(&format!("`{name}` expects an object, found {}", kind(&other)))),
    };
    let (variables, extensions) = (object("variables")?, object("extensions")?);
    ask(Body { query, operation_name, variables, extensions }, body.len())
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

async fn get(request: HttpRequest, shared: web::Data<Shared>) -> HttpResponse {
    let start = Instant::now();
    let Some(media) = MediaType::accepted(&request) else { return not_acceptable() };
    let served = shared.served();
    let caller = match shared.caller(&served, &request).await {
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
            read_object(text.as_bytes()).map(Some).map_err(|error| format!("`{name}` is not a JSON object: {error}"))
        }
    };
    let body = parse("variables", parameters.variables).and_then(|variables| {
        let extensions = parse("extensions", parameters.extensions)?;
        Ok(Body { query: parameters.query, operation_name: parameters.operation_name, variables, extensions })
    });
    match body.and_then(|body| ask(body, request.query_string().len())) {
        Ok((ask, _)) if is_mutation(&ask) => {
            let text = "GET does not change anything; send a mutation with POST";
            let mut response = refuse(media, StatusCode::METHOD_NOT_ALLOWED, text);
            response.headers_mut().insert(header::ALLOW, header::HeaderValue::from_static("POST"));
            response
        }
        Ok((ask, role)) => answer(&request, &served, media, (caller, role), (ask, start, None)).await,
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

/// The request of a request, and as whom it is to be asked.
fn ask(body: Body, bytes: usize) -> Result<(Ask, Option<Json>), String> {
    let Body { query, operation_name, variables, extensions } = body;
    let extensions = extensions.unwrap_or_default();
    // Clients have members of their own, which are not for us; what looks like a slip of one of ours is not passed over.
    for name in extensions.keys().filter(|name| !EXTENSIONS.contains(&name.as_str())) {
        let hint = did_you_mean(name, EXTENSIONS.iter().copied());
        if !hint.is_empty() {
            return Err(format!("unknown member `{name}` of `extensions`{hint}; ours are {}", EXTENSIONS.join(", ")));
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
        plan: flag("plan")?,
        rehearse: flag("rehearse")?,
        bytes,
    };
    Ok((ask, extensions.get("as").cloned()))
}

/// Answers a request that began at some time, and may have its turn already.
async fn answer(
    request: &HttpRequest,
    served: &Served,
    media: MediaType,
    (caller, role): (Caller, Option<Json>),
    (ask, start, turn): (Ask, Instant, Option<Turn>),
) -> HttpResponse {
    let id = request.extensions().get::<RequestId>().cloned();
    let result = match caller.asking_as(role.as_ref(), &|role| served.api.has_role(role)) {
        Ok(principal) => {
            let arrival = Arrival { id: id.as_ref().map_or("", RequestId::as_str), at: start, turn };
            served.api.ask(ask, &principal, arrival).await
        }
        Err(problem) => AskResult::refused(&[problem]),
    };
    respond_with(media, result)
}

/// Seconds after which who was too busy may come again.
const RETRY_AFTER: header::HeaderValue = header::HeaderValue::from_static("1");

fn respond_with(media: MediaType, result: AskResult) -> HttpResponse {
    let mut response = HttpResponse::build(media.status(&result));
    if result.code == Some(Code::TooBusy) {
        response.insert_header((header::RETRY_AFTER, RETRY_AFTER));
    }
    response
        .insert_header((header::CONTENT_TYPE, media.content_type()))
        .insert_header((header::CACHE_CONTROL, header::HeaderValue::from_static("no-store")))
        .body(result.body)
}

impl Unidentified {
    /// What is missing: the challenge of a 401, and the sentence; without a challenge it is we who could not find out.
    pub(super) fn told(self) -> (Option<&'static str>, String) {
        match self {
            Unidentified::Missing => {
                let text = "who is asking? Send `Authorization: Bearer …` with an access key or a token";
                (Some("Bearer"), text.to_owned())
            }
            Unidentified::Malformed => {
                (Some("Bearer"), "the `Authorization` header is not of the form `Bearer KEY`".to_owned())
            }
            // RFC 6750, section 3.1.
            Unidentified::Refused(text) => (Some("Bearer error=\"invalid_token\""), text),
            Unidentified::Unchecked(detail) => {
                let text = "who is asking cannot be checked at the moment; try again later";
                tracing::error!(target: "puente::service", detail, "{text}");
                (None, text.to_owned())
            }
        }
    }

    /// The response that says what is missing.
    pub(super) fn respond(self, media: MediaType) -> HttpResponse {
        match self.told() {
            (None, text) => respond(media, StatusCode::INTERNAL_SERVER_ERROR, &[Problem::new(Code::Internal, text)]),
            (Some(challenge), text) => {
                let problem = Problem::new(Code::Unauthenticated, text);
                let mut response = respond(media, StatusCode::UNAUTHORIZED, &[problem]);
                let challenge = header::HeaderValue::from_static(challenge);
                response.headers_mut().insert(header::WWW_AUTHENTICATE, challenge);
                response
            }
        }
    }
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
