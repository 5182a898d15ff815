//! One request over two databases, huts with their callouts, against a handler that does the same by hand with two statements on the
//! same drivers and threads.

use std::path::Path;
use std::sync::Arc;

use actix_web::http::header::AUTHORIZATION;
use actix_web::{App, HttpRequest, HttpResponse, HttpServer, web};
use deadpool_postgres::{Manager, ManagerConfig, Pool, RecyclingMethod, Runtime};
use puente_core::catalog::Engine;
use puente_service::ProjectFolder;
use puente_testkit::database::Database;
use rusqlite::{Connection, OpenFlags};
use tokio::sync::oneshot;
use tokio_postgres::NoTls;

use crate::driver::Load;
use crate::floor::json::{integer, nullable, separate, string};
use crate::{KEY, READERS, ROUNDS, Server, compare, report};

const DOCUMENT: &str =
    "{ huts(first: 20) { nodes { name callouts(first: 10) { nodes { kind severity calledAt } } } } }";
const HUTS: &str = "select code, name from huts order by id limit 20";
const CALLOUTS: &str = "select k.key, c.kind, c.severity, c.called_at from json_each(?) as k join callouts as c
      on c.id in (select x.id from callouts as x where x.hut_code = k.value order by x.id limit 10)
    order by k.key, c.id";
/// The same by numbering all of a hut's callouts, which is how most would write it.
const NUMBERED: &str = "select o, kind, severity, called_at from (
      select k.key as o, c.kind, c.severity, c.called_at, row_number() over (partition by k.key order by c.id) as n
      from json_each(?) as k join callouts as c on c.hut_code = k.value)
    where n <= 10 order by o, n";

/// Measures it with the huts in a file and on a server.
pub(crate) fn measure() {
    for (name, engine) in [("two files", Engine::Sqlite), ("PostgreSQL and a file", Engine::Postgres)] {
        let database = Database::empty(engine);
        let temporary = puente_testkit::leftovers::folder();
        let folder = temporary.path();
        match engine {
            Engine::Sqlite | Engine::Mariadb | Engine::Mongodb => puente_demo::write(folder).expect("the demo"),
            Engine::Postgres => {
                puente_demo::write_at(folder, &database.url).expect("the demo");
                let load = async { puente_demo::load(&database.settings(""), folder).await.expect("the huts") };
                crate::block_on(load);
            }
        }
        puente_service::survey(&ProjectFolder::open(folder).expect("a project"), None).expect("a survey");
        let puente = Server::start("serve-puente", folder);
        let floor = Server::start("serve-two", folder);
        report::head(name, "handler by hand, two statements", ROUNDS);
        let body = serde_json::json!({ "query": DOCUMENT }).to_string();
        let ours = Load::new(&puente.address, "/graphql", KEY, &body);
        for (name, path) in [("two sources, limited by key", "/limited"), ("two sources, numbered", "/numbered")] {
            let theirs = Load::new(&floor.address, path, KEY, &body);
            compare(name, (&ours, puente.child.id()), (&theirs, floor.child.id()), engine, ROUNDS);
        }
    }
}

/// Code and name of each hut.
type Huts = Vec<(String, String)>;
type Work = Box<dyn FnOnce(&Connection) + Send>;

/// Reading threads of a file.
struct Readers(flume::Sender<Work>);

impl Readers {
    fn start(file: &Path) -> Self {
        let (jobs, queue) = flume::bounded::<Work>(1_024);
        for _ in 0..READERS {
            let (queue, file) = (queue.clone(), file.to_owned());
            std::thread::spawn(move || {
                let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX;
                let connection = Connection::open_with_flags(file, flags).expect("the database");
                while let Ok(work) = queue.recv() {
                    work(&connection);
                }
            });
        }
        Readers(jobs)
    }

    async fn read<T: Send + 'static>(
        &self,
        work: impl FnOnce(&Connection) -> rusqlite::Result<T> + Send + 'static,
    ) -> T {
        let (reply, answer) = oneshot::channel();
        let work: Work = Box::new(move |connection| drop(reply.send(work(connection).expect("it runs"))));
        self.0.send(work).expect("somebody works");
        answer.await.expect("an answer")
    }
}

enum HutsDatabase {
    File(Readers),
    Server(Pool, tokio::runtime::Runtime),
}

impl HutsDatabase {
    async fn huts(&self) -> Huts {
        match self {
            HutsDatabase::File(readers) => {
                let read = |connection: &Connection| {
                    let mut statement = connection.prepare_cached(HUTS)?;
                    statement.query_map([], |row| Ok((row.get(0)?, row.get(1)?)))?.collect()
                };
                readers.read(read).await
            }
            HutsDatabase::Server(pool, workers) => {
                let pool = pool.clone();
                let read = async move {
                    let client = pool.get().await.expect("a session");
                    let statement = client.prepare_cached(HUTS).await.expect("it is prepared");
                    let rows = client.query(&statement, &[]).await.expect("it runs");
                    rows.iter().map(|row| (row.get(0), row.get(1))).collect()
                };
                workers.spawn(read).await.expect("an answer")
            }
        }
    }
}

