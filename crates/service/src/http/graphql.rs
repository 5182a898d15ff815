//! `/graphql`: POST, GET, HEAD and OPTIONS.

use std::time::{Duration, Instant};

use actix_web::http::header::HeaderName;
use actix_web::http::{Method, StatusCode, header};
use actix_web::{HttpMessage as _, HttpRequest, HttpResponse, web};
use puente_core::error::{Code, Problem};
use puente_run::turns::Turn;
use serde_json::Value as Json;

use super::body::{self, Unread};
use super::caching;
use super::guard::RequestId;
use super::negotiation::{MediaType, is_json};
use super::request::{self, Asked};
use super::{Served, Shared};
use crate::api::{Arrival, Ask, AskResult, Client, Spent};
use crate::identity::{Caller, Unidentified};
use crate::principal::Principal;
use crate::under_way::Held;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    // Two resources: one of several paths is found by regular expressions, which costs as much as a small answer.
    for path in ["/graphql", "/graphql/"] {
        config.service(
            web::resource(path)
                .route(web::post().to(post))
                .route(web::get().to(get))
                .route(web::head().to(get))
                .route(web::method(Method::OPTIONS).to(options))
                .default_service(web::to(other_method)),
        );
    }
}

/// What `/graphql` takes.
const ALLOWED: header::HeaderValue = header::HeaderValue::from_static("GET, HEAD, POST, OPTIONS");

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
    let most = limits.batch;
    let (parsed, turn) = if body.len() <= SMALL {
        (request::in_body(&body, most), None)
    } else {
        match served.api.in_turn(caller.party(), deadline, move || request::in_body(&body, most)).await {
            Ok((parsed, turn)) => (parsed, Some(turn)),
            Err(problem) => return respond_with(media, AskResult::refused(&[problem])),
        }
    };
    drop(reading);
    match parsed {
        Ok(Asked::One(one)) => {
            respond_with(media, answer((&request, &shared), &served, &caller, *one, (start, turn)).await)
        }
        Ok(Asked::List(list)) => answer_list((&request, &shared), &served, &caller, list, (start, turn), media).await,
        Err(text) => refuse(media, StatusCode::BAD_REQUEST, &text),
    }
}

/// Answers requests one after the other, in their order: what one takes of the budget, the next ones have no more.
async fn answer_list(
    from: (&HttpRequest, &Shared),
    served: &Served,
    caller: &Caller,
    list: Vec<Result<(Ask, Option<Json>), String>>,
    (start, mut turn): (Instant, Option<Turn>),
    media: MediaType,
) -> HttpResponse {
    let mut spent = Spent::default();
    let (mut body, mut held) = (b"[".to_vec(), Vec::new());
    for (at, asked) in list.into_iter().enumerate() {
        let result = match asked {
            Ok((ask, role)) => {
                let ask = Ask { spent, ..ask };
                answer(from, served, caller, (ask, role), (start, turn.take())).await
            }
            Err(text) => AskResult::refused(&[Problem::new(Code::InvalidRequest, text)]),
        };
        if at > 0 {
            body.push(b',');
        }
        body.extend_from_slice(&result.body);
        held.extend(result.held);
        spent += result.spent;
    }
    body.push(b']');
    let mut response = HttpResponse::Ok().insert_header((header::CONTENT_TYPE, media.content_type())).body(body);
    counted(&mut response, held);
    response
}

/// GET and HEAD: the same, for what only reads. An answer without errors has a tag, by which it need not be sent twice.
async fn get(request: HttpRequest, shared: web::Data<Shared>) -> HttpResponse {
    let start = Instant::now();
    let Some(media) = MediaType::accepted(&request) else { return not_acceptable() };
    let served = shared.served();
    let caller = match shared.caller(&served, &request).await {
        Ok(caller) => caller,
        Err(unidentified) => return unidentified.respond(media),
    };
    match request::in_query_string(request.query_string()) {
        Ok((ask, role)) => {
            let principal = match shared.principal(&served, &request, &caller, role.as_ref()) {
                Ok(principal) => principal,
                Err(problem) => return respond_with(media, AskResult::refused(&[problem])),
            };
            let result = asked(&request, &served, &principal, ask, (start, None)).await;
            match result.code {
                None => {
                    let mut response = caching::respond(&request, &principal, &media.content_type(), result.body);
                    counted(&mut response, result.held.into_iter().collect());
                    response
                }
                Some(_) => respond_with(media, result),
            }
        }
        Err(text) => refuse(media, StatusCode::BAD_REQUEST, &text),
    }
}

