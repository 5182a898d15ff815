//! Documents against a handler that reads them by hand, with the same driver, sessions and threads: by key, pages, nested lists, and a
//! walk over all of them. And a survey of many.

use std::path::Path;
use std::sync::Arc;
use std::time::Instant;

use actix_web::http::header::AUTHORIZATION;
use actix_web::{App, HttpRequest, HttpResponse, HttpServer, web};
use bson::raw::{RawBsonRef, RawDocument, RawDocumentBuf};
use bson::{Document, doc, oid::ObjectId};
use mongodb::{ClientSession, Collection, Database as Collections};
use puente_core::catalog::Engine;
use puente_service::ProjectFolder;
use puente_testkit::database::Database;
use serde_json::Value as Json;
use tokio::runtime::Runtime;

use crate::driver::Load;
use crate::floor::json::{integer, nullable, separate, string};
use crate::{KEY, ROUNDS, Server, compare, report};

const READINGS: i32 = 100_000;
/// Documents of the collections that are read in pages. The server of the tests orders all of a collection for every page, without
/// its index: with many documents both sides would be measuring that.
const SAMPLES: i32 = 1_000;
const STATIONS: i32 = 50;
const REPORT: &str = "680000010000000000000007";
/// Documents of one insert.
const INSERTED: usize = 5_000;
const PAGE: i64 = 5_000;
const MEMBERS: i32 = 50;

/// What is asked, and where the handler answers it.
const ASKS: [(&str, &str, &str); 5] = [
    ("by key", "/key", "{ report(key: { id: \"680000010000000000000007\" }) { kind severity at } }"),
    ("page of 50", "/page", "{ samples(first: 50) { nodes { id station temperature takenAt } } }"),
    (
        "20 documents with nested lists",
        "/nested",
        "{ reports(first: 20) { nodes { kind weather { snow wind { from gusts } } crew { memberId role hours } steps { at text } } } }",
    ),
    (
        "filtered page",
        "/filtered",
        "{ samples(first: 50, filter: { station: { eq: 7 }, temperature: { gt: 10 } }) { nodes { id temperature } } }",
    ),
    (
        "filtered page, no validator",
        "/drafts",
        "{ drafts(first: 50, filter: { station: { eq: 7 }, temperature: { gt: 10 } }) { nodes { id temperature } } }",
    ),
];

pub(crate) fn measure() {
    let database = Database::empty(Engine::Mongodb);
    let temporary = puente_testkit::leftovers::folder();
    let folder = temporary.path();
    let text = format!("[source.reports]\nurl = \"{}\"\n[limits]\npage = {PAGE}\n", database.url);
    std::fs::write(folder.join("puente.toml"), text).expect("a project file");
    let settings = database.settings("");
    crate::block_on(async {
        puente_demo::load(&settings, folder).await.expect("the demo");
        fill(&puente_sources::mongodb::connect(&settings, folder).await.expect("a client")).await;
    });
    puente_service::survey(&ProjectFolder::open(folder).expect("a project"), None).expect("a survey");
    let puente = Server::start("serve-puente", folder);
    let floor = Server::start("serve-documents", folder);
    report::head("mongodb", "handler by hand", ROUNDS);
    for (name, path, document) in ASKS {
        let body = serde_json::json!({ "query": document }).to_string();
        let ours = Load::new(&puente.address, "/graphql", KEY, &body);
        let theirs = Load::new(&floor.address, path, KEY, &body);
        compare(name, (&ours, puente.child.id()), (&theirs, floor.child.id()), Engine::Mongodb, ROUNDS);
    }
    let mut ratios: Vec<f64> = (0..3).map(|_| walk_by_hand(&floor.address) / walk(&puente.address)).collect();
    ratios.sort_by(f64::total_cmp);
    report::line(&format!(
        "A walk over {READINGS} documents by pages of {PAGE}: {:.2} of the handler's speed",
        ratios[1]
    ));
    survey(&database, folder);
}

