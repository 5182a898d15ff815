//! Everything that is not `/graphql`: health, metrics, the schema for the console, the console itself.

use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};

use actix_web::http::StatusCode;
use actix_web::http::header::{AUTHORIZATION, CACHE_CONTROL, CONTENT_SECURITY_POLICY, CONTENT_TYPE, HeaderValue};
use actix_web::{HttpRequest, HttpResponse, Route, guard, web};
use futures_util::future::join_all;
use puente_core::error::{Code, Problem};
use puente_run::Source;
use tokio::sync::Mutex;

use super::negotiation::MediaType;
use super::{Shared, caching};
use crate::api::{Api, AskResult};
use crate::console;
use crate::metrics::Metrics;
use crate::principal::no_such_role;

/// The pages of the console beside the first: each can be opened by its address.
const CONSOLE_PAGES: &str = "/{page:survey|model|access|ask}";

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config
        .route("/health/live", read().to(live))
        .route("/health/ready", read().to(ready))
        .route("/health/ready/{source}", read().to(source_ready))
        .route("/metrics", read().to(metrics))
        .route("/schema.graphql", read().to(schema))
        .route("/", read().to(page))
        .route(CONSOLE_PAGES, read().to(page))
        .route("/assets/{asset}", read().to(asset))
        .default_service(web::to(not_found));
}

/// GET, and HEAD for who wants no more than the head of it.
fn read() -> Route {
    web::route().guard(guard::Any(guard::Get()).or(guard::Head()))
}

/// Counters and health where no key is asked for.
pub(super) fn open_counters(config: &mut web::ServiceConfig) {
    config
        .route("/health/live", read().to(live))
        .route("/health/ready", read().to(ready))
        .route("/health/ready/{source}", read().to(source_ready))
        .route("/metrics", read().to(counters))
        .default_service(web::to(not_found));
}

async fn counters(shared: web::Data<Shared>) -> HttpResponse {
    told_counters(&shared.served().api)
}

fn told_counters(api: &Api) -> HttpResponse {
    HttpResponse::Ok()
        .insert_header((CONTENT_TYPE, "application/openmetrics-text; version=1.0.0; charset=utf-8"))
        .body(api.counters())
}

async fn live() -> &'static str {
    "live\n"
}

/// Whether the sources answer: many who ask at once are told by one look.
#[derive(Debug, Default)]
pub(super) struct Readiness(Mutex<Option<Look>>);

/// What a source's probe found, by its name.
type Found = Vec<(String, Result<(), Problem>)>;

#[derive(Debug)]
struct Look {
    begun: Instant,
    found: Found,
}

impl Readiness {
    /// How long the source may take to answer.
    const PATIENCE: Duration = Duration::from_secs(2);

    pub(super) async fn look(&self, api: &Api) -> Found {
        let came = Instant::now();
        let mut last = self.0.lock().await;
        // A look that began while this one waited tells it, too.
        if let Some(look) = last.as_ref().filter(|look| look.begun >= came) {
            return look.found.clone();
        }
        let begun = Instant::now();
        let probes = api.sources().map(|(name, source)| async move { (name.to_owned(), Self::probe(source).await) });
        let found = join_all(probes).await;
        for (name, probed) in &found {
            Metrics::of(&api.metrics().source_up, name).set(i64::from(probed.is_ok()));
        }
        *last = Some(Look { begun, found: found.clone() });
        found
    }

    async fn probe(source: &Source) -> Result<(), Problem> {
        let probed = tokio::time::timeout(Self::PATIENCE, source.probe()).await;
        probed.unwrap_or_else(|_| {
            let text = "the database does not answer; is it running, and is it overloaded?";
            Err(Problem::new(Code::SourceUnavailable, text))
        })
    }
}

/// Ready once a source answers: of several that one is away takes the others from nobody. Each is told.
async fn ready(request: HttpRequest, shared: web::Data<Shared>) -> HttpResponse {
    if shared.draining.load(Ordering::Relaxed) {
        return HttpResponse::ServiceUnavailable().body("not ready: stopping\n");
    }
    if !shared.is_warm.load(Ordering::Acquire) {
        return HttpResponse::ServiceUnavailable().body("not ready: starting\n");
    }
    let told = told_to(&request, &shared).await;
    let found = shared.readiness.look(&shared.served().api).await;
    if let [(name, only)] = found.as_slice() {
        return readiness(only, &shared.drift.types(name), told);
    }
    let lines = found.iter().map(|(name, found)| match found {
        Ok(()) => format!("{name}: {}", is_ready(&shared.drift.types(name), told)),
        Err(problem) => format!("{name}: {}", is_not_ready(problem, told)),
    });
    let lines: String = lines.collect();
    match found.iter().any(|(_, found)| found.is_ok()) {
        true => HttpResponse::Ok().body(lines),
        false => HttpResponse::ServiceUnavailable().body(lines),
    }
}

/// The same of one source.
async fn source_ready(request: HttpRequest, shared: web::Data<Shared>, name: web::Path<String>) -> HttpResponse {
    let told = told_to(&request, &shared).await;
    let found = shared.readiness.look(&shared.served().api).await;
    match found.iter().find(|(known, _)| *known == *name) {
        Some((_, found)) => readiness(found, &shared.drift.types(&name), told),
        None => not_found().await,
    }
}

