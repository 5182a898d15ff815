//! The driver: keep-alive connections that ask as fast as they are answered, and what that cost the server's process.

use std::io::{BufRead as _, BufReader, Read as _, Write as _};
use std::net::TcpStream;
use std::path::Path;
use std::time::{Duration, Instant};

use puente_core::catalog::Engine;
use serde_json::Value as Json;

/// Connections that ask at the same time.
const CONNECTIONS: usize = 4;
/// How long one round asks.
const ROUND: Duration = Duration::from_secs(1);
/// How long is asked before the first round.
const WARM_UP: Duration = Duration::from_millis(500);

/// What one round measured.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Measured {
    pub(crate) asks_per_second: f64,
    /// CPU of the server's process, user and system, per ask.
    pub(crate) cpu_micros: f64,
    /// CPU of the database's processes per ask; none where the database runs in the server's process.
    pub(crate) database_micros: f64,
    pub(crate) p50_micros: f64,
    pub(crate) p99_micros: f64,
}

/// One request, over and over.
pub(crate) struct Load {
    address: String,
    request: Vec<u8>,
}

impl Load {
    pub(crate) fn new(address: &str, path: &str, key: &str, body: &str) -> Self {
        let request = format!(
            "POST {path} HTTP/1.1\r\nHost: {address}\r\nAuthorization: Bearer {key}\r\nContent-Type: application/json\r\n\
             Accept: application/graphql-response+json\r\nContent-Length: {}\r\n\r\n{body}",
            body.len()
        );
        Load { address: address.to_owned(), request: request.into_bytes() }
    }

    /// The answer's body.
    pub(crate) fn once(&self) -> Vec<u8> {
        Connection::open(&self.address).ask(&self.request)
    }

    /// How many statements one request sends, as Puente itself reports to its owner; none where another asks.
    pub(crate) fn statements(&self) -> usize {
        let (head, body) = self.request_parts();
        let mut body: Json = serde_json::from_str(body).expect("JSON");
        body["extensions"] = serde_json::json!({ "statements": true });
        let body = body.to_string();
        let head: String = head
            .lines()
            .filter(|line| !line.to_ascii_lowercase().starts_with("content-length") && !line.is_empty())
            .map(|line| format!("{line}\r\n"))
            .collect();
        let request = format!("{head}Content-Length: {}\r\n\r\n{body}", body.len());
        let answer = Connection::open(&self.address).ask(request.as_bytes());
        let answer: Json = serde_json::from_slice(&answer).expect("JSON");
        answer["extensions"]["statements"].as_array().map_or(0, Vec::len)
    }

    fn request_parts(&self) -> (&str, &str) {
        std::str::from_utf8(&self.request).ok().and_then(|text| text.split_once("\r\n\r\n")).expect("a request")
    }

    /// Asks for a while without measuring.
    pub(crate) fn warm_up(&self) {
        let start = Instant::now();
        let mut connection = Connection::open(&self.address);
        while start.elapsed() < WARM_UP {
            connection.ask(&self.request);
        }
    }

    pub(crate) fn run(&self, server: u32, database: &[u32]) -> Measured {
        let expected = self.once();
        let database_cpu = || database.iter().map(|process| cpu_of_tree(*process)).sum::<f64>();
        let (before, database_before) = (cpu_micros(server), database_cpu());
        let start = Instant::now();
        let mut latencies: Vec<f64> = std::thread::scope(|scope| {
            let threads: Vec<_> =
                (0..CONNECTIONS).map(|_| scope.spawn(|| self.keep_asking(start, &expected))).collect();
            threads.into_iter().flat_map(|thread| thread.join().expect("a connection")).collect()
        });
        let elapsed = start.elapsed().as_secs_f64();
        let cpu = cpu_micros(server) - before;
        let database_used = database_cpu() - database_before;
        latencies.sort_by(f64::total_cmp);
        let asks = latencies.len();
        #[expect(clippy::cast_precision_loss, reason = "counts of requests are far below 2^52")]
        let count = asks as f64;
        Measured {
            asks_per_second: count / elapsed,
            cpu_micros: cpu / count,
            database_micros: database_used / count,
            p50_micros: latencies[asks / 2],
            p99_micros: latencies[asks * 99 / 100],
        }
    }

