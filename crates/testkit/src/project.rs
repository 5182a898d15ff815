//! Project folders and running services for tests.

use std::io::{Read as _, Write as _};
use std::net::{SocketAddr, TcpStream};
use std::path::{Path, PathBuf};
use std::sync::{Arc, OnceLock};
use std::time::{Duration, Instant};

use puente_core::catalog::Engine;
use puente_service::{AccessKeys, Api, ApiOptions, Metrics, ProjectFolder, Running, ServeOptions, Served, Traces};
use serde_json::Value as Json;
use tempfile::TempDir;

use crate::database::Database;
use crate::leftovers::folder;

/// The owner's access key of every service that tests start.
pub const OWNER_KEY: &str = "the-owner-of-the-tests";

/// A project in a temporary folder.
#[derive(Debug)]
pub struct TestProject {
    _folder: TempDir,
    path: PathBuf,
}

impl TestProject {
    /// One in a folder of this name, where there is one, within a temporary folder.
    fn called(name: &str) -> Self {
        let folder = folder();
        TestProject { path: folder.path().join(name), _folder: folder }
    }

    /// The mountain huts, surveyed. The database is generated once per process and copied.
    ///
    /// # Panics
    /// Where it cannot be made.
    pub fn huts() -> Self {
        // In memory: nothing drops a static, and a folder would stay behind.
        static TEMPLATE: OnceLock<[(&str, Vec<u8>); 2]> = OnceLock::new();
        let template = TEMPLATE.get_or_init(|| {
            let folder = folder();
            puente_demo::write_huts(folder.path(), None).expect("the demo");
            ["puente.toml", puente_demo::DATABASE]
                .map(|file| (file, std::fs::read(folder.path().join(file)).expect("a file of the demo")))
        });
        let project = TestProject::called("");
        for (file, bytes) in template {
            std::fs::write(project.path().join(file), bytes).expect("a copy");
        }
        puente_service::survey(&project.open(), None).expect("a survey");
        project
    }

    /// The whole demo, surveyed: the huts, and the log of the rescue service.
    ///
    /// # Panics
    /// Where it cannot be made.
    pub fn demo() -> Self {
        let project = TestProject::called("huts-demo");
        puente_demo::write(project.path()).expect("the demo");
        puente_service::survey(&project.open(), None).expect("a survey");
        project
    }

    /// A folder in which nobody has begun yet.
    ///
    /// # Panics
    /// Where it cannot be made.
    pub fn nothing() -> Self {
        TestProject::called("")
    }

    /// A project over a database of these statements; `edits` is added to the project file.
    ///
    /// # Panics
    /// Where the statements are wrong.
    pub fn of_sql(sql: &str, edits: &str) -> Self {
        let project = TestProject::called("");
        let connection = rusqlite::Connection::open(project.path().join("test.db")).expect("a database");
        connection.execute_batch(sql).expect("the statements run");
        let text = format!("[source.test]\nurl = \"sqlite:test.db\"\n{edits}");
        std::fs::write(project.path().join("puente.toml"), text).expect("a project file");
        puente_service::survey(&project.open(), None).expect("a survey");
        project
    }

    /// A project over a database; `lines` are more of `[source.test]`, `edits` the rest of the project file.
    ///
    /// # Panics
    /// Where it cannot be surveyed.
    pub fn of(database: &Database, lines: &str, edits: &str) -> Self {
        let project = TestProject::called("");
        let url = match database.engine {
            Engine::Sqlite => format!("sqlite:{}", database.file().display()),
            Engine::Postgres | Engine::Mariadb | Engine::Mongodb => database.url.clone(),
        };
        let links = database.links("");
        let text = format!("[source.test]\nurl = \"{url}\"\n{lines}\n{links}{edits}");
        std::fs::write(project.path().join("puente.toml"), text).expect("a project file");
        puente_service::survey(&project.open(), None).expect("a survey");
        project
    }

    /// A project over several databases, by the names of their sources.
    ///
    /// # Panics
    /// Where they cannot be surveyed.
    pub fn of_sources(databases: &[(&str, &Database)], edits: &str) -> Self {
        let project = TestProject::called("");
        let sources = databases.iter().map(|(name, database)| {
            let url = match database.engine {
                Engine::Sqlite => format!("sqlite:{}", database.file().display()),
                Engine::Postgres | Engine::Mariadb | Engine::Mongodb => database.url.clone(),
            };
            format!("[source.{name}]\nurl = \"{url}\"\n")
        });
        let links = databases.iter().map(|(name, database)| database.links(&format!("{name}:")));
        let text = format!("{}{}{edits}", sources.collect::<String>(), links.collect::<String>());
        std::fs::write(project.path().join("puente.toml"), text).expect("a project file");
        puente_service::survey(&project.open(), None).expect("a survey");
        project
    }

