//! What a hostile caller sends: answered rightly, or refused for what it would cost, and nobody else hears of it. Work that
//! would grow faster than what is sent is tried in sizes that would never end, so that nothing here is timed.

use std::io::{Read as _, Write as _};
use std::net::{TcpListener, TcpStream};
use std::time::{Duration, Instant};

use puente_core::catalog::Engine;
use puente_service::{AccessKeys, NewKey};
use puente_testkit::database::Database;
use puente_testkit::project::{OWNER_KEY, Response, TestProject, TestService};
use rstest::rstest;
use serde_json::{Value as Json, json};

fn huts() -> (TestProject, TestService) {
    let project = TestProject::huts();
    let service = project.serve();
    (project, service)
}

/// Sends a body as it is, as the owner.
fn send(service: &TestService, body: &[u8]) -> Response {
    let authorization = format!("Bearer {OWNER_KEY}");
    let headers = [("Authorization", authorization.as_str()), ("Content-Type", "application/json")];
    service.send("POST", "/graphql", &headers, body)
}

/// Asks a small thing: the service is alive.
fn is_alive(service: &TestService) {
    assert_eq!(service.ask("{ hut(key: { id: 1 }) { id } }").json(), json!({ "data": { "hut": { "id": 1 } } }));
}

#[test]
fn a_word_in_a_variable_is_part_of_what_a_plan_is_kept_under() {
    let (_project, service) = huts();
    let document =
        "query($u: DateGrouping!) { bookings { groups(by: [{ startsOn: $u }], first: 500) { key { startsOn } } } }";
    let keys = |unit: &str| {
        let answer = service.post(&json!({ "query": document, "variables": { "u": unit } })).json();
        let groups = answer["data"]["bookings"]["groups"].as_array().unwrap_or_else(|| panic!("{answer}")).clone();
        groups.iter().map(|group| group["key"]["startsOn"].as_str().unwrap_or_default().to_owned()).collect::<Vec<_>>()
    };
    let (days, years) = (keys("DAY"), keys("YEAR"));
    assert!(days.len() > years.len(), "{days:?}\n{years:?}");
    assert!(years.iter().all(|year| year.ends_with("-01-01")), "{years:?}");
    assert_eq!(keys("DAY"), days);
}

#[test]
fn fragments_that_spread_each_other_twice_are_walked_once() {
    let (_project, service) = huts();
    let mut document = "{ huts(first: 1) { nodes { ...f0 } } }".to_owned();
    for at in 0..60 {
        document.push_str(&format!(" fragment f{at} on Hut {{ ...f{0} ...f{0} }}", at + 1));
    }
    document.push_str(" fragment f60 on Hut { id }");
    assert_eq!(service.ask(&document).json(), json!({ "data": { "huts": { "nodes": [{ "id": 1 }] } } }));
}

#[test]
fn fragments_that_are_spread_everywhere_are_counted_everywhere() {
    let (_project, service) = huts();
    let fields: String = (0..2_000).map(|at| format!("a{at}: name ")).collect();
    let aliases: String = (0..1_000).map(|at| format!("h{at}: hut(key: {{ id: 1 }}) {{ ...f }} ")).collect();
    let response = service.ask(&format!("{{ {aliases} }} fragment f on Hut {{ {fields} }}"));
    assert_eq!((response.status, response.code().as_str()), (400, "TOO_COSTLY"), "{}", response.text());
}

#[rstest]
fn json_is_as_deep_as_it_looks(#[values("variables", "extensions", "query")] member: &str) {
    let (_project, service) = huts();
    let mut text = "1".to_owned();
    for _ in 0..30 {
        let quoted = serde_json::to_string(&text).unwrap();
        text = format!("{}{{\"$serde_json::private::RawValue\": {quoted}}}{}", "[".repeat(90), "]".repeat(90));
        if text.len() > 500_000 {
            break;
        }
    }
    let body = format!("{{\"query\": \"{{ __typename }}\", \"{member}\": {{\"undeclared\": {text}}}}}");
    let response = send(&service, body.as_bytes());
    assert!(response.status == 200 || response.status == 400, "{}", response.text());
    let deep = format!(
        "{{\"query\": \"{{ __typename }}\", \"{member}\": {{\"a\": {}{}}}}}",
        "[".repeat(400_000),
        "]".repeat(400_000)
    );
    assert_eq!(send(&service, deep.as_bytes()).status, 400);
    is_alive(&service);
}

