//! What is checked before anything else: the Host that a request names, the Origin that a browser says it comes from.
//! And what every response carries: a request id, and headers that browsers obey.

use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use actix_web::body::{EitherBody, MessageBody};
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::http::header::{self, HeaderName, HeaderValue};
use actix_web::http::{Method, StatusCode};
use actix_web::middleware::Next;
use actix_web::{Error, HttpMessage as _, HttpResponse, web};
use puente_core::error::{Code, Problem};

use crate::api::AskResult;
use crate::metrics::Metrics;

/// The request's id, in the response and in the log.
pub(crate) const REQUEST_ID: HeaderName = HeaderName::from_static("x-request-id");

/// Bytes of a request's id.
const LONGEST_ID: usize = 128;

/// Is it an id of letters, digits and what is usual between them?
fn is_plain_id(id: &[u8]) -> bool {
    let is_plain = |byte: &u8| byte.is_ascii_alphanumeric() || b"-_.:/+=".contains(byte);
    (1..=LONGEST_ID).contains(&id.len()) && id.iter().all(is_plain)
}

/// What scripts of a listed origin may read of an answer's headers.
const EXPOSED: HeaderValue = HeaderValue::from_static("X-Request-Id, Retry-After, ETag");

/// Does a browser ask before it sends what it was given to send?
fn is_preflight(request: &ServiceRequest) -> bool {
    request.method() == Method::OPTIONS && request.headers().contains_key(header::ACCESS_CONTROL_REQUEST_METHOD)
}

/// Which hosts and origins are let in. Both are few, and in lower case.
#[derive(Debug)]
pub(crate) struct Guard {
    hosts: Vec<String>,
    origins: Vec<String>,
    prefix: String,
    next: AtomicU64,
    metrics: Arc<Metrics>,
}

/// The id of one request.
#[derive(Debug, Clone)]
pub(crate) struct RequestId(HeaderValue);

impl RequestId {
    pub(crate) fn as_str(&self) -> &str {
        self.0.to_str().unwrap_or_default()
    }
}

impl Guard {
    pub(crate) fn new(
        address: Option<SocketAddr>,
        hosts: &[String],
        origins: &[String],
        metrics: Arc<Metrics>,
    ) -> Self {
        let mut names: Vec<String> = hosts.iter().map(|host| host.to_ascii_lowercase()).collect();
        let Some(address) = address else {
            // Whoever reaches a socket in the file system is on this machine.
            names.push("localhost".to_owned());
            return Guard::of(names, origins, metrics);
        };
        let port = address.port();
        for name in ["localhost", "127.0.0.1", "[::1]"] {
            names.push(format!("{name}:{port}"));
            if matches!(port, 80 | 443) {
                names.push(name.to_owned());
            }
        }
        if !address.ip().is_unspecified() {
            let ip = match address.ip() {
                IpAddr::V4(ip) => ip.to_string(),
                IpAddr::V6(ip) => format!("[{ip}]"),
            };
            names.push(format!("{ip}:{port}"));
        }
        Guard::of(names, origins, metrics)
    }

    fn of(names: Vec<String>, origins: &[String], metrics: Arc<Metrics>) -> Self {
        Guard {
            hosts: names,
            origins: origins.iter().map(|origin| origin.to_ascii_lowercase()).collect(),
            prefix: crate::access_keys::random_text(6),
            next: AtomicU64::new(1),
            metrics,
        }
    }

    /// The id that the request brings, where it is one that logs can take; else a new one.
    fn request_id(&self, request: &ServiceRequest) -> RequestId {
        if let Some(given) = request.headers().get(&REQUEST_ID).filter(|given| is_plain_id(given.as_bytes())) {
            return RequestId(given.clone());
        }
        let id = format!("{}-{}", self.prefix, self.next.fetch_add(1, Ordering::Relaxed));
        RequestId(HeaderValue::try_from(id).expect("letters, digits and a hyphen"))
    }

    fn is_known_host(&self, host: &str) -> bool {
        self.hosts.iter().any(|known| known.eq_ignore_ascii_case(host))
    }

    /// An origin is let in where it is listed, or where it is the service itself.
    fn origin(&self, origin: &str, host: &str) -> OriginKind {
        let own = origin.split_once("://").is_some_and(|(_, rest)| rest.eq_ignore_ascii_case(host));
        match (own, self.origins.iter().any(|listed| listed.eq_ignore_ascii_case(origin))) {
            (true, _) => OriginKind::Own,
            (false, true) => OriginKind::Listed,
            (false, false) => OriginKind::Foreign,
        }
    }

