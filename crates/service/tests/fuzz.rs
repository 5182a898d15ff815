//! Whatever is read here from outside, edited at random: nothing of it may bring the service down, or be believed.

use std::io::{Read as _, Write as _};
use std::net::TcpStream;
use std::sync::Arc;
use std::time::Duration;

use puente_core::access;
use puente_core::catalog::Catalog;
use puente_core::model;
use puente_core::plan::Sealer;
use puente_core::project;
use puente_core::schema;
use puente_core::value::Datum;
use puente_service::{Ask, Principal};
use puente_testkit::fuzz::fuzz;
use puente_testkit::project::{OWNER_KEY, TestProject};
use serde_json::{Map, Value as Json};

fn seeds(texts: &[&str]) -> Vec<Vec<u8>> {
    texts.iter().map(|text| text.as_bytes().to_vec()).collect()
}

const DOCUMENTS: &[&str] = &[
    "{ huts(first: 20) { nodes { name region { name } bookings(first: 10) { nodes { startsOn hiker { name } } } } } }",
    "query($f: HutFilter, $n: Int, $o: [HutOrder!]) { huts(filter: $f, first: $n, orderBy: $o) { edges { cursor node { id } } pageInfo { endCursor hasNextPage } totalCount } }",
    "{ huts(filter: { or: [{ name: { contains: \"a\", ignoreCase: true } }, { bookings: { exists: { nights: { gt: 2 } } } }] }) { nodes { ...h } } } fragment h on Hut { id name trails { edges { position node { name } } } }",
    "{ bookings { groups(by: [{ startsOn: MONTH }], orderBy: [{ count: DESC }]) { key { startsOn } summary { count nights { sum avg } } } } }",
    "mutation($i: BookingCreate!) { createBooking(input: $i) { count node { id revision } } }",
    "mutation { updateBookings(filter: { status: { eq: REQUESTED } }, set: { status: CONFIRMED }) { count nodes { id status } } }",
    "{ __schema { queryType { name } types { name fields { name args { name type { name ofType { name } } } } } } __type(name: \"Hut\") { name } }",
    "query Q($with: Boolean!) { hut(key: { id: 1 }) { id @include(if: $with) name @skip(if: $with) supplies(first: 2, skip: 1) { nodes { hutId } } } }",
];

#[test]
fn documents_with_variables_are_answered_or_refused() {
    let project = TestProject::huts();
    let service = project.serve();
    let roles: Vec<String> = project.open().project.roles.keys().cloned().chain(["owner".to_owned()]).collect();
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    let variables =
        br#"{"f":{"id":{"in":[1,2]},"name":{"eq":"x"}},"n":3,"o":[{"name":"ASC"}],"with":true,"i":{"nights":2}}"#;
    let mut inputs = Vec::new();
    for document in DOCUMENTS {
        inputs.push([document.as_bytes(), b"\0", &variables[..]].concat());
    }
    fuzz("documents", &inputs, |input| {
        let mut parts = input.splitn(2, |byte| *byte == 0);
        let document = String::from_utf8_lossy(parts.next().unwrap_or_default()).into_owned();
        let variables = puente_core::value::read_object(parts.next().unwrap_or_default()).unwrap_or_default();
        let role = &roles[input.len() % roles.len()];
        let claims: Map<String, Json> = [("sub".to_owned(), Json::from("1"))].into_iter().collect();
        // Nothing stays: a rehearsal of whatever comes.
        for rehearse in [false, true] {
            if !rehearse && document.contains("mutation") {
                continue;
            }
            let ask = Ask { document: document.clone(), variables: variables.clone(), rehearse, ..Ask::default() };
            let answered =
                runtime.block_on(service.api.answer(ask, &Principal::at_command_line(role.as_str(), claims.clone())));
            if let Err(problems) = answered {
                let internal = problems.iter().find(|problem| problem.code.as_str() == "INTERNAL");
                assert!(internal.is_none(), "{internal:?}");
            }
        }
    });
}

/// Sends bytes and reads the status of what comes back.
fn status(service: &puente_testkit::project::TestService, request: &[u8]) -> u16 {
    let mut stream = TcpStream::connect(service.address).expect("it listens");
    stream.set_read_timeout(Some(Duration::from_secs(30))).unwrap();
    let _ = stream.write_all(request);
    let mut answer = Vec::new();
    let _ = stream.read_to_end(&mut answer);
    let text = String::from_utf8_lossy(&answer);
    text.split(' ').nth(1).and_then(|status| status.parse().ok()).unwrap_or(0)
}

#[test]
fn bodies_are_answered_or_refused() {
    let project = TestProject::huts();
    let service = project.serve();
    let inputs = seeds(&[
        r#"{"query": "{ huts { nodes { id } } }"}"#,
        r#"{"query": "query A($n: Int) { huts(first: $n) { nodes { id } } }", "operationName": "A", "variables": {"n": 2}}"#,
        r#"{"query": "{ __typename }", "extensions": {"as": {"role": "visitor", "claims": {"sub": "7"}}, "statements": true}}"#,
        r#"[{"query": "{ __typename }"}]"#,
    ]);
    fuzz("bodies", &inputs, |input| {
        let head = format!(
            "POST /graphql HTTP/1.1\r\nHost: {}\r\nAuthorization: Bearer {OWNER_KEY}\r\nContent-Type: application/json\r\n\
             Content-Length: {}\r\nConnection: close\r\n\r\n",
            service.address,
            input.len()
        );
        let status = status(&service, &[head.as_bytes(), input].concat());
        assert!(matches!(status, 200 | 400 | 403), "status {status}");
    });
}