#[test]
fn names_as_long_as_a_request_are_told_back_short_and_compared_with_nothing() {
    let (_project, service) = huts();
    let long = "n".repeat(400_000);
    let asks = [
        json!({ "query": format!("query {long} {{ __typename }}"), "operationName": format!("{long}x") }),
        json!({ "query": format!("{{ {long} }}") }),
        json!({ "query": format!("{{ huts(filter: {{ {long}: {{ eq: 1 }} }}) {{ nodes {{ id }} }} }}") }),
        json!({ "query": "query($f: HutFilter) { huts(filter: $f) { nodes { id } } }", "variables": { "f": { &long: 1 } } }),
        json!({ "query": "{ __typename }", "extensions": { "as": &long } }),
    ];
    for ask in asks {
        let response = service.post(&ask);
        assert!(response.status >= 400, "{}", response.status);
        assert!(response.body.len() < 60_000, "{} bytes for {} sent", response.body.len(), ask.to_string().len());
    }
    is_alive(&service);
}

#[test]
fn a_flood_of_mistakes_is_not_a_flood_of_answers() {
    let (_project, service) = huts();
    let name = "v".repeat(20_000);
    let items: Vec<Json> = (0..100_000).map(|_| json!("x")).collect();
    let document =
        format!("query(${name}: [Int!]) {{ huts(filter: {{ id: {{ in: ${name} }} }}) {{ nodes {{ id }} }} }}");
    let response = service.post(&json!({ "query": document, "variables": { &name: items } }));
    assert_eq!(response.code(), "INVALID_VARIABLE");
    assert!(response.json()["errors"].as_array().unwrap().len() <= 20 && response.body.len() < 60_000);
    // Values that fit cost what they are, under whatever name.
    let items: Vec<Json> = (0..100_000).map(Json::from).collect();
    let response = service.post(&json!({ "query": document, "variables": { &name: items } }));
    assert_eq!(response.code(), "TOO_COSTLY", "{}", response.text());
    // One value in many places is bound in many places: not without end.
    let leaves: String = (0..900).map(|_| "{ name: { in: $v } } ").collect();
    let document = format!("query($v: [String!]) {{ huts(filter: {{ or: [{leaves}] }}) {{ nodes {{ id }} }} }}");
    let texts: Vec<Json> = (0..900).map(|_| Json::from("t".repeat(900))).collect();
    let response = service.post(&json!({ "query": document, "variables": { "v": texts } }));
    assert_eq!(response.code(), "TOO_COSTLY", "{}", response.text());
}

fn gzip(bytes: &[u8]) -> Vec<u8> {
    let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::best());
    packed.write_all(bytes).unwrap();
    packed.finish().unwrap()
}

#[test]
fn a_body_is_read_once_it_is_known_who_sends_it_and_never_unpacked_beyond_its_limit() {
    let (_project, service) = huts();
    let bomb = gzip(&vec![b' '; 200 << 20]);
    let headers = |key: &'static str| {
        [("Authorization", key), ("Content-Type", "application/json"), ("Content-Encoding", "gzip")]
    };
    // Nothing of the body comes, and the answer does not wait for it.
    let length = bomb.len().to_string();
    let mut stream = TcpStream::connect(service.address).unwrap();
    let head = format!(
        "POST /graphql HTTP/1.1\r\nHost: {}\r\nAuthorization: Bearer nobody\r\nContent-Type: application/json\r\n\
         Content-Encoding: gzip\r\nContent-Length: {length}\r\nConnection: close\r\n\r\n",
        service.address
    );
    stream.write_all(head.as_bytes()).unwrap();
    stream.set_read_timeout(Some(Duration::from_secs(30))).unwrap();
    let mut answer = [0; 12];
    stream.read_exact(&mut answer).unwrap();
    assert_eq!(&answer, b"HTTP/1.1 401");
    let key: &'static str = Box::leak(format!("Bearer {OWNER_KEY}").into_boxed_str());
    assert_eq!(service.send("POST", "/graphql", &headers(key), &bomb).status, 413);
    let good = gzip(b"{\"query\": \"{ __typename }\"}");
    assert_eq!(
        service.send("POST", "/graphql", &headers(key), &good).json(),
        json!({ "data": { "__typename": "Query" } })
    );
    let cut = service.send("POST", "/graphql", &headers(key), &good[..good.len() / 2]);
    assert_eq!((cut.status, cut.code().as_str()), (400, "INVALID_REQUEST"), "{}", cut.text());
    let other = [("Authorization", key), ("Content-Type", "application/json"), ("Content-Encoding", "br")];
    assert_eq!(service.send("POST", "/graphql", &other, &good).status, 415);
}