    fn judge(&self, request: &ServiceRequest) -> Verdict {
        let text = |name: HeaderName| request.headers().get(name).map(|value| value.to_str().unwrap_or("?"));
        let authority = request.uri().authority().map(|authority| authority.as_str());
        let host = authority.or_else(|| text(header::HOST)).unwrap_or_default();
        // Health checks come from load balancers, which name a host by its address.
        if !self.is_known_host(host) && !request.path().starts_with("/health/") {
            let text = format!("the host `{host}` is not served here; list it under `hosts` of `[service]`");
            return Verdict::Refused(StatusCode::MISDIRECTED_REQUEST, Code::InvalidRequest, text);
        }
        let Some(origin) = text(header::ORIGIN) else { return Verdict::Passes };
        match self.origin(origin, host) {
            OriginKind::Own => Verdict::Passes,
            OriginKind::Listed if is_preflight(request) => {
                let wanted = request.headers().get(header::ACCESS_CONTROL_REQUEST_HEADERS).cloned();
                Verdict::Preflight(origin.to_owned(), wanted)
            }
            OriginKind::Listed => Verdict::PassesFor(origin.to_owned()),
            OriginKind::Foreign => {
                let text =
                    format!("the origin `{origin}` may not call this service; list it under `origins` of `[service]`");
                Verdict::Refused(StatusCode::FORBIDDEN, Code::RoleRefused, text)
            }
        }
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum OriginKind {
    Own,
    Listed,
    Foreign,
}

/// What becomes of a request.
enum Verdict {
    /// It is answered.
    Passes,
    /// It is answered, and the browser told that this origin may read the answer.
    PassesFor(String),
    /// A browser asks whether this origin may ask, with these headers.
    Preflight(String, Option<HeaderValue>),
    Refused(StatusCode, Code, String),
}

/// The middleware.
pub(super) async fn check<B: MessageBody + 'static>(
    request: ServiceRequest,
    next: Next<B>,
) -> Result<ServiceResponse<EitherBody<B>>, Error> {
    let guard = request.app_data::<web::Data<Guard>>().expect("the guard is set up with the app");
    let guard = web::Data::clone(guard);
    let (id, verdict) = (guard.request_id(&request), guard.judge(&request));
    request.extensions_mut().insert(id.clone());
    let (mut response, listed) = match verdict {
        Verdict::Passes => (next.call(request).await?.map_into_left_body(), None),
        Verdict::PassesFor(origin) => (next.call(request).await?.map_into_left_body(), Some(origin)),
        Verdict::Preflight(origin, wanted) => {
            let mut response = HttpResponse::NoContent();
            response
                .insert_header((header::ACCESS_CONTROL_ALLOW_METHODS, HeaderValue::from_static("GET, HEAD, POST")))
                .insert_header((header::ACCESS_CONTROL_MAX_AGE, HeaderValue::from_static("600")))
                .insert_header((header::VARY, HeaderValue::from_static("Access-Control-Request-Headers")));
            // A listed origin may send what its clients have: nothing here is decided by a header that is not ours.
            if let Some(wanted) = wanted {
                response.insert_header((header::ACCESS_CONTROL_ALLOW_HEADERS, wanted));
            }
            (request.into_response(response.finish()).map_into_right_body(), Some(origin))
        }
        Verdict::Refused(status, code, text) => {
            let body = AskResult::refused(&[Problem::new(code, text)]).body;
            let response = HttpResponse::build(status).content_type("application/graphql-response+json").body(body);
            (request.into_response(response).map_into_right_body(), None)
        }
    };
    guard.metrics.responded(response.status().as_u16());
    let headers = response.headers_mut();
    headers.insert(REQUEST_ID, id.0);
    headers.insert(header::X_CONTENT_TYPE_OPTIONS, HeaderValue::from_static("nosniff"));
    headers.insert(header::REFERRER_POLICY, HeaderValue::from_static("no-referrer"));
    if !headers.contains_key(header::CACHE_CONTROL) {
        headers.insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
    }
    if let Some(origin) = listed.and_then(|origin| HeaderValue::try_from(origin).ok()) {
        headers.insert(header::ACCESS_CONTROL_ALLOW_ORIGIN, origin);
        headers.append(header::VARY, HeaderValue::from_static("Origin"));
        headers.insert(header::ACCESS_CONTROL_EXPOSE_HEADERS, EXPOSED);
    }
    Ok(response)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_known_hosts_and_listed_origins_are_let_in() {
        let address = Some("127.0.0.1:4810".parse().unwrap());
        let (hosts, origins) = (["api.huts.example".into()], ["https://app.huts.example".into()]);
        let guard = Guard::new(address, &hosts, &origins, Arc::default());
        assert!(is_plain_id(b"6f1c-22.b:7") && !is_plain_id(b"") && !is_plain_id(b"a b") && !is_plain_id(&[b'a'; 129]));
        assert!(guard.is_known_host("LOCALHOST:4810") && guard.is_known_host("api.huts.example"));
        assert!(!guard.is_known_host("evil.example:4810") && !guard.is_known_host(""));
        assert_eq!(guard.origin("http://localhost:4810", "localhost:4810"), OriginKind::Own);
        assert_eq!(guard.origin("https://app.huts.example", "localhost:4810"), OriginKind::Listed);
        assert_eq!(guard.origin("https://evil.example", "localhost:4810"), OriginKind::Foreign);
        assert_eq!(guard.origin("null", "localhost:4810"), OriginKind::Foreign);
    }
}
