//! What whoever runs the service sees of it: counters and who reads them, who was not let in, ids of requests, drift.

use std::io::{BufRead as _, BufReader, Read as _, Write as _};
use std::net::TcpListener;
use std::sync::mpsc;
use std::time::{Duration, Instant};

use opentelemetry_proto::tonic::collector::trace::v1::ExportTraceServiceRequest;
use opentelemetry_proto::tonic::common::v1::any_value::Value;
use opentelemetry_proto::tonic::trace::v1::Span;
use prost::Message as _;

use puente_core::catalog::Engine;
use puente_service::{AccessKeys, NewKey};
use puente_testkit::database::Database;
use puente_testkit::project::{OWNER_KEY, TestProject, TestService};
use rstest::rstest;
use serde_json::json;

const TABLES: &str = "create table huts (id integer primary key, name varchar(40) not null);
insert into huts values (1, 'Low'), (2, 'High');
create table notes (id integer primary key, text varchar(40));";

fn owner() -> (&'static str, String) {
    ("Authorization", format!("Bearer {OWNER_KEY}"))
}

fn get(service: &TestService, path: &str, key: &str) -> (u16, String) {
    let authorization = format!("Bearer {key}");
    let response = service.send("GET", path, &[("Authorization", &authorization)], b"");
    (response.status, response.text())
}

/// A counter's value, by its name and labels.
fn counter(text: &str, name: &str) -> f64 {
    let name = &name.replace("SOURCE", "test");
    let line =
        text.lines().find_map(|line| line.strip_prefix(name.as_str())).unwrap_or_else(|| panic!("no {name} in {text}"));
    line.trim().parse().unwrap_or_else(|_| panic!("{line}"))
}

#[test]
fn a_key_for_counters_reads_counters_and_no_data() {
    let project = TestProject::of_sql(TABLES, "[role.reader.Hut.read]\nfields = [\"name\"]\n");
    let service = project.serve();
    let keys = AccessKeys::open(&project.path().join(".puente/records.db")).unwrap();
    let scraper =
        keys.create_key(&NewKey { name: "scraper", metrics: true, role: "owner", ..NewKey::default() }).unwrap();
    let reader = keys.create_key(&NewKey { name: "reader", role: "reader", ..NewKey::default() }).unwrap();
    let (status, text) = get(&service, "/metrics", &scraper);
    assert_eq!(status, 200, "{text}");
    assert!(text.contains("puente_build_info{version=") && text.ends_with("# EOF\n"), "{text}");
    assert_eq!(get(&service, "/metrics", &reader).0, 403);
    let body = json!({ "query": "{ huts { totalCount } }" }).to_string();
    for extensions in ["", ",\"extensions\": {\"as\": \"reader\"}", ",\"extensions\": {\"as\": {\"role\": \"owner\"}}"]
    {
        let body = format!("{}{extensions}}}", body.strip_suffix('}').unwrap());
        let authorization = format!("Bearer {scraper}");
        let headers = [
            ("Authorization", authorization.as_str()),
            ("Content-Type", "application/json"),
            ("Accept", "application/graphql-response+json"),
        ];
        let response = service.send("POST", "/graphql", &headers, body.as_bytes());
        assert_eq!((response.status, response.code().as_str()), (403, "ROLE_REFUSED"), "{extensions}");
    }
    assert_eq!(get(&service, "/schema.graphql", &scraper).0, 403);
    assert_eq!(get(&service, "/project", &scraper).0, 403);
}