#[test]
fn uploads_that_stall_are_given_up_and_keep_nobody_waiting() {
    let sql = "create table huts (id integer primary key); insert into huts values (1);";
    let project = TestProject::of_sql(sql, "[limits]\ntime_ms = 1500\n");
    let service = project.serve();
    let authorization = format!("Bearer {OWNER_KEY}");
    let stalled: Vec<TcpStream> = (0..300)
        .map(|_| {
            let mut stream = TcpStream::connect(service.address).unwrap();
            let head = format!(
                "POST /graphql HTTP/1.1\r\nHost: {}\r\nAuthorization: {authorization}\r\nContent-Type: application/json\r\n\
                 Accept: application/graphql-response+json\r\nContent-Length: 900000\r\nConnection: close\r\n\r\n{{",
                service.address
            );
            stream.write_all(head.as_bytes()).unwrap();
            stream.set_read_timeout(Some(Duration::from_secs(30))).unwrap();
            stream
        })
        .collect();
    is_alive(&service);
    let mut statuses = std::collections::BTreeMap::<String, usize>::new();
    for mut stream in stalled {
        let mut answer = [0; 12];
        stream.read_exact(&mut answer).unwrap();
        *statuses.entry(String::from_utf8_lossy(&answer[9..]).into_owned()).or_default() += 1;
    }
    // Those that waited for a turn to be read ran out of time there.
    assert!(statuses.keys().all(|status| matches!(status.as_str(), "408" | "504" | "429")), "{statuses:?}");
    assert!(statuses["408"] >= 32, "{statuses:?}");
}

#[rstest]
fn a_summary_of_nothing_reads_nothing(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
) {
    let database = Database::empty(engine);
    database
        .execute("create table peaks (id integer primary key, height integer);\ninsert into peaks values (1, 7);\n");
    let project = TestProject::of(&database, "", "");
    let service = project.serve();
    let document = "{ peaks { a: summary { __typename } b: summary { t: __typename height { __typename } } } }";
    let answer = service.post(&json!({ "query": document, "extensions": { "statements": true } })).json();
    let expected = json!({ "a": { "__typename": "PeakSummary" },
        "b": { "t": "PeakSummary", "height": { "__typename": "IntSummary" } } });
    assert_eq!(answer["data"]["peaks"], expected, "{answer}");
    assert_eq!(answer["extensions"]["statements"], json!([]));
    // Beside what is read, too, and where only the number of groups tells something.
    let document = "{ peaks { nodes { id } summary { __typename } groups(by: [{ height: VALUE }]) { __typename } } }";
    let answer = service.ask(document).json();
    let expected = json!({ "nodes": [{ "id": 1 }], "summary": { "__typename": "PeakSummary" },
        "groups": [{ "__typename": "PeakSummaryGroup" }] });
    assert_eq!(answer["data"]["peaks"], expected, "{answer}");
}