/// What is told of how ready a source is: anybody may ask.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Told {
    /// That it is, or is not, and how many types differ.
    Outline,
    /// Also which, and why.
    Whole,
}

/// Names and reasons are for the owner's access key; a key that is none is not looked at here, since a probe needs none.
async fn told_to(request: &HttpRequest, shared: &Shared) -> Told {
    if !request.headers().contains_key(AUTHORIZATION) {
        return Told::Outline;
    }
    match shared.caller(&shared.served(), request).await {
        Ok(caller) if caller.is_owner() => Told::Whole,
        Ok(_) | Err(_) => Told::Outline,
    }
}

/// Ready, or ready but for some types.
fn is_ready(drifted: &[String], told: Told) -> String {
    let types = match (drifted, told) {
        ([], _) => return "ready\n".to_owned(),
        ([_], Told::Outline) => "1 type differs".to_owned(),
        (several, Told::Outline) => format!("{} types differ", several.len()),
        (types, Told::Whole) => {
            let types: Vec<String> = types.iter().map(|name| format!("`{name}`")).collect();
            format!("{} differ", types.join(", "))
        }
    };
    format!("ready, degraded: {types} from the survey; `puente survey` accepts the changes\n")
}

fn is_not_ready(problem: &Problem, told: Told) -> String {
    match told {
        Told::Outline => format!("not ready: {}\n", problem.code.as_str()),
        Told::Whole => format!("not ready: {}\n", problem.message),
    }
}

fn readiness(found: &Result<(), Problem>, drifted: &[String], told: Told) -> HttpResponse {
    match found {
        Ok(()) => HttpResponse::Ok().body(is_ready(drifted, told)),
        Err(problem) => HttpResponse::ServiceUnavailable().body(is_not_ready(problem, told)),
    }
}

async fn metrics(request: HttpRequest, shared: web::Data<Shared>) -> HttpResponse {
    let served = shared.served();
    match shared.caller(&served, &request).await {
        Ok(caller) if caller.reads_counters() => {}
        Ok(_) => {
            let text = "counters are shown to the owner's access key, and to keys made by `puente key create NAME --metrics`\n";
            return HttpResponse::build(StatusCode::FORBIDDEN).body(text);
        }
        Err(unidentified) => return unidentified.respond(MediaType::GraphqlResponse),
    }
    told_counters(&served.api)
}

/// As whom a schema is read.
#[derive(Debug, serde::Deserialize)]
struct ReadAs {
    #[serde(rename = "as")]
    role: Option<String>,
}

/// The schema of whoever asks, as SDL; that of another of its roles, and for the owner of any, with `?as=`.
async fn schema(request: HttpRequest, shared: web::Data<Shared>, asked: web::Query<ReadAs>) -> HttpResponse {
    let served = shared.served();
    let caller = match shared.caller(&served, &request).await {
        Ok(caller) => caller,
        Err(unidentified) => return unidentified.respond(MediaType::GraphqlResponse),
    };
    let role = asked.into_inner().role.map(serde_json::Value::from);
    let principal = match shared.principal(&served, &request, &caller, role.as_ref()) {
        Ok(principal) if served.api.has_role(&principal.role) => principal,
        Ok(principal) => return refused(&no_such_role(&principal.role)),
        Err(problem) => return refused(&problem),
    };
    let api = std::sync::Arc::clone(&served.api);
    let deadline = Instant::now() + Duration::from_millis(api.limits().time_ms);
    let role = principal.role.clone();
    match served.api.in_turn(caller.party(), deadline, move || api.sdl_file(&role)).await {
        Ok((sdl, _)) => {
            let text = HeaderValue::from_static("text/plain; charset=utf-8");
            caching::respond(&request, &principal, &text, sdl.unwrap_or_default().into_bytes())
        }
        Err(problem) => refused(&problem),
    }
}

fn refused(problem: &Problem) -> HttpResponse {
    let status = StatusCode::from_u16(problem.code.status()).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
    let body = AskResult::refused(std::slice::from_ref(problem)).body;
    HttpResponse::build(status).insert_header((CONTENT_TYPE, MediaType::GraphqlResponse.content_type())).body(body)
}

async fn page() -> HttpResponse {
    let page = console::page();
    HttpResponse::Ok()
        .content_type("text/html; charset=utf-8")
        .insert_header((CONTENT_SECURITY_POLICY, page.policy))
        .insert_header((CACHE_CONTROL, "no-store"))
        .body(page.html)
}

async fn asset(path: web::Path<String>) -> HttpResponse {
    match console::asset(&path) {
        Some((bytes, media_type)) => HttpResponse::Ok()
            .content_type(media_type)
            // The names carry a digest of the contents.
            .insert_header((CACHE_CONTROL, "public, max-age=31536000, immutable"))
            .body(bytes),
        None => not_found().await,
    }
}

async fn not_found() -> HttpResponse {
    HttpResponse::build(StatusCode::NOT_FOUND).body("nothing here; the console is at /, the API at /graphql\n")
}