#[test]
fn keys_of_the_project_file_are_known_to_every_instance() {
    let key = "puente_made_for_this_test";
    let hash = puente_core::project::key_hash_text(&puente_service::key_hash(key));
    let edits = |ends: &str| {
        format!(
            "[role.reader.Hut.read]\nfields = [\"name\"]\nrows = \"row.id == claims.hut\"\n\
             [key.app]\nhash = \"{hash}\"\nrole = \"reader\"\nclaims = {{ hut = 2 }}\n{ends}"
        )
    };
    let ask = |service: &TestService| {
        let authorization = format!("Bearer {key}");
        let headers = [("Authorization", authorization.as_str()), ("Content-Type", "application/json")];
        service.send("POST", "/graphql", &headers, br#"{"query": "{ huts { nodes { name } } }"}"#)
    };
    for _ in 0..2 {
        let project = TestProject::of_sql(TABLES, &edits("ends = 2100-01-01\n"));
        let answer = ask(&project.serve());
        assert_eq!(answer.json(), json!({ "data": { "huts": { "nodes": [{ "name": "High" }] } } }));
    }
    let project = TestProject::of_sql(TABLES, &edits("ends = 2020-01-01\n"));
    assert_eq!(ask(&project.serve()).status, 401, "it has ended");
}

#[test]
fn counters_have_an_address_of_their_own_where_the_project_says_one() {
    let project = TestProject::of_sql(TABLES, "[service]\nmetrics_listen = \"127.0.0.1:0\"\n");
    let service = project.serve();
    let counters = service.metrics_address.expect("it listens");
    let at = |path: &str| {
        let mut answer =
            ureq::get(&format!("http://{counters}{path}")).config().http_status_as_error(false).build().call().unwrap();
        (answer.status().as_u16(), answer.body_mut().read_to_string().unwrap())
    };
    assert_eq!(service.ask("{ huts { totalCount } }").status, 200);
    let (status, text) = at("/metrics");
    assert_eq!(status, 200);
    assert_eq!(counter(&text, "puente_asks_total{role=\"owner\",outcome=\"ok\"}"), 1.0);
    assert_eq!(at("/health/ready"), (200, "ready\n".to_owned()));
    for path in ["/graphql", "/", "/project", "/schema.graphql"] {
        assert_eq!(at(path).0, 404, "{path}");
    }
}

#[test]
fn counters_tell_of_the_process_answers_sign_ins_caches_and_sources() {
    let project = TestProject::of_sql(TABLES, "[role.reader.Hut.read]\nfields = [\"name\"]\n");
    let service = project.serve();
    let (name, value) = owner();
    assert_eq!(service.ask("{ huts { nodes { name } } }").status, 200);
    assert_eq!(service.send("GET", "/health/ready", &[], b"").status, 200);
    for wrong in ["Bearer wrong", "Basic x"] {
        assert_eq!(
            service.send("GET", "/graphql?query=%7B__typename%7D", &[("Authorization", wrong)], b"").status,
            401
        );
    }
    assert_eq!(service.send("GET", "/graphql?query=%7B__typename%7D", &[], b"").status, 401);
    let keys = AccessKeys::open(&project.path().join(".puente/records.db")).unwrap();
    let reader = keys.create_key(&NewKey { name: "r", role: "reader", ..NewKey::default() }).unwrap();
    let path = "/graphql?query=%7B__typename%7D&extensions=%7B%22as%22%3A%22owner%22%7D";
    assert_eq!(get(&service, path, &reader).0, 200, "told with the answer, as any client takes it");
    let text = service.send("GET", "/metrics", &[(name, &value)], b"").text();
    for (counted, at_least) in [
        ("process_cpu_seconds_total", 0.0),
        ("process_resident_memory_bytes", 1_000_000.0),
        ("process_open_fds", 3.0),
        ("process_start_time_seconds", 1_600_000_000.0),
        ("puente_http_responses_total{status=\"401\"}", 3.0),
        ("puente_http_responses_total{status=\"200\"}", 2.0),
        ("puente_sign_ins_refused_total{reason=\"refused\"}", 1.0),
        ("puente_sign_ins_refused_total{reason=\"malformed\"}", 1.0),
        ("puente_sign_ins_refused_total{reason=\"missing\"}", 1.0),
        ("puente_roles_refused_total", 1.0),
        ("puente_source_up{source=\"SOURCE\"}", 1.0),
        ("puente_source_places{source=\"SOURCE\"}", 1.0),
        ("puente_source_waiting{source=\"SOURCE\"}", 0.0),
        ("puente_cached_bytes{role=\"owner\",cache=\"documents\"}", 1_000.0),
        ("puente_cached_bytes{role=\"owner\",cache=\"plans\"}", 100.0),
    ] {
        let found = counter(&text, counted);
        assert!(found >= at_least, "{counted} is {found}");
    }
}

#[rstest]
#[case("6f1c2a-7", true)]
#[case("req_01J.x:y/z+1=", true)]
#[case("", false)]
#[case("two words", false)]
#[case("<script>", false)]
fn a_request_keeps_the_id_that_it_brings_if_logs_can_take_it(#[case] id: &str, #[case] is_kept: bool) {
    let project = TestProject::of_sql(TABLES, "");
    let service = project.serve();
    for path in ["/health/live", "/graphql?query=%7B__typename%7D"] {
        let response = service.send("GET", path, &[("X-Request-Id", id)], b"");
        assert_eq!(response.header("x-request-id") == Some(id), is_kept, "{path}");
        assert!(response.header("x-request-id").is_some_and(|id| !id.is_empty()));
    }
    let long = "a".repeat(129);
    let response = service.send("GET", "/health/live", &[("X-Request-Id", &long)], b"");
    assert_ne!(response.header("x-request-id"), Some(long.as_str()));
}

/// Waits until a page says something.
fn wait_for(service: &TestService, path: &str, text: &str) -> String {
    let deadline = Instant::now() + Duration::from_secs(20);
    loop {
        let found = service.send("GET", path, &[], b"");
        if found.text().contains(text) {
            return found.text();
        }
        assert!(Instant::now() < deadline, "{}", found.text());
        std::thread::sleep(Duration::from_millis(50));
    }
}

#[rstest]
fn drift_is_noticed_while_it_is_served_and_until_it_is_over(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb)] engine: Engine,
) {
    let database = Database::empty(engine);
    database.execute(TABLES);
    let project = TestProject::of(&database, "", "");
    let service = project.serve_looking(Duration::from_millis(200));
    wait_for(&service, "/health/ready", "ready\n");
    database.execute("alter table notes add column more integer");
    std::thread::sleep(Duration::from_millis(800));
    assert_eq!(
        service.send("GET", "/health/ready", &[], b"").text(),
        "ready\n",
        "what breaks nothing is no drift to act on"
    );
    database.execute("alter table huts drop column name");
    let told = wait_for(&service, "/health/ready", "degraded");
    assert_eq!(told, "ready, degraded: 1 type differs from the survey; `puente survey` accepts the changes\n");
    let (name, value) = owner();
    let told = service.send("GET", "/health/ready", &[(name, &value)], b"").text();
    assert_eq!(told, "ready, degraded: `Hut` differ from the survey; `puente survey` accepts the changes\n");
    let stranger =
        service.send("GET", "/health/ready", &[("Authorization", "Bearer nobody's"), ("Host", "elsewhere")], b"");
    assert!(!stranger.text().contains("Hut"), "names are for the owner: {}", stranger.text());
    assert_eq!(service.send("GET", "/health/ready", &[], b"").status, 200, "the rest is served");
    let (name, value) = owner();
    let text = service.send("GET", "/metrics", &[(name, &value)], b"").text();
    assert_eq!(counter(&text, "puente_source_drifted_tables{source=\"SOURCE\"}"), 1.0);
    puente_service::survey(&project.open(), None).expect("a survey");
    wait_for(&service, "/health/ready", "ready\n");
}