    /// A project over an empty database that these statements fill, and a service of it; `edits` is added to the project file.
    ///
    /// # Panics
    /// Where the statements are wrong, or it does not start.
    pub fn served(engine: Engine, sql: &str, edits: &str) -> (Database, TestProject, TestService) {
        let database = Database::empty(engine);
        database.execute(sql);
        let project = TestProject::of(&database, "", edits);
        let service = project.serve();
        (database, project, service)
    }

    /// Where it is.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// The file of a SQLite source.
    pub fn database(&self) -> PathBuf {
        puente_sources::sqlite::file_of(&self.open().project.sources[0].url.0, self.path())
    }

    /// The survey file of the first source.
    pub fn survey_file(&self) -> PathBuf {
        let folder = self.open();
        folder.survey_file(&folder.project.sources[0])
    }

    /// Opens it.
    ///
    /// # Panics
    /// Where its project file is wrong.
    pub fn open(&self) -> ProjectFolder {
        ProjectFolder::open(self.path()).expect("a project")
    }

    /// Starts a service of it on a free port.
    ///
    /// # Panics
    /// Where it does not start.
    pub fn serve(&self) -> TestService {
        self.serve_as(true, None)
    }

    /// The same, looking that often whether the sources are as they were surveyed.
    ///
    /// # Panics
    /// Where it does not start.
    pub fn serve_looking(&self, every: Duration) -> TestService {
        self.serve_as(false, Some(every))
    }

    /// The same as in production: tokens for development are not believed.
    ///
    /// # Panics
    /// Where it does not start.
    pub fn serve_in_production(&self) -> TestService {
        self.serve_as(false, None)
    }

    fn serve_as(&self, development: bool, look_for_drift: Option<Duration>) -> TestService {
        let folder = ProjectFolder::open_or_begin(self.path()).expect("a project");
        let options = folder.api_options(b"the tests' secret, thirty-two bytes.".to_vec(), &|_| None).expect("an API");
        let traces =
            folder.project.service.traces.as_deref().map(|address| Arc::new(Traces::to(address).expect("a collector")));
        let options = ApiOptions { traces, ..options };
        let api = Arc::new(Api::new(options, Arc::new(Metrics::default())));
        let private = folder.private_folder().expect("a private folder");
        let access_keys = Arc::new(AccessKeys::open(&private.join("records.db")).expect("access keys"));
        let identity = folder.identity(development).expect("identities");
        let folder_metrics = folder.project.service.metrics_listen;
        let options = ServeOptions {
            listen: "localhost:0".parse().expect("an address"),
            tls: None,
            drain: Duration::ZERO,
            hosts: folder.project.service.hosts.clone(),
            origins: folder.project.service.origins.clone(),
            owner_key: Some(OWNER_KEY.to_owned()),
            workers: Some(2),
            folder,
            development,
            surveyed: None,
            metrics_listen: folder_metrics,
            look_for_drift,
        };
        let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build();
        let runtime = runtime.expect("a runtime");
        let served = Served { api: Arc::clone(&api), identity };
        let running = runtime.block_on(puente_service::serve(served, access_keys, options)).expect("it starts");
        let address = running.bound.address().expect("an address");
        let metrics_address = running.metrics_address;
        let service = TestService { address, metrics_address, api, running: Some((running, runtime)) };
        service.wait_until_warm();
        service
    }
}

/// A running service; stopped when dropped.
#[derive(Debug)]
pub struct TestService {
    /// Where it listens.
    pub address: SocketAddr,
    /// Where counters are read without keys.
    pub metrics_address: Option<SocketAddr>,
    /// What it answers with.
    pub api: Arc<Api>,
    running: Option<(Running, tokio::runtime::Runtime)>,
}

/// A response as it came over the socket.
#[derive(Debug)]
pub struct Response {
    /// The status.
    pub status: u16,
    /// The headers, names in lower case.
    pub headers: Vec<(String, String)>,
    /// The body.
    pub body: Vec<u8>,
}

impl TestService {
    /// Waits until it says something else than that it is starting. What a source that is away takes is not waited for.
    fn wait_until_warm(&self) {
        let give_up = Instant::now() + Duration::from_secs(10);
        while self.send("GET", "/health/ready", &[], b"").text().contains("starting") && Instant::now() < give_up {
            std::thread::sleep(Duration::from_millis(5));
        }
    }
}

impl Response {
    /// A header's value.
    pub fn header(&self, name: &str) -> Option<&str> {
        self.headers.iter().find(|(known, _)| known == name).map(|(_, value)| value.as_str())
    }

    /// The body as JSON.
    ///
    /// # Panics
    /// Where it is none.
    pub fn json(&self) -> Json {
        serde_json::from_slice(&self.body).unwrap_or_else(|error| panic!("{error}: {}", self.text()))
    }

