//! Puente against two rivals in the same run, on the same database and the same data: the floor, an Actix handler with
//! the best hand-written statement and JSON for exactly one request; and the hand-written server, a general GraphQL server
//! library with batched loaders.
//!
//! Each server is a process of its own, so that its CPU can be told from the driver's. See bench/README.md.

mod asks;
mod catalog;
mod documents;
mod driver;
mod far_side;
mod floor;
mod handwritten;
mod inserts;
mod report;
mod shapes;
mod two_sources;
mod unindexed;

use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::Arc;

use puente_core::catalog::Engine;
use puente_core::project::Limits;
use puente_service::{AccessKeys, Api, ApiOptions, Metrics, NewKey, ProjectFolder, ServeOptions, Served};
use puente_testkit::database::Database;

use asks::Ask;
use driver::{Load, Measured};

/// The key that all servers check.
const KEY: &str = "the-key-of-the-bench";
/// Reading threads on SQLite; a database server gets four times as many sessions.
const READERS: usize = 2;
/// Rounds of each pair; the median counts.
const ROUNDS: usize = 9;
/// Rounds against the commit before, which differs by less.
const ROUNDS_AGAINST: usize = 21;

fn main() {
    // For all servers the same as in the command.
    puente_allocator::give_back_soon();
    let arguments: Vec<String> = std::env::args().collect();
    let open = |folder: &str| ProjectFolder::open(Path::new(folder)).expect("a project");
    match arguments.iter().map(String::as_str).collect::<Vec<_>>().as_slice() {
        [_, "serve-puente", folder] => block_on(serve_puente(open(folder))),
        [_, "serve-floor", folder] => block_on(async { floor::serve(&open(folder), KEY).await }),
        [_, "serve-handwritten", folder] => block_on(async { handwritten::serve(&open(folder), KEY).await }),
        [_, "serve-documents", folder] => block_on(async { documents::serve(&open(folder)).await }),
        [_, "serve-two", folder] => block_on(async { two_sources::serve(&open(folder)).await }),
        [_, "against", before, engines @ ..] => measure_against(before, engines),
        [_, engines @ ..] => measure(engines),
        [] => {}
    }
}

fn block_on<T>(future: impl Future<Output = T>) -> T {
    tokio::runtime::Builder::new_multi_thread()
        .enable_all()
        .worker_threads(2)
        .build()
        .expect("a runtime")
        .block_on(future)
}

async fn serve_puente(folder: ProjectFolder) {
    puente_service::logging::start();
    let options = folder.api_options(vec![7; 32], &|_| None).expect("an API");
    // Ten thousand rows in one mutation are a body of over a megabyte.
    let limits = Limits { body_bytes: 16 << 20, ..options.limits };
    let options = ApiOptions { limits, ..options };
    let api = Arc::new(Api::new(options, Arc::new(Metrics::default())));
    let access_keys = folder.private_folder().expect("a folder").join("records.db");
    let options = ServeOptions {
        listen: "localhost:0".parse().expect("an address"),
        hosts: Vec::new(),
        origins: Vec::new(),
        owner_key: Some(KEY.to_owned()),
        workers: Some(2),
        folder: folder.clone(),
        development: false,
        surveyed: None,
        tls: None,
        drain: std::time::Duration::ZERO,
        metrics_listen: None,
        look_for_drift: None,
    };
    let access_keys = Arc::new(AccessKeys::open(&access_keys).expect("access keys"));
    let served = Served { api, identity: folder.identity(false).expect("identities") };
    let running = puente_service::serve(served, access_keys, options).await.expect("it starts");
    report::line(&format!("listening {}", running.bound));
    std::future::pending::<()>().await;
}

/// A server in a process of its own; killed when dropped.
struct Server {
    child: Child,
    address: String,
}

impl Server {
    fn start(kind: &str, folder: &Path) -> Server {
        Server::start_of(&std::env::current_exe().expect("our own path"), kind, folder)
    }