async fn options() -> HttpResponse {
    HttpResponse::NoContent().insert_header((header::ALLOW, ALLOWED)).finish()
}

async fn other_method() -> HttpResponse {
    let mut response = refuse(MediaType::GraphqlResponse, StatusCode::METHOD_NOT_ALLOWED, "ask with POST or GET");
    response.headers_mut().insert(header::ALLOW, ALLOWED);
    response
}

/// Answers a request that began at some time, and may have its turn already.
async fn answer(
    (request, shared): (&HttpRequest, &Shared),
    served: &Served,
    caller: &Caller,
    (ask, role): (Ask, Option<Json>),
    (start, turn): (Instant, Option<Turn>),
) -> AskResult {
    match shared.principal(served, request, caller, role.as_ref()) {
        Ok(principal) => asked(request, served, &principal, ask, (start, turn)).await,
        Err(problem) => AskResult::refused(&[problem]),
    }
}

/// The same, as somebody.
async fn asked(
    request: &HttpRequest,
    served: &Served,
    principal: &Principal,
    ask: Ask,
    (at, turn): (Instant, Option<Turn>),
) -> AskResult {
    let id = request.extensions().get::<RequestId>().cloned();
    let client = Client { name: said(request, &CLIENT_NAMES), version: said(request, &CLIENT_VERSIONS) };
    let trace = said(request, &TRACE_PARENT).filter(|said| is_trace(said));
    let arrival = Arrival { id: id.as_ref().map_or("", RequestId::as_str), at, turn, client, trace };
    served.api.ask(ask, principal, arrival).await
}

/// Headers by which clients say what they are called, and of which version they are.
static CLIENT_NAMES: [HeaderName; 3] = [
    HeaderName::from_static("graphql-client-name"),
    HeaderName::from_static("apollographql-client-name"),
    HeaderName::from_static("x-client-name"),
];
static CLIENT_VERSIONS: [HeaderName; 3] = [
    HeaderName::from_static("graphql-client-version"),
    HeaderName::from_static("apollographql-client-version"),
    HeaderName::from_static("x-client-version"),
];
static TRACE_PARENT: [HeaderName; 1] = [HeaderName::from_static("traceparent")];
/// Bytes of what a client says of itself that are logged.
const MOST_SAID: usize = 100;

/// What the first of some headers says that is there, cut to what is logged.
fn said<'r>(request: &'r HttpRequest, headers: &[HeaderName]) -> Option<&'r str> {
    let said = headers.iter().find_map(|name| request.headers().get(name))?.to_str().ok()?;
    Some(&said[..said.floor_char_boundary(MOST_SAID)])
}

/// Is it a `traceparent` ([Trace Context](https://www.w3.org/TR/trace-context/#traceparent-header))?
fn is_trace(text: &str) -> bool {
    let parts: Vec<&str> = text.split('-').collect();
    let is_hex = |part: &str, length: usize| {
        part.len() == length && part.bytes().all(|byte| byte.is_ascii_digit() || (b'a'..=b'f').contains(&byte))
    };
    let is_some = |part: &str| part.bytes().any(|byte| byte != b'0');
    matches!(parts[..], [version, trace, span, flags, ..]
        if is_hex(version, 2) && version != "ff" && is_hex(trace, 32) && is_some(trace) && is_hex(span, 16) && is_some(span)
            && is_hex(flags, 2) && (parts.len() == 4 || version != "00"))
}

/// Seconds after which who was too busy may come again.
const RETRY_AFTER: header::HeaderValue = header::HeaderValue::from_static("1");

fn respond_with(media: MediaType, result: AskResult) -> HttpResponse {
    let mut response = HttpResponse::build(media.status(&result));
    if matches!(result.code, Some(Code::TooBusy | Code::Contention)) {
        response.insert_header((header::RETRY_AFTER, RETRY_AFTER));
    }
    if result.code == Some(Code::MethodNotAllowed) {
        response.insert_header((header::ALLOW, header::HeaderValue::from_static("POST")));
    }
    let mut response = response.insert_header((header::CONTENT_TYPE, media.content_type())).body(result.body);
    counted(&mut response, result.held.into_iter().collect());
    response
}

/// Counts the bytes of answers until the response is taken.
fn counted(response: &mut HttpResponse, held: Vec<Held>) {
    if !held.is_empty() {
        response.extensions_mut().insert(held);
    }
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