    /// The body as text.
    pub fn text(&self) -> String {
        String::from_utf8_lossy(&self.body).into_owned()
    }

    /// The code of the first error.
    pub fn code(&self) -> String {
        self.json()["errors"][0]["extensions"]["code"].as_str().unwrap_or_default().to_owned()
    }
}

impl TestService {
    /// Stops it as an operator would: what runs is finished.
    pub fn stop(&mut self) {
        if let Some((running, runtime)) = self.running.take() {
            // On a thread of its own: the test itself may be asynchronous.
            let stopping = std::thread::spawn(move || runtime.block_on(running.stop()));
            stopping.join().expect("it stops");
        }
    }

    /// The data of an answer without errors, as the owner.
    ///
    /// # Panics
    /// Where there is an error.
    pub fn data(&self, document: &str) -> Json {
        self.data_of(&serde_json::json!({ "query": document }))
    }

    /// The same of a whole request.
    ///
    /// # Panics
    /// Where there is an error.
    pub fn data_of(&self, body: &Json) -> Json {
        let answer = self.post(body).json();
        assert_eq!(answer["errors"], Json::Null, "{body}: {answer}");
        answer["data"].clone()
    }

    /// Asks as the owner.
    pub fn ask(&self, document: &str) -> Response {
        self.post(&serde_json::json!({ "query": document }))
    }

    /// Posts a request as the owner.
    pub fn post(&self, body: &Json) -> Response {
        let headers = [
            ("Authorization", format!("Bearer {OWNER_KEY}")),
            ("Content-Type", "application/json".to_owned()),
            ("Accept", "application/graphql-response+json".to_owned()),
        ];
        let headers: Vec<(&str, &str)> = headers.iter().map(|(name, value)| (*name, value.as_str())).collect();
        self.send("POST", "/graphql", &headers, body.to_string().as_bytes())
    }

    /// Sends a request as it is. `Host` is added where it is not given.
    ///
    /// # Panics
    /// Where the service does not answer.
    pub fn send(&self, method: &str, path: &str, headers: &[(&str, &str)], body: &[u8]) -> Response {
        let mut stream = self.connect(method, path, headers, body);
        let mut whole = Vec::new();
        stream.read_to_end(&mut whole).expect("an answer");
        parse(&whole)
    }

    /// Sends a request and gives the open connection.
    ///
    /// # Panics
    /// Where the service does not listen.
    pub fn connect(&self, method: &str, path: &str, headers: &[(&str, &str)], body: &[u8]) -> TcpStream {
        let mut stream = TcpStream::connect(self.address).expect("it listens");
        stream.set_read_timeout(Some(Duration::from_secs(60))).expect("a time limit");
        let mut head = format!("{method} {path} HTTP/1.1\r\nConnection: close\r\nContent-Length: {}\r\n", body.len());
        if !headers.iter().any(|(name, _)| name.eq_ignore_ascii_case("host")) {
            head.push_str(&format!("Host: {}\r\n", self.address));
        }
        for (name, value) in headers {
            head.push_str(&format!("{name}: {value}\r\n"));
        }
        head.push_str("\r\n");
        stream.write_all(head.as_bytes()).expect("it reads");
        // A body over the limit is refused before it is read whole.
        let _ = stream.write_all(body);
        stream
    }
}

impl Drop for TestService {
    fn drop(&mut self) {
        self.stop();
    }
}

fn parse(whole: &[u8]) -> Response {
    let end = whole.windows(4).position(|window| window == b"\r\n\r\n").expect("a head");
    let head = String::from_utf8_lossy(&whole[..end]).into_owned();
    let mut lines = head.lines();
    let status = lines.next().and_then(|line| line.split(' ').nth(1)).and_then(|status| status.parse().ok());
    let headers: Vec<(String, String)> = lines
        .filter_map(|line| line.split_once(':'))
        .map(|(name, value)| (name.to_ascii_lowercase(), value.trim().to_owned()))
        .collect();
    let mut body = whole[end + 4..].to_vec();
    if headers.iter().any(|(name, value)| name == "transfer-encoding" && value == "chunked") {
        body = unchunk(&body);
    }
    Response { status: status.expect("a status"), headers, body }
}

fn unchunk(mut rest: &[u8]) -> Vec<u8> {
    let mut whole = Vec::new();
    while let Some(end) = rest.windows(2).position(|window| window == b"\r\n") {
        let size = usize::from_str_radix(String::from_utf8_lossy(&rest[..end]).trim(), 16).unwrap_or(0);
        if size == 0 {
            break;
        }
        whole.extend_from_slice(&rest[end + 2..end + 2 + size]);
        rest = &rest[end + 2 + size + 2..];
    }
    whole
}