#[test]
fn introspection_by_the_hundred_is_refused_and_once_is_answered() {
    let (_project, service) = huts();
    let all =
        "__schema { types { name fields { name type { name } args { name } } inputFields { name type { name } } } }";
    assert_eq!(service.ask(&format!("{{ {all} }}")).status, 200);
    let many: String = (0..400).map(|at| format!("a{at}: {all} ")).collect();
    let response = service.ask(&format!("{{ {many} }}"));
    assert_eq!((response.status, response.code().as_str()), (400, "TOO_COSTLY"), "{}", response.text());
    let standard = include_str!("introspection.graphql");
    let response = service.ask(standard);
    assert_eq!(response.status, 200, "{}", response.text());
}

/// Tools ask for the whole schema: it may be larger than other answers, and grows with the tables.
#[test]
fn the_whole_schema_may_be_asked_for_once_whatever_an_answer_may_take() {
    let project = TestProject::of_sql(&forty_tables(), "[limits]\nanswer_bytes = 10000\n");
    let service = project.serve();
    let standard = include_str!("introspection.graphql");
    let response = service.ask(standard);
    assert_eq!(response.status, 200, "{}", response.text());
    assert!(response.text().len() > 100_000);
    let many: String =
        (0..200).map(|at| format!("a{at}: __schema {{ types {{ fields {{ name type {{ name }} }} }} }} ")).collect();
    assert_eq!(service.ask(&format!("{{ {many} }}")).code(), "TOO_COSTLY");
}

/// Forty tables.
fn forty_tables() -> String {
    (0..40)
        .map(|at| format!("create table things{at} (id integer primary key, name text, size integer, made date);\n"))
        .collect()
}

/// A database of few rows that are large.
fn large_rows(engine: Engine, edits: &str) -> (TestProject, TestService, Database) {
    let database = Database::empty(engine);
    let (text, fill) = match engine {
        Engine::Sqlite | Engine::Mongodb => ("text", "substr(hex(zeroblob(300000)), 1, 500000)"),
        Engine::Postgres => ("text", "repeat('x', 500000)"),
        Engine::Mariadb => ("longtext", "repeat('x', 500000)"),
    };
    database.execute(&format!(
        "create table peaks (id integer primary key, height integer);\ncreate table photos (id integer primary key, peak_id integer, data {text});\n\
         insert into peaks values (1, 1);\n"
    ));
    let rows: String = (1..=80).map(|id| format!("insert into photos values ({id}, 1, {fill});\n")).collect();
    database.execute(&rows);
    let key = if engine == Engine::Mongodb { "_id" } else { "id" };
    let link =
        format!("[[link]]\ntable = \"photos\"\ncolumns = [\"peak_id\"]\nto = \"peaks\"\nreferences = [\"{key}\"]\n");
    let project = TestProject::of(&database, "", &format!("{link}{edits}"));
    let service = project.serve();
    (project, service, database)
}

#[rstest]
fn rows_are_weighed_as_they_arrive(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
) {
    let (_project, service, _database) = large_rows(engine, "[limits]\nanswer_bytes = 2000000\n");
    for document in [
        "{ photos(first: 500) { nodes { data } } }",
        "{ peaks { nodes { photos(first: 500) { nodes { data } } } } }",
        "{ photos(first: 1) { nodes { a: data b: data c: data d: data e: data } } }",
    ] {
        let response = service.ask(document);
        assert_eq!((response.status, response.code().as_str()), (400, "TOO_COSTLY"), "{document}");
    }
    let fine = service.ask("{ photos(first: 3) { nodes { data } } }");
    assert_eq!(fine.status, 200, "and the next request is answered");
}

/// PostgreSQL answers a request of several lists in one row: it is not held whole where it is larger than an answer may be.
#[test]
fn one_row_is_weighed_before_it_is_whole() {
    let database = Database::empty(Engine::Postgres);
    database.execute(
        "create table photos (id integer primary key, data text);\n\
         insert into photos select n, repeat('x', 1000000) from generate_series(1, 100) as n;\n",
    );
    let project = TestProject::of(&database, "connections = 1\n", "[limits]\nanswer_bytes = 1000000\n");
    let service = project.serve();
    for _ in 0..3 {
        let response =
            service.ask("{ a: photos(first: 500) { nodes { data } } b: photos(first: 500) { nodes { data id } } }");
        assert_eq!((response.status, response.code().as_str()), (400, "TOO_COSTLY"), "{}", response.text());
        assert_eq!(
            service.ask("{ photos(first: 1) { nodes { id } } }").status,
            200,
            "the next request has another session"
        );
    }
}