#[test]
fn the_same_tables_elsewhere_have_the_same_fingerprint() {
    for engine in [Engine::Sqlite, Engine::Postgres, Engine::Mariadb] {
        let fingerprint = || {
            let database = Database::empty(engine);
            database.execute(TABLES);
            let project = TestProject::of(&database, "", "");
            let survey: serde_json::Value =
                serde_json::from_str(&std::fs::read_to_string(project.survey_file()).unwrap()).unwrap();
            survey["fingerprint"].as_str().expect("a fingerprint").to_owned()
        };
        assert_eq!(fingerprint(), fingerprint(), "{engine:?}");
    }
}

#[test]
fn the_dashboard_shows_counters_that_there_are() {
    let file = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/dashboard.json");
    let dashboard = std::fs::read_to_string(file).unwrap();
    let project = TestProject::of_sql(TABLES, "");
    let service = project.serve_looking(Duration::from_millis(100));
    let (name, value) = owner();
    // What is counted by label is there once there is something to count.
    assert_eq!(get(&service, "/schema.graphql", "wrong").0, 401);
    wait_for(&service, "/health/ready", "ready");
    std::thread::sleep(Duration::from_millis(300));
    let text = service.send("GET", "/metrics", &[(name, &value)], b"").text();
    let known: Vec<&str> = text.lines().filter_map(|line| line.strip_prefix("# TYPE ")?.split(' ').next()).collect();
    let is_of_name = |c: char| !c.is_ascii_alphanumeric() && c != '_';
    let shown = dashboard.split(is_of_name).filter(|word| word.starts_with("puente_") || word.starts_with("process_"));
    let mut count = 0;
    for word in shown {
        let plain = ["_total", "_bucket", "_info"].iter().find_map(|ending| word.strip_suffix(ending)).unwrap_or(word);
        assert!(known.contains(&plain), "{word} is none of {known:?}");
        count += 1;
    }
    assert!(count > 20, "{count}");
}

