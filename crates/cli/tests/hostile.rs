//! The service as a process under hostile callers: what it holds in memory stays within bounds, whatever is sent.

use std::io::{BufRead as _, BufReader, Read as _, Write as _};
use std::net::TcpStream;
use std::process::{Child, Command, Stdio};

use puente_testkit::project::TestProject;
use serde_json::{Value as Json, json};

const OWNER: &str = "the-owners-key-long-enough-for-production";

/// A service as a process; stopped when dropped.
struct Served {
    child: Child,
    address: String,
}

impl Served {
    fn start(project: &TestProject) -> Self {
        let mut child = Command::new(env!("CARGO_BIN_EXE_puente"))
            .args(["serve", "--development", "--listen", "127.0.0.1:0"])
            .env("PUENTE_PROJECT", project.path())
            .env("PUENTE_OWNER_KEY", OWNER)
            .env("PUENTE_LOG", "info")
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        let mut lines = BufReader::new(child.stderr.take().unwrap()).lines().map_while(Result::ok);
        let line = lines.find(|line| line.starts_with("console ")).expect("it starts");
        std::thread::spawn(move || lines.count());
        let address =
            line.split("http://").nth(1).and_then(|rest| rest.split('/').next()).expect("an address").to_owned();
        Served { child, address }
    }

    /// Sends a body as the owner; gives the status, and how long the answer is.
    fn send(&self, body: &[u8]) -> (u16, usize) {
        let mut stream = TcpStream::connect(&self.address).expect("it listens");
        let head = format!(
            "POST /graphql HTTP/1.1\r\nHost: {}\r\nAuthorization: Bearer {OWNER}\r\nContent-Type: application/json\r\n\
             Accept: application/graphql-response+json\r\nContent-Length: {}\r\nConnection: close\r\n\r\n",
            self.address,
            body.len()
        );
        stream.write_all(head.as_bytes()).unwrap();
        let _ = stream.write_all(body);
        let mut answer = Vec::new();
        let _ = stream.read_to_end(&mut answer);
        let text = String::from_utf8_lossy(&answer[..answer.len().min(40)]).into_owned();
        (text.split(' ').nth(1).and_then(|status| status.parse().ok()).unwrap_or(0), answer.len())
    }

    /// Lets what it held at the most start again from what it holds now, which it gives.
    fn forget_peak(&self) -> u64 {
        std::fs::write(format!("/proc/{}/clear_refs", self.child.id()), "5").expect("its owner may");
        self.megabytes("VmRSS")
    }

    fn ask(&self, body: &Json) -> (u16, usize) {
        self.send(body.to_string().as_bytes())
    }

    /// Megabytes that the process holds (`VmRSS`), or held at the most (`VmHWM`).
    fn megabytes(&self, what: &str) -> u64 {
        let status = std::fs::read_to_string(format!("/proc/{}/status", self.child.id())).expect("it runs");
        let line = status.lines().find(|line| line.starts_with(what)).expect("a figure").to_owned();
        let kilobytes: u64 = line.split_whitespace().nth(1).and_then(|number| number.parse().ok()).expect("a number");
        kilobytes / 1_024
    }
}