#[rstest]
fn edges_count_among_what_an_operation_may_change(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
) {
    let database = Database::empty(engine);
    let mut sql = "create table walks (id integer primary key);\ncreate table tags (id integer primary key);\n\
        create table walk_tags (walk_id integer not null, tag_id integer not null, primary key (walk_id, tag_id),\n\
          foreign key (walk_id) references walks (id), foreign key (tag_id) references tags (id));\n"
        .to_owned();
    for id in 1..=40 {
        sql.push_str(&format!("insert into walks values ({id});\ninsert into tags values ({id});\n"));
    }
    database.execute(&sql);
    let project = TestProject::of(&database, "", "[limits]\nchanges = 100\n");
    let service = project.serve();
    let keys =
        |number: usize| (1..=number).map(|id| format!("{{ key: {{ id: {id} }} }}")).collect::<Vec<_>>().join(", ");
    let link = |number: usize, some: &str| {
        let document =
            format!("mutation {{ updateWalks({some}, set: {{ tags: {{ link: [{}] }} }}) {{ count }} }}", keys(number));
        service.ask(&document).code()
    };
    assert_eq!(link(3, "filter: { id: { lte: 10 } }"), "", "10 rows and 30 edges");
    assert_eq!(link(3, "everyRow: true"), "TOO_COSTLY", "40 rows and 120 edges");
    assert_eq!(link(101, "filter: { id: { eq: 1 } }"), "TOO_COSTLY");
    let several: String = (0..3)
        .map(|at| format!("a{at}: updateWalks(everyRow: true, set: {{ tags: {{ link: [] }} }}) {{ count }} "))
        .collect();
    assert_eq!(
        service.ask(&format!("mutation {{ {several} }}")).code(),
        "TOO_COSTLY",
        "the sum of the operation counts"
    );
    assert_eq!(
        database.query("select count(*) from walk_tags")[0][0].as_deref().map(str::to_owned),
        Some("30".to_owned())
    );
}

#[test]
fn strange_keys_write_nothing_and_locked_records_stop_nobody() {
    let (project, service) = huts();
    let file = project.path().join(".puente").join("records.db");
    let access_keys = AccessKeys::open(&file).unwrap();
    let key = access_keys.create_key(&NewKey { name: "ci", role: "owner", ..NewKey::default() }).unwrap();
    let ask = |key: &str| {
        let authorization = format!("Bearer {key}");
        let headers = [("Authorization", authorization.as_str()), ("Content-Type", "application/json")];
        service.send("POST", "/graphql", &headers, b"{\"query\": \"{ __typename }\"}").status
    };
    assert_eq!(ask(&key), 200, "a key that was made a moment ago");
    let before = std::fs::metadata(&file).unwrap().modified().unwrap();
    let locker = rusqlite::Connection::open(&file).unwrap();
    locker.execute_batch("begin exclusive").unwrap();
    for number in 0..50 {
        assert_eq!(ask(&format!("puente_nobody_{number}")), 401);
        assert_eq!(ask(&key), 200);
    }
    assert_eq!(std::fs::metadata(&file).unwrap().modified().unwrap(), before, "nothing was written");
    drop(locker);
    access_keys.revoke_key("ci").unwrap();
    let until = Instant::now() + Duration::from_secs(10);
    while ask(&key) != 401 {
        assert!(Instant::now() < until, "a revoked key is refused");
        std::thread::sleep(Duration::from_millis(50));
    }
}

