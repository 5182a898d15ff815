//! Ten thousand rows in one mutation, against the driver's own bulk insert into the same table: what the way through
//! GraphQL costs. Each round inserts rows of its own and takes them away again.

use std::time::Instant;

use futures_util::SinkExt as _;
use mysql_async::prelude::Queryable as _;
use puente_core::catalog::Engine;
use puente_core::project::SourceSettings;
use rusqlite::Connection;

use crate::driver::Load;
use crate::report;

const ROWS: usize = 10_000;
const ROUNDS: usize = 5;
/// Where the rows of the bench begin; the demo's readings end before.
const FIRST: usize = 1_000_000;

pub(crate) fn measure(engine: Engine, settings: &SourceSettings, folder: &std::path::Path, address: &str, key: &str) {
    let inputs: Vec<_> = (0..ROWS).map(input).collect();
    let document = "mutation($inputs: [WeatherReadingCreate!]!) { createWeatherReadings(inputs: $inputs) { count } }";
    let body = serde_json::json!({ "query": document, "variables": { "inputs": inputs } }).to_string();
    let load = Load::new(address, "/graphql", key, &body);
    let statements = load.statements();
    take_away(engine, settings, folder);
    let (mut ours, mut theirs) = (Vec::new(), Vec::new());
    for _ in 0..ROUNDS {
        let start = Instant::now();
        let answer = load.once();
        ours.push(rate(start));
        assert_eq!(
            String::from_utf8_lossy(&answer),
            format!("{{\"data\":{{\"createWeatherReadings\":{{\"count\":{ROWS}}}}}}}")
        );
        take_away(engine, settings, folder);
        let start = Instant::now();
        match engine {
            Engine::Sqlite => by_prepared_statement(folder),
            Engine::Postgres => block_on(by_copy(settings, folder)),
            Engine::Mariadb => block_on(by_long_inserts(settings, folder)),
            Engine::Mongodb => panic!("documents are measured by themselves"),
        }
        theirs.push(rate(start));
        take_away(engine, settings, folder);
    }
    report::inserts(ROWS, body.len(), statements, &ours, &theirs);
}

#[expect(clippy::cast_precision_loss, reason = "a count far below 2^52")]
fn rate(start: Instant) -> f64 {
    ROWS as f64 / start.elapsed().as_secs_f64()
}

fn input(at: usize) -> serde_json::Value {
    serde_json::json!({
        "id": FIRST + at, "hutId": 1 + at % 60, "takenAt": "2026-01-31T10:00:00", "temperature": 1.5, "windKmh": at % 90,
        "rawCounter": at.to_string()
    })
}

/// The same rows as text, one per line, columns parted by tabs.
fn line(at: usize) -> String {
    format!("{}\t{}\t2026-01-31 10:00:00\t1.5\t{}\t{at}\n", FIRST + at, 1 + at % 60, at % 90)
}

const COLUMNS: &str = "id, hut_id, taken_at, temperature, wind_kmh, raw_counter";

fn by_prepared_statement(folder: &std::path::Path) {
    let mut connection = Connection::open(folder.join(puente_demo::DATABASE)).expect("the database");
    connection.pragma_update(None, "foreign_keys", true).expect("a setting");
    let transaction = connection.transaction().expect("a transaction");
    {
        let text = format!("insert into weather_readings ({COLUMNS}) values (?, ?, '2026-01-31 10:00:00', 1.5, ?, ?)");
        let mut insert = transaction.prepare(&text).expect("a statement");
        for at in 0..ROWS {
            let values = [FIRST + at, 1 + at % 60, at % 90, at].map(|value| i64::try_from(value).expect("small"));
            insert.execute(values).expect("a row");
        }
    }
    transaction.commit().expect("a commit");
}

async fn by_copy(settings: &SourceSettings, folder: &std::path::Path) {
    let client = puente_sources::postgres::connect(settings, folder).await.expect("a session");
    let copy = format!("copy weather_readings ({COLUMNS}) from stdin");
    let sink = client.copy_in::<_, bytes::Bytes>(&copy).await.expect("a copy");
    let mut sink = std::pin::pin!(sink);
    let text: String = (0..ROWS).map(line).collect();
    sink.send(text.into()).await.expect("it reads");
    sink.close().await.expect("it takes them");
}

async fn by_long_inserts(settings: &SourceSettings, folder: &std::path::Path) {
    const CHUNK: usize = 1_000;
    let mut session = puente_sources::mariadb::connect(settings, folder).await.expect("a session");
    session.query_drop("start transaction").await.expect("a transaction");
    let values = vec!["(?, ?, '2026-01-31 10:00:00', 1.5, ?, ?)"; CHUNK].join(", ");
    let text = format!("insert into weather_readings ({COLUMNS}) values {values}");
    for chunk in 0..ROWS / CHUNK {
        let row = |at: usize| [FIRST + at, 1 + at % 60, at % 90, at].map(mysql_async::Value::from);
        let values: Vec<mysql_async::Value> = (chunk * CHUNK..(chunk + 1) * CHUNK).flat_map(row).collect();
        session.exec_drop(&text, values).await.expect("rows");
    }
    session.query_drop("commit").await.expect("a commit");
    session.disconnect().await.expect("a goodbye");
}

fn take_away(engine: Engine, settings: &SourceSettings, folder: &std::path::Path) {
    let text = format!("delete from weather_readings where id >= {FIRST}");
    match engine {
        Engine::Sqlite => {
            let connection = Connection::open(folder.join(puente_demo::DATABASE)).expect("the database");
            connection.execute(&text, []).expect("they go");
        }
        Engine::Postgres => block_on(async {
            let client = puente_sources::postgres::connect(settings, folder).await.expect("a session");
            client.batch_execute(&text).await.expect("they go");
        }),
        Engine::Mariadb => block_on(async {
            let mut session = puente_sources::mariadb::connect(settings, folder).await.expect("a session");
            session.query_drop(&text).await.expect("they go");
            session.disconnect().await.expect("a goodbye");
        }),
        Engine::Mongodb => panic!("documents are measured by themselves"),
    }
}

fn block_on(work: impl Future<Output = ()>) {
    tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime").block_on(work);
}