#[test]
fn tokens_that_nobody_signed_are_not_believed() {
    let project = TestProject::of_sql(
        "create table notes (id integer primary key);",
        "[identity.tokens]\nissuer = \"i\"\naudience = \"a\"\nalgorithm = \"HS256\"\nkey = \"0123456789abcdef0123456789abcdef\"\n\
         [role.reader.Note.read]\nfields = \"all\"\n",
    );
    let service = project.serve();
    let inputs = seeds(&[
        "eyJhbGciOiJIUzI1NiIsInR5cCI6IkpXVCJ9.eyJpc3MiOiJpIiwiYXVkIjoiYSIsImV4cCI6NDEwMjQ0NDgwMCwicm9sZXMiOlsicmVhZGVyIl19.AAAA",
        "eyJhbGciOiJub25lIn0.eyJpc3MiOiJpIiwiYXVkIjoiYSIsImV4cCI6NDEwMjQ0NDgwMCwicm9sZXMiOlsib3duZXIiXX0.",
        "puente_abcdefghijklmnopqrstuvwxyz0123456789ABCDEF",
    ]);
    fuzz("tokens", &inputs, |input| {
        // A line ends where it ends: what follows would be another header.
        let token: Vec<u8> = input.iter().copied().filter(|byte| *byte >= b' ').take(12_000).collect();
        let head = [format!("GET /graphql?query=%7B__typename%7D HTTP/1.1\r\nHost: {}\r\nConnection: close\r\nAuthorization: Bearer ", service.address).as_bytes(), &token, b"\r\n\r\n"].concat();
        let status = status(&service, &head);
        assert!(matches!(status, 0 | 400 | 401 | 431), "status {status}");
    });
}

#[test]
fn cursors_open_where_they_were_sealed_and_nowhere_else() {
    let sealer = Sealer::new(b"a secret of the tests, thirty-two bytes", "reader");
    let cells = [
        Datum::Null,
        Datum::Integer(i64::MIN),
        Datum::Real(0.1),
        Datum::Text("Höhe".into()),
        Datum::Blob(vec![0, 255]),
    ];
    let cursor = sealer.seal(&[7; 8], cells.iter().map(Datum::as_ref));
    let good = cursor.clone().into_bytes();
    fuzz("cursors", &[good.clone(), b"AAAA".to_vec()], |input| {
        let opened = sealer.open(&String::from_utf8_lossy(input));
        assert_eq!(opened.is_some(), input == good, "{opened:?}");
        // Whatever the values are, they come back.
        let cells = [
            Datum::Blob(input.to_vec()),
            Datum::Text(String::from_utf8_lossy(input).into_owned()),
            Datum::Integer(i64::try_from(input.len()).unwrap()),
        ];
        if input.len() < 2_000 {
            let sealed = sealer.seal(&[1; 8], cells.iter().map(Datum::as_ref));
            assert_eq!(sealer.open(&sealed).map(|position| position.cells).as_deref(), Some(&cells[..]));
        }
    });
}

const SURVEY: &str = include_str!("../../core/tests/data/huts.json");

const PROJECT: &str = r#"
[source.main]
url = "sqlite:${DATA}/huts.db"
[service]
hosts = ["api.example"]
[limits]
page = 100
time_ms = 5000
[[type]]
table = "huts"
name = "Cabin"
[type.fields]
name = { name = "title", description = "What it is called." }
[[link]]
table = "notes"
columns = ["about"]
to = "huts"
references = ["id"]
[role.reader]
include = ["base"]
[role.reader.Booking.read]
fields = ["id", "nights"]
rows = "row.nights > 2 && row.hiker.name.startsWith('A')"
masks = { nights = "claims.level >= 3" }
max_page = 20
[role.base.Hiker.read]
fields = "all"
"#;

/// A project read as far as it goes.
fn read_project(text: &str, survey: &str) {
    let Ok(project) = project::read(text, &|name| (name == "DATA").then(|| "data".to_owned())) else { return };
    let Ok(catalog) = Catalog::from_text(survey) else { return };
    let Ok(model) = model::build(&[&catalog], &project) else { return };
    let model = Arc::new(model);
    let Ok(roles) = access::roles(&model, &project) else { return };
    for role in roles.iter().take(2) {
        if let Err(problem) = schema::build(&role.view) {
            panic!("{problem} {:?}", problem.detail);
        }
    }
}

#[test]
fn project_files_are_read_or_refused() {
    fuzz("project files", &seeds(&[PROJECT]), |input| read_project(&String::from_utf8_lossy(input), SURVEY));
}

#[test]
fn survey_files_are_read_or_refused() {
    let inputs = seeds(&[SURVEY]);
    let project = "[source.main]\nurl = \"sqlite:huts.db\"\n";
    fuzz("survey files", &inputs, |input| read_project(project, &String::from_utf8_lossy(input)));
}

#[test]
fn rules_are_understood_or_refused_with_their_place() {
    let rules = seeds(&[
        "row.hut.wardenId == claims.sub",
        "row.nights > 2 && (row.status in ['confirmed', 'declined'] || !has(row.guide))",
        "row.hiker.bookings.exists(b, b.nights > row.nights && b.startsOn < now)",
        "claims.groups.exists(g, g == 'a') || size(row.note) < 10 || row.note.contains(claims.word)",
    ]);
    fuzz("rules", &rules, |input| {
        let rule = String::from_utf8_lossy(input).replace("'''", "'");
        let text = format!(
            "[source.main]\nurl = \"sqlite:huts.db\"\n[role.a.Booking.read]\nfields = [\"id\"]\nrows = '''\n{rule}'''\n"
        );
        read_project(&text, SURVEY);
    });
}