/// One caller asks for what takes until its time is over, on more connections than there are readers; another's small request is
/// answered meanwhile.
#[test]
fn a_caller_among_others_never_takes_their_turn() {
    let project = TestProject::of_sql(
        "create table numbers (id integer primary key, n integer);
         with recursive c(n) as (select 1 union all select n + 1 from c where n < 20000)
         insert into numbers select n, n % 7 from c;",
        "[[link]]\ntable = \"numbers\"\ncolumns = [\"n\"]\nto = \"numbers\"\nreferences = [\"n\"]\nname = \"like\"\nback = \"likes\"\n\
         [limits]\ntime_ms = 60000\n[role.reader.Number.read]\nfields = \"all\"\n",
    );
    let service = project.serve();
    let access_keys = AccessKeys::open(&project.path().join(".puente").join("records.db")).unwrap();
    let key = access_keys.create_key(&NewKey { name: "quiet", role: "reader", ..NewKey::default() }).unwrap();
    let slow = json!({ "query": "{ numbers(filter: { likes: { all: { likes: { exists: { likes: { exists: { n: { eq: 99 } } } } } } } }) { totalCount } }" });
    let authorization = format!("Bearer {OWNER_KEY}");
    let headers = [("Authorization", authorization.as_str()), ("Content-Type", "application/json")];
    let loud: Vec<TcpStream> =
        (0..40).map(|_| service.connect("POST", "/graphql", &headers, slow.to_string().as_bytes())).collect();
    std::thread::sleep(Duration::from_millis(300));
    let authorization = format!("Bearer {key}");
    let headers = [("Authorization", authorization.as_str()), ("Content-Type", "application/json")];
    for id in 1..=20 {
        let body = json!({ "query": format!("{{ number(key: {{ id: {id} }}) {{ n }} }}") }).to_string();
        let response = service.send("POST", "/graphql", &headers, body.as_bytes());
        assert_eq!(response.json()["data"]["number"]["n"], json!(id % 7), "{}", response.text());
    }
    for mut stream in loud {
        stream.set_nonblocking(true).unwrap();
        let answered = stream.read(&mut [0; 1]).is_ok_and(|read| read > 0);
        assert!(!answered, "the loud ones are still at it");
    }
}

#[test]
fn a_caller_has_no_more_than_its_share() {
    let project = TestProject::of_sql(
        "create table notes (id integer primary key);",
        "[limits]\nasks_per_second = 3\n[role.reader.Note.read]\nfields = \"all\"\n[identity]\nanonymous = \"reader\"\n",
    );
    let service = project.serve();
    let headers = [("Content-Type", "application/json"), ("Accept", "application/json")];
    let ask = || service.send("POST", "/graphql", &headers, b"{\"query\": \"{ notes { nodes { id } } }\"}");
    let answers: Vec<Response> = (0..12).map(|_| ask()).collect();
    let refused: Vec<&Response> = answers.iter().filter(|answer| answer.status == 429).collect();
    assert!(refused.len() >= 4, "{:?}", answers.iter().map(|answer| answer.status).collect::<Vec<_>>());
    assert_eq!((refused[0].code().as_str(), refused[0].header("retry-after")), ("TOO_BUSY", Some("1")));
    assert_eq!(service.ask("{ notes { nodes { id } } }").status, 200, "the owner has a share of its own");
}

/// Whoever connects is never answered.
fn black_hole() -> (TcpListener, u16) {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    (listener, port)
}

#[rstest]
fn a_database_that_never_answers_is_waited_for_no_longer_than_an_ask_may_take(
    #[values(Engine::Postgres, Engine::Mariadb)] engine: Engine,
) {
    let database = Database::empty(engine);
    database.execute("create table peaks (id integer primary key);\n");
    let project = TestProject::of(&database, "", "[limits]\ntime_ms = 1000\n");
    let (_hole, port) = black_hole();
    let file = project.path().join("puente.toml");
    let text = std::fs::read_to_string(&file).unwrap();
    let parsed = url::Url::parse(&database.url).unwrap();
    let address = format!("{}:{}", parsed.host_str().unwrap(), parsed.port().unwrap());
    std::fs::write(&file, text.replace(&address, &format!("127.0.0.1:{port}"))).unwrap();
    let service = project.serve();
    let until = Instant::now() + Duration::from_secs(30);
    let ready = service.send("GET", "/health/ready", &[], b"");
    assert_eq!(ready.status, 503, "{}", ready.text());
    for extensions in [json!({}), json!({ "explain": true })] {
        let response = service.post(&json!({ "query": "{ peaks { nodes { id } } }", "extensions": extensions }));
        assert!(matches!(response.code().as_str(), "TIMED_OUT" | "SOURCE_UNAVAILABLE"), "{}", response.text());
    }
    // Once it was waited for in vain, nobody waits for a while.
    assert_eq!(service.ask("{ peaks { nodes { id } } }").code(), "SOURCE_UNAVAILABLE");
    assert!(Instant::now() < until, "every wait has an end");
}