struct Shared {
    key: String,
    huts: HutsDatabase,
    log: Readers,
}

#[derive(serde::Deserialize)]
struct Body {
    query: String,
}

/// Serves the handler.
pub(crate) async fn serve(folder: &ProjectFolder) {
    puente_service::logging::start();
    let source = &folder.project.sources[0];
    let huts = match source.engine {
        Engine::Sqlite => HutsDatabase::File(Readers::start(&folder.path.join(puente_demo::DATABASE))),
        Engine::Postgres | Engine::Mariadb | Engine::Mongodb => {
            let config: tokio_postgres::Config = source.url.0.parse().expect("an address");
            let manager =
                Manager::from_config(config, NoTls, ManagerConfig { recycling_method: RecyclingMethod::Fast });
            let pool = Pool::builder(manager).max_size(READERS * 4).runtime(Runtime::Tokio1).build().expect("a pool");
            let workers = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build();
            HutsDatabase::Server(pool, workers.expect("threads"))
        }
    };
    let log = Readers::start(&folder.path.join(puente_demo::RESCUE_DATABASE));
    let shared = web::Data::from(Arc::new(Shared { key: format!("Bearer {KEY}"), huts, log }));
    let server = HttpServer::new(move || {
        [("/limited", CALLOUTS), ("/numbered", NUMBERED)].into_iter().fold(
            App::new().app_data(shared.clone()),
            |app, (path, callouts)| {
                app.route(
                    path,
                    web::post().to(
                        move |request: HttpRequest, shared: web::Data<Shared>, body: web::Bytes| async move {
                            answer(callouts, &request, &shared, &body).await
                        },
                    ),
                )
            },
        )
    })
    .workers(2)
    .bind("127.0.0.1:0")
    .expect("a free port");
    report::line(&format!("listening {}", server.addrs()[0]));
    server.run().await.expect("it runs");
}

async fn answer(callouts: &'static str, request: &HttpRequest, shared: &Shared, body: &[u8]) -> HttpResponse {
    let start = std::time::Instant::now();
    if request.headers().get(AUTHORIZATION).is_none_or(|value| value.as_bytes() != shared.key.as_bytes()) {
        return HttpResponse::Unauthorized().finish();
    }
    let Ok(Body { query }) = serde_json::from_slice(body) else { return HttpResponse::BadRequest().finish() };
    let huts = shared.huts.huts().await;
    let codes: Vec<&String> = huts.iter().map(|(code, _)| code).collect();
    let codes = serde_json::to_string(&codes).expect("JSON");
    let body = shared.log.read(move |log| write(log, callouts, &huts, &codes)).await;
    tracing::info!(
        target: "floor", request = query.len(), role = "owner", operation = "", outcome = "ok",
        ms = start.elapsed().as_secs_f64() * 1_000.0, "ask"
    );
    HttpResponse::Ok().content_type("application/graphql-response+json").body(body)
}

fn write(log: &Connection, callouts: &str, huts: &Huts, codes: &str) -> rusqlite::Result<Vec<u8>> {
    let mut statement = log.prepare_cached(callouts)?;
    statement.raw_bind_parameter(1, codes)?;
    let mut rows = statement.raw_query();
    let mut out = Vec::with_capacity(16 << 10);
    out.extend_from_slice(b"{\"data\":{\"huts\":{\"nodes\":[");
    let mut first = true;
    let mut row = rows.next()?;
    for (at, (_, name)) in (0_i64..).zip(huts) {
        separate(&mut out, &mut first);
        out.extend_from_slice(b"{\"name\":");
        string(&mut out, name);
        out.extend_from_slice(b",\"callouts\":{\"nodes\":[");
        let mut first = true;
        while let Some(callout) = row.filter(|row| row.get_ref(0).is_ok_and(|o| o.as_i64() == Ok(at))) {
            separate(&mut out, &mut first);
            out.extend_from_slice(b"{\"kind\":");
            string(&mut out, &callout.get_ref(1)?.as_str()?.to_ascii_uppercase().replace(' ', "_"));
            out.extend_from_slice(b",\"severity\":");
            integer(&mut out, callout.get_ref(2)?.as_i64()?);
            out.extend_from_slice(b",\"calledAt\":");
            nullable(&mut out, Some(&callout.get_ref(3)?.as_str()?.replace(' ', "T")));
            out.push(b'}');
            row = rows.next()?;
        }
        out.extend_from_slice(b"]}}");
    }
    out.extend_from_slice(b"]}}}");
    Ok(out)
}
