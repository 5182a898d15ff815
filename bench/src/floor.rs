//! The floor: an Actix handler per ask with the best hand-written statements and hand-written JSON. It reads the same
//! body, checks the same key, writes the same log line, and uses as many reading threads as Puente.

use std::path::Path;
use std::sync::Arc;

use actix_web::http::header::AUTHORIZATION;
use actix_web::{App, HttpRequest, HttpResponse, HttpServer, web};
use rusqlite::{CachedStatement, Connection, OpenFlags};
use tokio::sync::oneshot;

use crate::report;

#[derive(Debug, Clone, Copy)]
enum Ask {
    ThreeLevels,
    ByKey,
}

struct Job {
    ask: Ask,
    reply: oneshot::Sender<Vec<u8>>,
}

struct Shared {
    key: String,
    jobs: flume::Sender<Job>,
}

/// What the body holds; the floor reads it, as every server would.
#[derive(Debug, serde::Deserialize)]
struct Body {
    query: String,
}

pub(crate) async fn serve(folder: &Path, key: &str, readers: usize) {
    puente_service::logging::start();
    let (jobs, queue) = flume::bounded::<Job>(1_024);
    for _ in 0..readers {
        let (queue, file) = (queue.clone(), folder.join(puente_demo::DATABASE));
        std::thread::spawn(move || work(&file, &queue));
    }
    let shared = web::Data::from(Arc::new(Shared { key: format!("Bearer {key}"), jobs }));
    let server = HttpServer::new(move || {
        App::new()
            .app_data(shared.clone())
            .route("/three-levels", web::post().to(three_levels))
            .route("/by-key", web::post().to(by_key))
    })
    .workers(2)
    .bind("127.0.0.1:0")
    .expect("a free port");
    report::line(&format!("listening {}", server.addrs()[0]));
    server.run().await.expect("it runs");
}

async fn three_levels(request: HttpRequest, shared: web::Data<Shared>, body: web::Bytes) -> HttpResponse {
    answer(Ask::ThreeLevels, &request, &shared, &body).await
}

async fn by_key(request: HttpRequest, shared: web::Data<Shared>, body: web::Bytes) -> HttpResponse {
    answer(Ask::ByKey, &request, &shared, &body).await
}

async fn answer(ask: Ask, request: &HttpRequest, shared: &Shared, body: &[u8]) -> HttpResponse {
    let start = std::time::Instant::now();
    if request.headers().get(AUTHORIZATION).is_none_or(|value| value.as_bytes() != shared.key.as_bytes()) {
        return HttpResponse::Unauthorized().finish();
    }
    let Ok(Body { query }) = serde_json::from_slice(body) else { return HttpResponse::BadRequest().finish() };
    let (reply, answer) = oneshot::channel();
    if shared.jobs.try_send(Job { ask, reply }).is_err() {
        return HttpResponse::ServiceUnavailable().finish();
    }
    let Ok(body) = answer.await else { return HttpResponse::InternalServerError().finish() };
    tracing::info!(
        target: "floor", request = query.len(), role = "owner", operation = "", outcome = "ok",
        ms = start.elapsed().as_secs_f64() * 1_000.0, "ask"
    );
    HttpResponse::Ok().content_type("application/graphql-response+json").body(body)
}

fn work(file: &Path, queue: &flume::Receiver<Job>) {
    let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    let connection = Connection::open_with_flags(file, flags).expect("the database");
    while let Ok(Job { ask, reply }) = queue.recv() {
        let answer = match ask {
            Ask::ThreeLevels => read_three_levels(&connection),
            Ask::ByKey => read_by_key(&connection),
        };
        let _ = reply.send(answer.expect("the statements run"));
    }
}

fn read_three_levels(connection: &Connection) -> rusqlite::Result<Vec<u8>> {
    connection.prepare_cached("begin")?.raw_execute()?;
    let mut out = Vec::with_capacity(32 << 10);
    out.extend_from_slice(b"{\"data\":{\"huts\":{\"nodes\":[");
    let mut huts = connection.prepare_cached(
        "select h.name, r.name, h.id from huts as h left join regions as r on r.id = h.region_id order by h.id limit 20",
    )?;
    let mut bookings = connection.prepare_cached(
        "select b.starts_on, k.name from bookings as b left join hikers as k on k.id = b.hiker_id
         where b.hut_id = ? order by b.id limit 10",
    )?;
    let mut rows = huts.raw_query();
    let mut first = true;
    while let Some(row) = rows.next()? {
        separate(&mut out, &mut first);
        out.extend_from_slice(b"{\"name\":");
        string(&mut out, row.get_ref(0)?.as_str()?);
        out.extend_from_slice(b",\"region\":{\"name\":");
        string(&mut out, row.get_ref(1)?.as_str()?);
        out.extend_from_slice(b"},\"bookings\":{\"nodes\":[");
        guests(&mut bookings, row.get(2)?, &mut out)?;
        out.extend_from_slice(b"]}}");
    }
    drop(rows);
    out.extend_from_slice(b"]}}}");
    connection.prepare_cached("rollback")?.raw_execute()?;
    Ok(out)
}

fn guests(bookings: &mut CachedStatement<'_>, hut: i64, out: &mut Vec<u8>) -> rusqlite::Result<()> {
    bookings.raw_bind_parameter(1, hut)?;
    let mut rows = bookings.raw_query();
    let mut first = true;
    while let Some(row) = rows.next()? {
        separate(out, &mut first);
        out.extend_from_slice(b"{\"startsOn\":");
        string(out, row.get_ref(0)?.as_str()?);
        out.extend_from_slice(b",\"hiker\":{\"name\":");
        string(out, row.get_ref(1)?.as_str()?);
        out.extend_from_slice(b"}}");
    }
    Ok(())
}

fn read_by_key(connection: &Connection) -> rusqlite::Result<Vec<u8>> {
    let mut hut = connection.prepare_cached("select name, altitude, code from huts where id = ?")?;
    hut.raw_bind_parameter(1, 7)?;
    let mut rows = hut.raw_query();
    let mut out = Vec::with_capacity(128);
    match rows.next()? {
        Some(row) => {
            out.extend_from_slice(b"{\"data\":{\"hut\":{\"name\":");
            string(&mut out, row.get_ref(0)?.as_str()?);
            out.extend_from_slice(b",\"altitude\":");
            out.extend_from_slice(row.get_ref(1)?.as_i64()?.to_string().as_bytes());
            out.extend_from_slice(b",\"code\":");
            string(&mut out, row.get_ref(2)?.as_str()?);
            out.extend_from_slice(b"}}}");
        }
        None => out.extend_from_slice(b"{\"data\":{\"hut\":null}}"),
    }
    Ok(out)
}

fn separate(out: &mut Vec<u8>, first: &mut bool) {
    if !std::mem::take(first) {
        out.push(b',');
    }
}

fn string(out: &mut Vec<u8>, text: &str) {
    serde_json::to_writer(out, text).expect("text is a JSON string");
}
