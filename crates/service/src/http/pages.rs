//! Everything that is not `/graphql`: health, metrics, the schema for the console, the console itself.

use actix_web::http::StatusCode;
use actix_web::http::header::{CACHE_CONTROL, CONTENT_SECURITY_POLICY, CONTENT_TYPE, LOCATION};
use actix_web::{HttpRequest, HttpResponse, web};

use super::Shared;
use super::negotiation::MediaType;
use crate::console;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config
        .route("/health/live", web::get().to(live))
        .route("/health/ready", web::get().to(ready))
        .route("/metrics", web::get().to(metrics))
        .route("/", web::get().to(home))
        .route("/console", web::get().to(page))
        .route("/console/{asset:.*}", web::get().to(asset))
        .default_service(web::to(nowhere));
}

async fn live() -> &'static str {
    "live\n"
}

/// Ready once the source answers.
async fn ready(shared: web::Data<Shared>) -> HttpResponse {
    match shared.api.source().probe().await {
        Ok(()) => HttpResponse::Ok().body("ready\n"),
        Err(problem) => HttpResponse::ServiceUnavailable().body(format!("not ready: {}\n", problem.message)),
    }
}

async fn metrics(request: HttpRequest, shared: web::Data<Shared>) -> HttpResponse {
    match shared.caller(&request).await {
        Ok(caller) if caller.is_owner() => {}
        Ok(_) => {
            let text = "counters are shown to the owner's access key only\n";
            return HttpResponse::build(StatusCode::FORBIDDEN).body(text);
        }
        Err(unidentified) => return unidentified.respond(MediaType::GraphqlResponse),
    }
    HttpResponse::Ok()
        .insert_header((CONTENT_TYPE, "application/openmetrics-text; version=1.0.0; charset=utf-8"))
        .body(shared.api.metrics().to_text())
}

async fn home() -> HttpResponse {
    HttpResponse::Found().insert_header((LOCATION, "/console")).finish()
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
        None => nowhere().await,
    }
}

async fn nowhere() -> HttpResponse {
    HttpResponse::build(StatusCode::NOT_FOUND).body("nothing here; the console is at /console, the API at /graphql\n")
}