async fn fill(database: &Collections) {
    let number = |kind: &str| doc! { "bsonType": kind };
    let types = doc! { "bsonType": "object", "required": ["station", "temperature", "takenAt"], "properties": {
        "_id": number("int"), "station": number("int"), "temperature": number("double"), "takenAt": number("date"),
    } };
    for (name, rows, is_typed) in [("samples", SAMPLES, true), ("drafts", SAMPLES, false), ("readings", READINGS, true)]
    {
        if is_typed {
            let validator = doc! { "$jsonSchema": types.clone() };
            database.create_collection(name).validator(validator).await.expect("a collection");
        }
        let collection = database.collection::<Document>(name);
        let ids: Vec<i32> = (1..=rows).collect();
        for ids in ids.chunks(INSERTED) {
            collection.insert_many(ids.iter().map(|id| reading(*id))).await.expect("documents");
        }
        let index = mongodb::IndexModel::builder().keys(doc! { "station": 1 }).build();
        collection.create_index(index).await.expect("an index");
    }
}

fn reading(id: i32) -> Document {
    let minute = bson::DateTime::from_millis(1_770_000_000_000 + i64::from(id) * 60_000);
    doc! { "_id": id, "station": id % STATIONS, "temperature": f64::from(id % 600 - 200) / 10.0, "takenAt": minute }
}

/// How long a walk by cursors takes, in seconds.
fn walk(address: &str) -> f64 {
    let document = "query($after: String) { readings(first: 5000, after: $after) { nodes { id temperature } pageInfo { hasNextPage endCursor } } }";
    let start = Instant::now();
    let (mut after, mut rows) = (Json::Null, 0);
    loop {
        let body = serde_json::json!({ "query": document, "variables": { "after": after } }).to_string();
        let answer: Json = serde_json::from_slice(&Load::new(address, "/graphql", KEY, &body).once()).expect("JSON");
        let page = &answer["data"]["readings"];
        rows += page["nodes"].as_array().map_or(0, Vec::len);
        after = page["pageInfo"]["endCursor"].clone();
        if page["pageInfo"]["hasNextPage"] != Json::Bool(true) {
            assert_eq!(rows, READINGS as usize, "every document was met once: {answer}");
            return start.elapsed().as_secs_f64();
        }
    }
}

/// The same by the handler, whose cursors are keys.
fn walk_by_hand(address: &str) -> f64 {
    let start = Instant::now();
    let (mut after, mut rows) = (0, 0);
    loop {
        let body = serde_json::json!({ "query": "", "variables": { "after": after } }).to_string();
        let answer: Json = serde_json::from_slice(&Load::new(address, "/walk", KEY, &body).once()).expect("JSON");
        let page = &answer["data"]["readings"];
        let nodes = page["nodes"].as_array().expect("a list");
        rows += nodes.len();
        after = nodes.last().and_then(|node| node["id"].as_i64()).unwrap_or(0);
        if page["pageInfo"]["hasNextPage"] != Json::Bool(true) {
            assert_eq!(rows, READINGS as usize);
            return start.elapsed().as_secs_f64();
        }
    }
}

