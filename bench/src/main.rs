//! Puente against the floor: the same asks, database, key check, log line and pool, in the same run.
//!
//! Each server is a process of its own, so that its CPU can be told from the driver's. See bench/README.md.

mod driver;
mod floor;
mod report;

use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;

use puente_service::{Api, ApiOptions, Metrics, ProjectFolder, Records, ServeOptions};

use driver::{Load, Measured};

/// The key that both servers check.
const KEY: &str = "the-key-of-the-bench";
/// Readers of either pool.
const READERS: usize = 2;
/// Rounds of each pair; the median counts.
const ROUNDS: usize = 5;

/// The asks: what Puente is asked, and the path of the floor's handler for exactly this ask.
const ASKS: [(&str, &str, &str); 2] = [
    (
        "three levels",
        "{ huts(first: 20) { nodes { name region { name } bookings(first: 10) { nodes { startsOn hiker { name } } } } } }",
        "/three-levels",
    ),
    ("by key", "{ hut(key: { id: 7 }) { name altitude code } }", "/by-key"),
];

fn main() {
    let arguments: Vec<String> = std::env::args().collect();
    match arguments.iter().map(String::as_str).collect::<Vec<_>>().as_slice() {
        [_, "serve-puente", folder] => block_on(serve_puente(Path::new(folder))),
        [_, "serve-floor", folder] => block_on(floor::serve(Path::new(folder), KEY, READERS)),
        _ => measure(),
    }
}

fn block_on(future: impl Future<Output = ()>) {
    tokio::runtime::Builder::new_multi_thread()
        .enable_all()
        .worker_threads(2)
        .build()
        .expect("a runtime")
        .block_on(future);
}

async fn serve_puente(folder: &Path) {
    puente_service::logging::start();
    let folder = ProjectFolder::open(folder).expect("a project");
    let options = ApiOptions {
        model: folder.model().expect("a model"),
        limits: folder.project.limits,
        secret: vec![7; 32],
        source: folder.source().expect("a source"),
    };
    let api = Arc::new(Api::new(options, Arc::new(Metrics::default())));
    let records = folder.private_folder().expect("a folder").join("records.db");
    let options = ServeOptions {
        listen: "127.0.0.1:0".parse().expect("an address"),
        hosts: Vec::new(),
        origins: Vec::new(),
        owner_key: Some(KEY.to_owned()),
        workers: Some(2),
    };
    let records = Arc::new(Records::open(&records).expect("records"));
    let running = puente_service::serve(api, records, options).await.expect("it starts");
    report::line(&format!("listening {}", running.address));
    std::future::pending::<()>().await;
}

/// A server in a process of its own; killed when dropped.
struct Server {
    child: Child,
    address: String,
}

impl Server {
    fn start(kind: &str, folder: &Path) -> Server {
        use std::io::BufRead as _;
        let mut child = Command::new(std::env::current_exe().expect("our own path"))
            .args([kind, folder.to_str().expect("a path in UTF-8")])
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .expect("it starts");
        let out = child.stdout.take().expect("its output");
        let mut line = String::new();
        std::io::BufReader::new(out).read_line(&mut line).expect("its address");
        let address = line.trim().trim_start_matches("listening ").to_owned();
        Server { child, address }
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn measure() {
    let temporary = tempfile::tempdir().expect("a folder");
    let folder: PathBuf = temporary.path().to_owned();
    puente_demo::write(&folder).expect("the demo");
    puente_service::survey(&ProjectFolder::open(&folder).expect("a project")).expect("a survey");
    let puente = Server::start("serve-puente", &folder);
    let floor = Server::start("serve-floor", &folder);
    report::head(ROUNDS);
    for (name, document, path) in ASKS {
        let body = serde_json::json!({ "query": document }).to_string();
        let ours = Load::new(&puente.address, "/graphql", KEY, &body);
        let theirs = Load::new(&floor.address, path, KEY, &body);
        let (answer, expected) = (ours.once(), theirs.once());
        assert_eq!(answer, expected, "both answer the same bytes");
        let mut rounds: Vec<(Measured, Measured)> = Vec::new();
        for _ in 0..ROUNDS {
            rounds.push((ours.run(puente.child.id()), theirs.run(floor.child.id())));
        }
        report::ask(name, answer.len(), &rounds);
    }
    report::walk(&driver::walk(&puente.address, KEY));
    report::memory(puente.child.id());
}