/// A collector that takes whatever comes to `/v1/traces`.
fn collector() -> (String, mpsc::Receiver<Span>) {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = format!("http://{}", listener.local_addr().unwrap());
    let (sender, spans) = mpsc::channel();
    std::thread::spawn(move || {
        for stream in listener.incoming().map_while(Result::ok) {
            let mut reader = BufReader::new(stream.try_clone().unwrap());
            let mut head = String::new();
            while !head.ends_with("\r\n\r\n") && reader.read_line(&mut head).unwrap_or(0) > 0 {}
            assert!(head.starts_with("POST /v1/traces "), "{head}");
            let length = head
                .lines()
                .find_map(|line| line.to_ascii_lowercase().strip_prefix("content-length:").map(str::to_owned));
            let mut body = vec![0; length.expect("a length").trim().parse().unwrap()];
            reader.read_exact(&mut body).unwrap();
            let _ = (&stream).write_all(b"HTTP/1.1 200 OK\r\nContent-Length: 0\r\nConnection: close\r\n\r\n");
            let request = ExportTraceServiceRequest::decode(body.as_slice()).expect("OTLP");
            let found = request.resource_spans.into_iter().flat_map(|of| of.scope_spans).flat_map(|of| of.spans);
            found.for_each(|span| drop(sender.send(span)));
        }
    });
    (address, spans)
}

fn attribute(span: &Span, name: &str) -> String {
    let found = span.attributes.iter().find(|attribute| attribute.key == name);
    let value = found.and_then(|found| found.value.as_ref()).and_then(|value| value.value.as_ref());
    match value {
        Some(Value::StringValue(text)) => text.clone(),
        Some(Value::IntValue(number)) => number.to_string(),
        other => panic!("{name}: {other:?} of {span:?}"),
    }
}

#[test]
fn a_request_is_a_span_of_the_trace_that_it_came_with_and_each_statement_one_in_it() {
    let (address, spans) = collector();
    let project = TestProject::of_sql(TABLES, &format!("[service]\ntraces = \"{address}\"\n"));
    let mut service = project.serve();
    let (name, value) = owner();
    let trace = "4bf92f3577b34da6a3ce929d0e0e4736";
    let parent = format!("00-{trace}-00f067aa0ba902b7-01");
    let headers = [
        (name, value.as_str()),
        ("Content-Type", "application/json"),
        ("traceparent", &parent),
        ("X-Request-Id", "r-1"),
    ];
    let body = json!({ "query": "query Low { huts(filter: { name: { eq: \"Low\" } }) { nodes { id } } }" }).to_string();
    assert_eq!(service.send("POST", "/graphql", &headers, body.as_bytes()).status, 200);
    // Not of the form: a trace of its own. Not to be followed: none.
    let strange = [(name, value.as_str()), ("traceparent", "00-zz-01")];
    assert_eq!(service.send("GET", "/graphql?query=%7Bhats%7D", &strange, b"").status, 200);
    let unsampled = [(name, value.as_str()), ("traceparent", &parent.replace("-01", "-00"))];
    assert_eq!(service.send("GET", "/graphql?query=%7B__typename%7D", &unsampled, b"").status, 200);
    service.stop();
    let spans: Vec<Span> = spans.try_iter().collect();
    let hex = |bytes: &[u8]| bytes.iter().map(|byte| format!("{byte:02x}")).collect::<String>();
    let own: Vec<&Span> = spans.iter().filter(|span| hex(&span.trace_id) == trace).collect();
    assert_eq!(own.len(), 2, "{spans:#?}");
    let (statements, asks): (Vec<&Span>, Vec<&Span>) =
        own.into_iter().partition(|span| span.name.starts_with("statement"));
    let (ask, statement) = (asks[0], statements[0]);
    assert_eq!((ask.name.as_str(), hex(&ask.parent_span_id).as_str()), ("GraphQL Low", "00f067aa0ba902b7"));
    let told = ["puente.role", "puente.outcome", "puente.request_id"].map(|name| attribute(ask, name));
    assert_eq!(told, ["owner", "ok", "r-1"]);
    assert_eq!(statement.parent_span_id, ask.span_id);
    let text = attribute(statement, "db.query.text");
    assert!(text.contains("huts") && !text.contains("Low"), "statements are told, values are not: {text}");
    assert!(
        ask.start_time_unix_nano <= statement.start_time_unix_nano
            && statement.end_time_unix_nano <= ask.end_time_unix_nano
    );
    let other: Vec<&Span> = spans.iter().filter(|span| hex(&span.trace_id) != trace).collect();
    assert_eq!(other.len(), 1, "{other:#?}");
    assert!(other[0].parent_span_id.is_empty() && attribute(other[0], "puente.outcome") == "DOCUMENT_INVALID");
}
