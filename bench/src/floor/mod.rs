//! The floor: an Actix handler per ask with the best hand-written statements and hand-written JSON. It reads the same
//! body, checks the same key, writes the same log line, and uses the same driver, pool and threads as Puente.

pub(crate) mod json;
mod mariadb;
mod postgres;
mod reports;
mod sqlite;

use std::sync::Arc;

use actix_web::http::header::AUTHORIZATION;
use actix_web::{App, HttpRequest, HttpResponse, HttpServer, web};
use puente_core::catalog::Engine;
use puente_service::ProjectFolder;

use crate::asks::Ask;
use crate::report;

/// The database, as each engine is best asked by hand.
pub(crate) enum Floor {
    Sqlite(sqlite::Readers),
    Postgres(postgres::Sessions),
    Mariadb(mariadb::Sessions),
}

impl Floor {
    fn open(folder: &ProjectFolder) -> Self {
        let settings = &folder.project.sources[0];
        match settings.engine {
            Engine::Sqlite => Floor::Sqlite(sqlite::Readers::start(&folder.path.join(puente_demo::DATABASE))),
            Engine::Postgres => Floor::Postgres(postgres::Sessions::open(&settings.url.0)),
            Engine::Mariadb => Floor::Mariadb(mariadb::Sessions::open(&settings.url.0)),
            Engine::Mongodb => panic!("documents are measured by themselves"),
        }
    }

    async fn answer(&self, ask: Ask) -> Vec<u8> {
        match self {
            Floor::Sqlite(readers) => readers.answer(ask).await,
            Floor::Postgres(sessions) => sessions.answer(ask).await,
            Floor::Mariadb(sessions) => sessions.answer(ask).await,
        }
    }
}

struct Shared {
    key: String,
    floor: Floor,
}

/// What the body holds; the floor reads it, as every server would.
#[derive(Debug, serde::Deserialize)]
struct Body {
    query: String,
}

pub(crate) async fn serve(folder: &ProjectFolder, key: &str) {
    puente_service::logging::start();
    let shared = Shared { key: format!("Bearer {key}"), floor: Floor::open(folder) };
    let shared = web::Data::from(Arc::new(shared));
    let server = HttpServer::new(move || {
        let app = App::new().app_data(shared.clone());
        Ask::ALL.into_iter().fold(app, |app, ask| {
            app.route(
                &ask.path(),
                web::post().to(move |request: HttpRequest, shared: web::Data<Shared>, body: web::Bytes| async move {
                    answer(ask, &request, &shared, &body).await
                }),
            )
        })
    })
    .workers(2)
    .bind("127.0.0.1:0")
    .expect("a free port");
    report::line(&format!("listening {}", server.addrs()[0]));
    server.run().await.expect("it runs");
}

async fn answer(ask: Ask, request: &HttpRequest, shared: &Shared, body: &[u8]) -> HttpResponse {
    let start = std::time::Instant::now();
    if request.headers().get(AUTHORIZATION).is_none_or(|value| value.as_bytes() != shared.key.as_bytes()) {
        return HttpResponse::Unauthorized().finish();
    }
    let Ok(Body { query }) = serde_json::from_slice(body) else { return HttpResponse::BadRequest().finish() };
    let body = shared.floor.answer(ask).await;
    tracing::info!(
        target: "floor", request = query.len(), role = "owner", operation = "", outcome = "ok",
        ms = start.elapsed().as_secs_f64() * 1_000.0, "ask"
    );
    HttpResponse::Ok().content_type("application/graphql-response+json").body(body)
}