    /// One that a bench of perhaps another commit starts.
    fn start_of(bench: &Path, kind: &str, folder: &Path) -> Server {
        use std::io::BufRead as _;
        let mut child = Command::new(bench)
            .args([kind, folder.to_str().expect("a path in UTF-8")])
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .expect("it starts");
        let out = child.stdout.take().expect("its output");
        let mut line = String::new();
        std::io::BufReader::new(out).read_line(&mut line).expect("its address");
        let address = line.trim().trim_start_matches("listening ").to_owned();
        assert!(!address.is_empty(), "{} {kind} does not start on {}", bench.display(), folder.display());
        Server { child, address }
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// What is measured by itself.
const PARTS: [&str; 8] = ["sqlite", "postgres", "mariadb", "mongodb", "catalog", "sources", "unindexed", "shapes"];

/// Measures on the engines that are named, or on all; where words are given beside them, the requests with one of them in their name
/// alone.
fn measure(engines: &[&str]) {
    let (parts, words): (Vec<&str>, Vec<&str>) = engines.iter().partition(|name| PARTS.contains(name));
    let wanted = |name: &str| parts.is_empty() || parts.contains(&name);
    for (name, engine) in [("sqlite", Engine::Sqlite), ("postgres", Engine::Postgres), ("mariadb", Engine::Mariadb)] {
        if wanted(name) {
            measure_engine(name, engine, &words);
        }
    }
    if !words.is_empty() {
        return;
    }
    if wanted("mongodb") {
        documents::measure();
    }
    if wanted("catalog") {
        catalog::measure();
    }
    if wanted("sources") {
        two_sources::measure();
    }
    if wanted("far-side") {
        far_side::measure();
    }
    if wanted("unindexed") {
        unindexed::measure();
    }
    if wanted("shapes") {
        shapes::measure();
    }
}

/// Measures this commit against the bench of another, in the same run, on the engines that are named, or on all.
fn measure_against(before: &str, engines: &[&str]) {
    for (name, engine) in [("sqlite", Engine::Sqlite), ("postgres", Engine::Postgres), ("mariadb", Engine::Mariadb)] {
        if !engines.is_empty() && !engines.contains(&name) {
            continue;
        }
        let database = Database::empty(engine);
        let temporary = puente_testkit::leftovers::folder();
        let warden = prepare(&database, temporary.path());
        as_earlier_commits_read_it(temporary.path());
        let now = Server::start("serve-puente", temporary.path());
        let then = Server::start_of(Path::new(before), "serve-puente", temporary.path());
        report::head(name, "commit before", ROUNDS_AGAINST);
        for ask in Ask::ALL {
            let body = serde_json::json!({ "query": ask.document() }).to_string();
            let key = if ask == Ask::AsWarden { &warden } else { KEY };
            let ours = Load::new(&now.address, "/graphql", key, &body);
            let theirs = Load::new(&then.address, "/graphql", key, &body);
            compare(ask.name(), (&ours, now.child.id()), (&theirs, then.child.id()), engine, ROUNDS_AGAINST);
        }
    }
}

fn survey_file(folder: &ProjectFolder) -> std::path::PathBuf {
    folder.survey_file(&folder.project.sources[0])
}

/// Makes the survey file one that earlier commits read: every type has a name, also where the project file gives it one, and there is
/// nothing in it that they do not know.
fn as_earlier_commits_read_it(folder: &Path) {
    let file = survey_file(&ProjectFolder::open(folder).expect("a project"));
    let text = std::fs::read_to_string(&file).expect("a survey file");
    let mut survey: serde_json::Value = serde_json::from_str(&text).expect("JSON");
    survey.as_object_mut().expect("an object").remove("fingerprint");
    let types = survey["names"]["types"].as_object_mut().expect("names");
    for (table, names) in types {
        for name in ["name", "one", "list"] {
            if names.get(name).is_none() {
                names[name] = format!("{table}{name}").into();
            }
        }
    }
    std::fs::write(&file, survey.to_string()).expect("a survey file");
}

/// Fills a database and makes a project of it in a folder; gives the key of a warden.
fn prepare(database: &Database, folder: &Path) -> String {
    let engine = database.engine;
    match engine {
        Engine::Sqlite => {
            puente_demo::write_huts(folder, None).expect("the demo");
        }
        Engine::Postgres | Engine::Mariadb | Engine::Mongodb => {
            puente_demo::write_huts(folder, Some(&database.url)).expect("a project");
            let load = async { puente_demo::load(&database.settings(""), folder).await.expect("the huts") };
            block_on(load);
        }
    }
    match engine {
        Engine::Sqlite => {
            let index = "create index incidents_snow on incidents (report ->> '$.weather.snow')";
            rusqlite::Connection::open(folder.join(puente_demo::DATABASE))
                .and_then(|database| database.execute_batch(index))
                .expect("an index");
        }
        Engine::Postgres => {
            let member = "(report -> 'weather' ->> 'snow')::numeric";
            database.execute(&format!("create index incidents_snow on incidents (({member}));\nanalyze incidents;\n"));
        }
        // No index is on an expression there.
        Engine::Mariadb | Engine::Mongodb => {}
    }
    let warden = add_warden(folder);
    puente_service::survey(&ProjectFolder::open(folder).expect("a project"), None).expect("a survey");
    warden
}

fn measure_engine(name: &str, engine: Engine, words: &[&str]) {
    let database = Database::empty(engine);
    let temporary = puente_testkit::leftovers::folder();
    let folder = temporary.path();
    let warden = prepare(&database, folder);
    let puente = Server::start("serve-puente", folder);
    let floor = Server::start("serve-floor", folder);
    report::head(name, "floor", ROUNDS);
    let is_named = |ask: &Ask| words.is_empty() || words.iter().any(|word| ask.name().contains(word));
    for ask in Ask::ALL.into_iter().filter(is_named) {
        let body = serde_json::json!({ "query": ask.document() }).to_string();
        let key = if ask == Ask::AsWarden { &warden } else { KEY };
        let ours = Load::new(&puente.address, "/graphql", key, &body);
        let theirs = Load::new(&floor.address, &ask.path(), KEY, &body);
        compare(ask.name(), (&ours, puente.child.id()), (&theirs, floor.child.id()), engine, ROUNDS);
    }
    drop(floor);
    if !words.is_empty() {
        return;
    }
    if engine == Engine::Postgres {
        let rival = Server::start("serve-handwritten", folder);
        report::head(name, "hand-written server", ROUNDS);
        for ask in [Ask::ByKey, Ask::ThreeLevels] {
            let body = serde_json::json!({ "query": ask.document() }).to_string();
            let ours = Load::new(&puente.address, "/graphql", KEY, &body);
            let theirs = Load::new(&rival.address, "/graphql", KEY, &body);
            compare(ask.name(), (&ours, puente.child.id()), (&theirs, rival.child.id()), engine, ROUNDS);
        }
    }
    report::walk(&driver::walk(&puente.address, KEY));
    inserts::measure(engine, &database.settings(""), folder, &puente.address, KEY);
    report::memory(puente.child.id());
}

/// Adds the grants of a warden to the project, and gives an access key that asks as one.
fn add_warden(folder: &Path) -> String {
    let file = folder.join(puente_core::project::FILE);
    let text = std::fs::read_to_string(&file).expect("a project file");
    std::fs::write(&file, text + asks::ROLES).expect("a project file");
    let private = ProjectFolder::open(folder).expect("a project").private_folder().expect("a folder");
    let access_keys = AccessKeys::open(&private.join("records.db")).expect("access keys");
    let claims = serde_json::json!({ "sub": asks::WARDEN }).as_object().cloned().expect("an object");
    let new = NewKey { name: "warden", role: "bench", claims, ..NewKey::default() };
    access_keys.create_key(&new).expect("a key")
}

fn compare(name: &str, (ours, our_id): (&Load, u32), (theirs, their_id): (&Load, u32), engine: Engine, rounds: usize) {
    let (answer, expected) = (ours.once(), theirs.once());
    let told = || (String::from_utf8_lossy(&answer).into_owned(), String::from_utf8_lossy(&expected).into_owned());
    assert!(answer == expected, "both answer the same bytes: {:#?}", told());
    let statements = ours.statements();
    let database = driver::database_processes(engine);
    // A round that does not count: caches fill, plans settle.
    ours.warm_up();
    theirs.warm_up();
    let rounds: Vec<(Measured, Measured)> = (0..rounds)
        .map(|round| {
            // Whoever comes second finds the machine as the first left it: they take turns.
            if round % 2 == 0 {
                let ours = ours.run(our_id, &database);
                (ours, theirs.run(their_id, &database))
            } else {
                let theirs = theirs.run(their_id, &database);
                (ours.run(our_id, &database), theirs)
            }
        })
        .collect();
    report::ask(name, answer.len(), statements, &rounds);
}