/// A survey of documents of many members.
fn survey(database: &Database, folder: &Path) {
    let settings = database.settings("");
    crate::block_on(async {
        let database = puente_sources::mongodb::connect(&settings, folder).await.expect("a client");
        let wide = |row: i32| -> Document {
            (0..MEMBERS)
                .map(|member| {
                    let value = match member % 4 {
                        0 => bson::Bson::Int32(row * member),
                        1 => format!("a text of row {row}").into(),
                        2 => bson::Bson::Array(vec!["a".into(), "b".into()]),
                        _ => bson::Bson::Document(doc! { "inner": row, "day": "2026-01-31" }),
                    };
                    (format!("m{member}"), value)
                })
                .collect()
        };
        let rows: Vec<i32> = (0..READINGS).collect();
        for rows in rows.chunks(INSERTED) {
            database.collection::<Document>("wide").insert_many(rows.iter().map(|row| wide(*row))).await.expect("rows");
        }
    });
    let by_hand = crate::block_on(async {
        let database = puente_sources::mongodb::connect(&settings, folder).await.expect("a client");
        let start = Instant::now();
        look(&database.collection("wide")).await.expect("documents");
        look(&database.collection("readings")).await.expect("documents");
        start.elapsed()
    });
    let before = report::resident(std::process::id());
    let start = Instant::now();
    let surveyed = puente_sources::survey(&settings, folder).expect("a survey");
    let wide = surveyed.catalog.table("wide").expect("the collection");
    assert_eq!(wide.columns.len(), MEMBERS as usize + 1, "all members were found");
    report::line(&format!(
        "A survey with {READINGS} documents of {MEMBERS} members, 1,000 of them looked at, and of {READINGS} small ones: {} ms; reading \
         the same documents of these two and no more: {} ms; resident {before} before, {} after",
        start.elapsed().as_millis(),
        by_hand.as_millis(),
        report::resident(std::process::id())
    ));
}

/// Reads as many documents as a survey does.
async fn look(documents: &Documents) -> Result<(), mongodb::error::Error> {
    let mut first = documents.find(doc! {}).limit(100).await?;
    while first.advance().await? {}
    let mut sampled = documents.aggregate([doc! { "$sample": { "size": 900 } }]).await?;
    while sampled.advance().await? {}
    Ok(())
}

struct Shared {
    key: String,
    workers: Runtime,
    database: Collections,
}

#[derive(serde::Deserialize)]
struct Body {
    query: String,
    #[serde(default)]
    variables: Json,
}