impl Drop for Served {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// Megabytes beside the answer that one request may take.
const ONE_REQUEST: u64 = 100;

#[test]
fn one_request_never_takes_much_more_than_its_answer() {
    let project = TestProject::huts();
    let service = Served::start(&project);
    assert_eq!(service.ask(&json!({ "query": "{ huts { nodes { id name } } }" })).0, 200);
    let name = "v".repeat(200_000);
    let document =
        format!("query(${name}: [Int!]) {{ huts(filter: {{ id: {{ in: ${name} }} }}) {{ nodes {{ id }} }} }}");
    let nested = |levels: usize| format!("{}{}", "[".repeat(levels), "]".repeat(levels));
    let many = |item: &str, number: usize| vec![item; number].join(",");
    let bodies = [
        // Lists under a long name: all wrong, all right.
        format!("{{\"query\": {}, \"variables\": {{\"{name}\": [{}]}}}}", json!(document), many("\"x\"", 80_000)),
        format!("{{\"query\": {}, \"variables\": {{\"{name}\": [{}]}}}}", json!(document), many("1", 170_000)),
        // Small values that are large in memory.
        format!("{{\"query\": \"{{ __typename }}\", \"variables\": {{\"a\": [{}]}}}}", many("{}", 320_000)),
        format!("{{\"query\": \"{{ __typename }}\", \"variables\": {{\"a\": [{}]}}}}", many("{\"a\":0}", 120_000)),
        format!("{{\"query\": \"{{ __typename }}\", \"variables\": {{\"a\": {}}}}}", nested(400_000)),
        // Fields and aliases by the thousand.
        json!({ "query": format!("{{ huts {{ nodes {{ {} }} }} }}", (0..9_000).map(|at| format!("a{at}: name ")).collect::<String>()) }).to_string(),
        json!({ "query": format!("{{ {} }}", (0..2_500).map(|at| format!("a{at}: huts {{ nodes {{ id }} }} ")).collect::<String>()) }).to_string(),
        json!({ "query": format!("{{ {} }}", "x ".repeat(450_000)) }).to_string(),
        json!({ "query": format!("# {}\n{{ huts {{ nodes {{ {} }} }} }}", "c".repeat(900_000), "name ".repeat(9_000)) }).to_string(),
        json!({ "query": format!("{{ {} }}", (0..400).map(|at| format!("a{at}: __schema {{ types {{ name fields {{ name type {{ name }} }} }} }} ")).collect::<String>()) }).to_string(),
    ];
    for (at, body) in bodies.iter().enumerate() {
        assert!(body.len() <= 1 << 20, "body {at} has {} bytes", body.len());
        let before = service.forget_peak();
        let (status, length) = service.send(body.as_bytes());
        assert!(matches!(status, 200 | 400), "body {at}: {status}");
        let peak = service.megabytes("VmHWM");
        let allowed = before + ONE_REQUEST + (length as u64 >> 20);
        assert!(peak <= allowed, "body {at} took the service from {before} to {peak} MB, {allowed} are allowed");
    }
    assert_eq!(service.ask(&json!({ "query": "{ huts { nodes { id } } }" })).0, 200);
}

/// Values take many times the memory of their text: those that wait for their turn are text still.
#[test]
fn many_requests_at_once_take_the_memory_of_a_few() {
    let project = TestProject::huts();
    let service = Served::start(&project);
    let items = vec!["{}"; 320_000].join(",");
    let body = format!("{{\"query\": \"{{ __typename }}\", \"variables\": {{\"a\": [{items}]}}}}");
    let before = service.forget_peak();
    std::thread::scope(|scope| {
        for _ in 0..24 {
            // On a busy machine some wait for longer than a request may take.
            scope.spawn(|| assert!(matches!(service.send(body.as_bytes()).0, 200 | 504)));
        }
    });
    let peak = service.megabytes("VmHWM");
    assert!(peak < before + 3 * ONE_REQUEST, "24 requests at once took it from {before} to {peak} MB");
}

/// Documents that are as large as they can be for what the caches could think of them.
#[test]
fn ten_thousand_hostile_documents_fill_the_caches_and_nothing_else() {
    let project = TestProject::huts();
    let service = Served::start(&project);
    let long = "l".repeat(2_000);
    for number in 0..10_000 {
        let body = match number % 4 {
            0 => json!({ "query": format!(
                "query($v{number}{long}: Int) {{ huts(filter: {{ or: [{}] }}) {{ nodes {{ id }} }} }}",
                format!("{{ id: {{ eq: $v{number}{long} }} }} ").repeat(3)
            ) }),
            1 => {
                json!({ "query": format!("{{ a{number}{long}: huts(first: 1) {{ nodes {{ b{long}: id c{long}: name }} }} }}") })
            }
            2 => {
                json!({ "query": format!("{{ huts(filter: {{ name: {{ eq: \"{number}{long}\" }} }}) {{ nodes {{ id }} }} }}") })
            }
            _ => json!({
                "query": format!("query Q{number}($f: [HutFilter!]) {{ huts(filter: {{ or: $f }}, first: 1) {{ nodes {{ id }} }} }}"),
                "variables": { "f": (0..=number % 40).map(|at| json!({ "id": { "eq": at } })).collect::<Vec<_>>() },
            }),
        };
        assert_eq!(service.ask(&body).0, 200, "{body}");
    }
    let held = service.megabytes("VmRSS");
    assert!(held < 400, "the service holds {held} MB");
}