#[test]
fn an_empty_database_file_is_not_ready() {
    let project = TestProject::of_sql("create table notes (id integer primary key);", "");
    let service = project.serve();
    assert_eq!(service.send("GET", "/health/ready", &[], b"").status, 200);
    std::fs::write(project.database(), b"").unwrap();
    let until = Instant::now() + Duration::from_secs(10);
    loop {
        let owner = format!("Bearer {}", puente_testkit::project::OWNER_KEY);
        let ready = service.send("GET", "/health/ready", &[("Authorization", &owner)], b"");
        if ready.status == 503 {
            assert!(ready.text().contains("has no tables"), "{}", ready.text());
            return;
        }
        assert!(Instant::now() < until, "{}", ready.text());
        std::thread::sleep(Duration::from_millis(200));
    }
}

#[rstest]
fn an_or_of_thousands_is_asked_as_it_is(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
) {
    let database = Database::empty(engine);
    database.execute("create table peaks (id integer primary key);\ninsert into peaks values (1);\ninsert into peaks values (9999);\n");
    let project = TestProject::of(&database, "", "");
    let service = project.serve();
    let or: Vec<Json> = (0..2_500).map(|id| json!({ "id": { "eq": id } })).collect();
    let ask = |filter: Json| {
        let document = "query($f: PeakFilter) { peaks(filter: $f) { nodes { id } } }";
        service.post(&json!({ "query": document, "variables": { "f": filter } })).json()
    };
    assert_eq!(ask(json!({ "or": or })), json!({ "data": { "peaks": { "nodes": [{ "id": 1 }] } } }));
    let and: Vec<Json> = (0..2_500).map(|id| json!({ "id": { "ne": id } })).collect();
    assert_eq!(ask(json!({ "and": and })), json!({ "data": { "peaks": { "nodes": [{ "id": 9999 }] } } }));
    // What the database itself does not take in one statement is not a mistake of ours.
    let many: Vec<Json> = (0..9_000).map(|id| json!({ "id": { "in": [id] } })).collect();
    let answer = ask(json!({ "or": many }));
    let code = answer["errors"][0]["extensions"]["code"].as_str().unwrap_or("");
    assert!(matches!(code, "" | "TOO_COSTLY"), "{answer}");
}

/// A database that somebody else has locked is waited for as long as an ask may take, by every mutation alike.
#[test]
fn mutations_wait_for_the_locks_of_others_no_longer_than_an_ask_may_take() {
    let sql = "create table walks (id integer primary key, title text); insert into walks values (1, 'Ridge')";
    let project = TestProject::of_sql(sql, "[limits]\ntime_ms = 700\n");
    let service = project.serve();
    let other = rusqlite::Connection::open(project.database()).unwrap();
    other.execute_batch("begin immediate").unwrap();
    let set =
        |title: &str| format!("mutation {{ updateWalk(key: {{ id: 1 }}, set: {{ title: \"{title}\" }}) {{ count }} }}");
    let start = Instant::now();
    std::thread::scope(|scope| {
        for number in 0..4 {
            let (service, document) = (&service, set(&format!("late {number}")));
            scope.spawn(move || {
                let response = service.ask(&document);
                assert!(start.elapsed() < Duration::from_secs(3), "answered after {:?}", start.elapsed());
                let code = response.code();
                assert!(["TIMED_OUT", "CONTENTION"].contains(&code.as_str()), "{}", response.text());
            });
        }
    });
    other.execute_batch("rollback").unwrap();
    assert_eq!(service.data("{ walk(key: { id: 1 }) { title } }")["walk"]["title"], "Ridge", "nothing was done later");
    assert_eq!(service.data(&set("Valley"))["updateWalk"]["count"], 1);
}