/// Serves the handler.
pub(crate) async fn serve(folder: &ProjectFolder) {
    puente_service::logging::start();
    let workers = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().expect("threads");
    let (settings, path) = (folder.project.sources[0].clone(), folder.path.clone());
    let connecting = workers.spawn(async move { puente_sources::mongodb::connect(&settings, &path).await });
    let database = connecting.await.expect("a task").expect("a client");
    let shared = web::Data::from(Arc::new(Shared { key: format!("Bearer {KEY}"), workers, database }));
    let server = HttpServer::new(move || {
        let paths = ASKS.iter().map(|(_, path, _)| *path).chain(["/walk"]);
        paths.fold(App::new().app_data(shared.clone()), |app, path| {
            app.route(
                path,
                web::post().to(move |request: HttpRequest, shared: web::Data<Shared>, body: web::Bytes| async move {
                    answer(path, &request, &shared, &body).await
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

async fn answer(path: &'static str, request: &HttpRequest, shared: &Shared, body: &[u8]) -> HttpResponse {
    let start = Instant::now();
    if request.headers().get(AUTHORIZATION).is_none_or(|value| value.as_bytes() != shared.key.as_bytes()) {
        return HttpResponse::Unauthorized().finish();
    }
    let Ok(Body { query, variables }) = serde_json::from_slice(body) else {
        return HttpResponse::BadRequest().finish();
    };
    let database = shared.database.clone();
    let after = variables["after"].as_i64().unwrap_or(0);
    let reading = async move {
        let mut session = database.client().start_session().await.expect("a session");
        let (reports, readings) = (database.collection("reports"), database.collection("readings"));
        match path {
            "/key" => by_key(&reports, &mut session).await,
            "/page" => page(&database.collection("samples"), &mut session).await,
            "/nested" => nested(&reports, &mut session).await,
            "/filtered" => filtered("samples", &database, &mut session).await,
            "/drafts" => filtered("drafts", &database, &mut session).await,
            _ => next(&readings, &mut session, after).await,
        }
    };
    let body = shared.workers.spawn(reading).await.expect("an answer").expect("it runs");
    tracing::info!(
        target: "floor", request = query.len(), role = "owner", operation = "", outcome = "ok",
        ms = start.elapsed().as_secs_f64() * 1_000.0, "ask"
    );
    HttpResponse::Ok().content_type("application/graphql-response+json").body(body)
}

type Read = Result<Vec<u8>, mongodb::error::Error>;
type Documents = Collection<RawDocumentBuf>;

fn number(out: &mut Vec<u8>, value: Option<RawBsonRef<'_>>) {
    match value {
        Some(RawBsonRef::Int32(value)) => integer(out, value.into()),
        Some(RawBsonRef::Int64(value)) => integer(out, value),
        Some(RawBsonRef::Double(value)) => {
            out.extend_from_slice(serde_json::Number::from_f64(value).expect("finite").to_string().as_bytes());
        }
        _ => out.extend_from_slice(b"null"),
    }
}

fn text(out: &mut Vec<u8>, document: &RawDocument, name: &str) {
    nullable(out, document.get_str(name).ok());
}

fn instant(out: &mut Vec<u8>, document: &RawDocument, name: &str) {
    string(
        out,
        &document.get_datetime(name).expect("an instant").try_to_rfc3339_string().expect("a year of four digits"),
    );
}

fn member<'d>(document: &'d RawDocument, name: &str) -> Option<RawBsonRef<'d>> {
    document.get(name).expect("BSON")
}

async fn by_key(reports: &Documents, session: &mut ClientSession) -> Read {
    let id = ObjectId::parse_str(REPORT).expect("an identifier");
    let find =
        reports.find(doc! { "_id": id }).projection(doc! { "kind": 1, "severity": 1, "at": 1, "_id": 0 }).limit(1);
    let mut cursor = find.session(&mut *session).await?;
    cursor.advance(session).await?;
    let report = cursor.current();
    let mut out = b"{\"data\":{\"report\":{\"kind\":".to_vec();
    text(&mut out, report, "kind");
    out.extend_from_slice(b",\"severity\":");
    number(&mut out, member(report, "severity"));
    out.extend_from_slice(b",\"at\":");
    instant(&mut out, report, "at");
    out.extend_from_slice(b"}}}");
    Ok(out)
}

async fn page(samples: &Documents, session: &mut ClientSession) -> Read {
    let projection = doc! { "station": 1, "temperature": 1, "takenAt": 1 };
    let find = samples.find(doc! {}).projection(projection).sort(doc! { "_id": 1 }).limit(50);
    let mut cursor = find.session(&mut *session).await?;
    let mut out = b"{\"data\":{\"samples\":{\"nodes\":[".to_vec();
    let mut first = true;
    while cursor.advance(session).await? {
        let reading = cursor.current();
        separate(&mut out, &mut first);
        for (at, name) in ["_id", "station", "temperature"].iter().enumerate() {
            out.extend_from_slice([&b"{\"id\":"[..], b",\"station\":", b",\"temperature\":"][at]);
            number(&mut out, member(reading, name));
        }
        out.extend_from_slice(b",\"takenAt\":");
        instant(&mut out, reading, "takenAt");
        out.push(b'}');
    }
    out.extend_from_slice(b"]}}}");
    Ok(out)
}

async fn filtered(name: &str, database: &Collections, session: &mut ClientSession) -> Read {
    let filter = doc! { "station": 7, "temperature": { "$gt": 10.0 } };
    let collection: Documents = database.collection(name);
    let find = collection.find(filter).projection(doc! { "temperature": 1 }).sort(doc! { "_id": 1 }).limit(50);
    let mut cursor = find.session(&mut *session).await?;
    let mut out = format!("{{\"data\":{{\"{name}\":{{\"nodes\":[").into_bytes();
    pairs(&mut cursor, session, &mut out).await?;
    out.extend_from_slice(b"]}}}");
    Ok(out)
}

/// The identifier and the temperature of what is left of some readings.
async fn pairs(
    cursor: &mut mongodb::SessionCursor<RawDocumentBuf>,
    session: &mut ClientSession,
    out: &mut Vec<u8>,
) -> Result<i64, mongodb::error::Error> {
    let (mut first, mut count) = (true, 0);
    while cursor.advance(session).await? {
        count += 1;
        if count > PAGE {
            break;
        }
        let reading = cursor.current();
        separate(out, &mut first);
        out.extend_from_slice(b"{\"id\":");
        number(out, member(reading, "_id"));
        out.extend_from_slice(b",\"temperature\":");
        number(out, member(reading, "temperature"));
        out.push(b'}');
    }
    Ok(count)
}

async fn next(readings: &Documents, session: &mut ClientSession, after: i64) -> Read {
    let filter = doc! { "_id": { "$gt": after } };
    let find = readings.find(filter).projection(doc! { "temperature": 1 }).sort(doc! { "_id": 1 }).limit(PAGE + 1);
    let mut cursor = find.session(&mut *session).await?;
    let mut out = b"{\"data\":{\"readings\":{\"nodes\":[".to_vec();
    let count = pairs(&mut cursor, session, &mut out).await?;
    out.extend_from_slice(format!("],\"pageInfo\":{{\"hasNextPage\":{}}}}}}}}}", count > PAGE).as_bytes());
    Ok(out)
}

async fn nested(reports: &Documents, session: &mut ClientSession) -> Read {
    let projection = doc! {
        "kind": 1, "weather.snow": 1, "weather.wind.from": 1, "weather.wind.gusts": 1, "crew": 1, "steps": 1, "_id": 0,
    };
    let find = reports.find(doc! {}).projection(projection).sort(doc! { "_id": 1 }).limit(20);
    let mut cursor = find.session(&mut *session).await?;
    let mut out = b"{\"data\":{\"reports\":{\"nodes\":[".to_vec();
    let mut first = true;
    while cursor.advance(session).await? {
        let report = cursor.current();
        separate(&mut out, &mut first);
        out.extend_from_slice(b"{\"kind\":");
        text(&mut out, report, "kind");
        out.extend_from_slice(b",\"weather\":");
        match report.get_document("weather") {
            Err(_) => out.extend_from_slice(b"null"),
            Ok(weather) => {
                out.extend_from_slice(b"{\"snow\":");
                number(&mut out, member(weather, "snow"));
                let wind = weather.get_document("wind").expect("a wind");
                out.extend_from_slice(b",\"wind\":{\"from\":");
                text(&mut out, wind, "from");
                out.extend_from_slice(b",\"gusts\":");
                number(&mut out, member(wind, "gusts"));
                out.extend_from_slice(b"}}");
            }
        }
        out.extend_from_slice(b",\"crew\":[");
        let mut first_member = true;
        for one in report.get_array("crew").expect("a crew") {
            let one = one?;
            let one = one.as_document().expect("a member");
            separate(&mut out, &mut first_member);
            out.extend_from_slice(b"{\"memberId\":");
            text(&mut out, one, "memberId");
            out.extend_from_slice(b",\"role\":");
            text(&mut out, one, "role");
            out.extend_from_slice(b",\"hours\":");
            number(&mut out, member(one, "hours"));
            out.push(b'}');
        }
        out.extend_from_slice(b"],\"steps\":[");
        let mut first_step = true;
        for step in report.get_array("steps").expect("steps") {
            let step = step?;
            let step = step.as_document().expect("a step");
            separate(&mut out, &mut first_step);
            out.extend_from_slice(b"{\"at\":");
            instant(&mut out, step, "at");
            out.extend_from_slice(b",\"text\":");
            text(&mut out, step, "text");
            out.push(b'}');
        }
        out.extend_from_slice(b"]}");
    }
    out.extend_from_slice(b"]}}}");
    Ok(out)
}
