//! Everything that is not `/graphql`: health, metrics, the schema for the console, the console itself.

use std::time::{Duration, Instant};

use actix_web::http::StatusCode;
use actix_web::http::header::{CACHE_CONTROL, CONTENT_SECURITY_POLICY, CONTENT_TYPE};
use actix_web::{HttpRequest, HttpResponse, web};
use puente_core::error::{Code, Problem};
use puente_run::Source;
use tokio::sync::Mutex;

use super::Shared;
use super::negotiation::MediaType;
use crate::console;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config
        .route("/health/live", web::get().to(live))
        .route("/health/ready", web::get().to(ready))
        .route("/metrics", web::get().to(metrics))
        .route("/", web::get().to(page))
        .route("/assets/{asset}", web::get().to(asset))
        .default_service(web::to(not_found));
}

async fn live() -> &'static str {
    "live\n"
}

/// Whether the source answers: many who ask at once are told by one look.
#[derive(Debug, Default)]
pub(super) struct Readiness(Mutex<Option<Look>>);

#[derive(Debug)]
struct Look {
    begun: Instant,
    found: Result<(), Problem>,
}

impl Readiness {
    /// How long the source may take to answer.
    const PATIENCE: Duration = Duration::from_secs(2);

    async fn look(&self, source: &Source) -> Result<(), Problem> {
        let came = Instant::now();
        let mut last = self.0.lock().await;
        // A look that began while this one waited tells it, too.
        if let Some(look) = last.as_ref().filter(|look| look.begun >= came) {
            return look.found.clone();
        }
        let begun = Instant::now();
        let looked = tokio::time::timeout(Self::PATIENCE, source.probe()).await;
        let found = looked.unwrap_or_else(|_| {
            let text = "the database does not answer; is it running, and is it overloaded?";
            Err(Problem::new(Code::SourceUnavailable, text))
        });
        *last = Some(Look { begun, found: found.clone() });
        found
    }
}

/// Ready once the source answers.
async fn ready(shared: web::Data<Shared>) -> HttpResponse {
    match shared.readiness.look(&shared.served().api.source()).await {
        Ok(()) => HttpResponse::Ok().body("ready\n"),
        Err(problem) => HttpResponse::ServiceUnavailable().body(format!("not ready: {}\n", problem.message)),
    }
}

async fn metrics(request: HttpRequest, shared: web::Data<Shared>) -> HttpResponse {
    let served = shared.served();
    match shared.caller(&served, &request).await {
        Ok(caller) if caller.is_owner() => {}
        Ok(_) => {
            let text = "counters are shown to the owner's access key only\n";
            return HttpResponse::build(StatusCode::FORBIDDEN).body(text);
        }
        Err(unidentified) => return unidentified.respond(MediaType::GraphqlResponse),
    }
    HttpResponse::Ok()
        .insert_header((CONTENT_TYPE, "application/openmetrics-text; version=1.0.0; charset=utf-8"))
        .body(served.api.metrics().to_text())
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