    fn keep_asking(&self, start: Instant, expected: &[u8]) -> Vec<f64> {
        let mut connection = Connection::open(&self.address);
        let mut latencies = Vec::new();
        while start.elapsed() < ROUND {
            let asked = Instant::now();
            let answer = connection.ask(&self.request);
            latencies.push(asked.elapsed().as_secs_f64() * 1e6);
            // An error is quicker than an answer.
            assert!(answer == expected, "{}", String::from_utf8_lossy(&answer));
        }
        latencies
    }
}

struct Connection {
    reader: BufReader<TcpStream>,
}

impl Connection {
    fn open(address: &str) -> Self {
        let stream = TcpStream::connect(address).expect("it listens");
        stream.set_nodelay(true).expect("a socket option");
        Connection { reader: BufReader::with_capacity(64 << 10, stream) }
    }

    fn ask(&mut self, request: &[u8]) -> Vec<u8> {
        self.reader.get_mut().write_all(request).expect("it reads");
        let mut length = 0;
        let mut line = String::new();
        loop {
            line.clear();
            self.reader.read_line(&mut line).expect("it answers");
            let lower = line.to_ascii_lowercase();
            if let Some(value) = lower.strip_prefix("content-length:") {
                length = value.trim().parse().expect("a length");
            }
            if line == "\r\n" {
                break;
            }
            assert!(!line.is_empty(), "the server went away");
        }
        let mut body = vec![0; length];
        self.reader.read_exact(&mut body).expect("a whole body");
        body
    }
}

/// The processes of the database server, by what they are called.
pub(crate) fn database_processes(engine: Engine) -> Vec<u32> {
    let name = match engine {
        Engine::Sqlite => return Vec::new(),
        Engine::Postgres => "postgres",
        Engine::Mariadb => "mariadbd",
        // A program in Python, which is called as whoever runs it is.
        Engine::Mongodb => "secantusd-py",
    };
    let entries = std::fs::read_dir("/proc").expect("the processes");
    entries
        .flatten()
        .filter_map(|entry| entry.file_name().to_str()?.parse::<u32>().ok())
        .filter(|process| {
            let called = std::fs::read_to_string(format!("/proc/{process}/comm")).unwrap_or_default();
            called.trim() == name
        })
        .collect()
}

/// CPU of a process, if it still lives.
fn cpu_of_tree(process: u32) -> f64 {
    if Path::new(&format!("/proc/{process}")).exists() { cpu_micros(process) } else { 0.0 }
}

/// CPU that a process has used, from the kernel's accounting in hundredths of a second.
fn cpu_micros(process: u32) -> f64 {
    const MICROS_PER_TICK: f64 = 10_000.0;
    let text = std::fs::read_to_string(format!("/proc/{process}/stat")).unwrap_or_default();
    let after_name = text.rsplit_once(')').map_or("", |(_, rest)| rest);
    let fields: Vec<&str> = after_name.split_whitespace().collect();
    let ticks = |at: usize| fields.get(at).and_then(|field| field.parse::<f64>().ok()).unwrap_or(0.0);
    (ticks(11) + ticks(12)) * MICROS_PER_TICK
}

/// Microseconds per page of a walk over all weather readings by pages of 500, in order.
pub(crate) fn walk(address: &str, key: &str) -> Vec<f64> {
    let document = "query($after: String) { weatherReadings(first: 500, after: $after, orderBy: [{ takenAt: ASC }]) \
                    { nodes { id temperature } pageInfo { hasNextPage endCursor } } }";
    let mut times = Vec::new();
    let mut after = Json::Null;
    let mut rows = 0;
    loop {
        let body = serde_json::json!({ "query": document, "variables": { "after": after } }).to_string();
        let load = Load::new(address, "/graphql", key, &body);
        let start = Instant::now();
        let answer = load.once();
        times.push(start.elapsed().as_secs_f64() * 1e6);
        let answer: Json = serde_json::from_slice(&answer).expect("JSON");
        let page = &answer["data"]["weatherReadings"];
        rows += page["nodes"].as_array().map_or(0, Vec::len);
        after = page["pageInfo"]["endCursor"].clone();
        if page["pageInfo"]["hasNextPage"] != Json::Bool(true) {
            assert_eq!(rows, 100_000, "every reading was met once: {answer}");
            return times;
        }
    }
}
