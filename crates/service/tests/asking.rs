//! What is asked and what comes back, over a socket: the demo's shapes, the cache, limits, cancellation, bad input.

use std::time::{Duration, Instant};

use puente_testkit::project::{OWNER_KEY, TestProject, TestService};
use rstest::rstest;
use serde_json::{Value as Json, json};

fn huts() -> (TestProject, TestService) {
    let project = TestProject::huts();
    let service = project.serve();
    (project, service)
}

/// A counter of `/metrics`.
fn counter(service: &TestService, name: &str) -> u64 {
    let authorization = format!("Bearer {OWNER_KEY}");
    let text = service.send("GET", "/metrics", &[("Authorization", &authorization)], b"").text();
    let line = text.lines().find(|line| line.starts_with(&format!("puente_{name}_total "))).map(str::to_owned);
    line.and_then(|line| line.split(' ').nth(1)?.parse().ok()).unwrap_or_else(|| panic!("no {name} in {text}"))
}

const THREE_LEVELS: &str =
    "{ huts(first: 20) { nodes { name region { name } bookings(first: 10) { nodes { startsOn hiker { name } } } } } }";

#[test]
fn a_three_level_ask_uses_one_statement_per_select_and_the_second_is_not_planned() {
    let (_project, service) = huts();
    let body = json!({ "query": THREE_LEVELS, "extensions": { "statements": true } });
    let first = service.post(&body).json();
    let statements = first["extensions"]["statements"].as_array().unwrap();
    assert_eq!(statements.len(), 2, "huts with their region, bookings with their hiker");
    let executions: Vec<_> = statements.iter().map(|s| s["executions"].as_u64().unwrap()).collect();
    assert_eq!(executions, [1, 20], "once per parent");
    let before = ["documents_parsed", "plans_built"].map(|name| counter(&service, name));
    let second = service.post(&body).json();
    assert_eq!(second["data"], first["data"]);
    assert_eq!(["documents_parsed", "plans_built"].map(|name| counter(&service, name)), before);
    assert!(counter(&service, "plans_reused") >= 1);
}

#[test]
fn a_plan_serves_every_value_of_the_same_shape_and_no_other_shape() {
    let (_project, service) = huts();
    let document = "query($f: HutFilter, $n: Int) { huts(filter: $f, first: $n) { nodes { id } } }";
    let ask = |variables: Json| service.post(&json!({ "query": document, "variables": variables })).json();
    ask(json!({ "f": { "id": { "in": [1, 2] } }, "n": 5 }));
    let built = counter(&service, "plans_built");
    assert_eq!(ask(json!({ "f": { "id": { "in": [3] } }, "n": 1 }))["data"]["huts"]["nodes"], json!([{ "id": 3 }]));
    assert_eq!(ask(json!({ "f": { "id": { "in": [] } }, "n": 1 }))["data"]["huts"]["nodes"], json!([]));
    assert_eq!(counter(&service, "plans_built"), built);
    ask(json!({ "f": { "id": { "eq": 3 } } }));
    assert_eq!(counter(&service, "plans_built"), built + 1, "another shape, another plan");
}

#[test]
fn keys_links_edges_and_aliases_answer_as_asked() {
    let (_project, service) = huts();
    let document = r#"
        query Look($with: Boolean!, $no: Boolean = false) {
          one: hut(key: { code: "RS01" }) { id same: id ...Named __typename }
          none: hut(key: { id: 999 }) { id }
          supply(key: { hutIdItem: { hutId: 1, item: "flour" } }) { unit hut { code } }
          trails(first: 1) { nodes { huts(first: 2) { edges { position node { name @include(if: $with) id @skip(if: $no) } } totalCount } } }
          incidentLogs(first: 1) { nodes { severity report hut { name } } pageInfo { hasNextPage endCursor } }
        }
        fragment Named on Hut { name ... on Hut { altitude } }
        query Other { __typename }"#;
    let body = json!({ "query": document, "operationName": "Look", "variables": { "with": false } });
    let answer = service.post(&body).json();
    assert!(answer.get("errors").is_none(), "{answer:#}");
    let data = &answer["data"];
    assert_eq!(data["one"]["id"], data["one"]["same"]);
    assert_eq!(data["one"]["__typename"], "Hut");
    assert_eq!(data["none"], Json::Null);
    let edge = &data["trails"]["nodes"][0]["huts"]["edges"][0];
    assert_eq!(edge["position"], 1);
    assert!(edge["node"].get("name").is_none() && edge["node"]["id"].is_number());
    assert!(data["trails"]["nodes"][0]["huts"]["totalCount"].as_i64().unwrap() >= 2);
    assert_eq!(data["incidentLogs"]["pageInfo"], json!({ "hasNextPage": true, "endCursor": null }));
    assert!(data["incidentLogs"]["nodes"][0]["report"]["kind"].is_string());
}

#[test]
fn walking_by_pages_meets_every_row_once_forward_and_backward() {
    let (_project, service) = huts();
    let mut walks = Vec::new();
    for (size, cursor, more) in [("first", "after", "hasNextPage"), ("last", "before", "hasPreviousPage")] {
        let end = if size == "first" { "endCursor" } else { "startCursor" };
        let document = format!(
            "query($c: String) {{ bookings(orderBy: [{{ price: DESC }}, {{ status: ASC }}], {size}: 499, {cursor}: $c, filter: {{ hutId: {{ lte: 12 }} }})
             {{ nodes {{ id }} pageInfo {{ {more} {end} }} totalCount }} }}"
        );
        let (mut ids, mut at, mut total) = (Vec::new(), Json::Null, 0);
        loop {
            let answer = service.post(&json!({ "query": document, "variables": { "c": at } })).json();
            let list = &answer["data"]["bookings"];
            let mut page: Vec<i64> = list["nodes"]
                .as_array()
                .unwrap_or_else(|| panic!("{answer:#}"))
                .iter()
                .map(|n| n["id"].as_i64().unwrap())
                .collect();
            if size == "last" {
                page.reverse();
            }
            ids.extend(page);
            total = list["totalCount"].as_u64().unwrap_or(total);
            at = list["pageInfo"][end].clone();
            if list["pageInfo"][more] != json!(true) {
                break;
            }
        }
        assert_eq!(ids.len() as u64, total);
        let distinct: std::collections::HashSet<_> = ids.iter().collect();
        assert_eq!(distinct.len(), ids.len());
        walks.push(ids);
    }
    walks[1].reverse();
    assert_eq!(walks[0], walks[1]);
}

#[rstest]
#[case::not_graphql("{ huts(", "DOCUMENT_UNREADABLE", "")]
#[case::unknown_field("{ huts { nodes { nam } } }", "DOCUMENT_INVALID", "did you mean `name`?")]
#[case::unknown_argument("{ huts(frist: 1) { totalCount } }", "DOCUMENT_INVALID", "did you mean `first`?")]
#[case::unknown_member(
    "{ huts(filter: { nme: { eq: \"x\" } }) { totalCount } }",
    "DOCUMENT_INVALID",
    "did you mean `name`?"
)]
#[case::wrong_type("{ huts(first: \"three\") { totalCount } }", "DOCUMENT_INVALID", "Int")]
#[case::first_and_last("{ huts(first: 1, last: 1) { totalCount } }", "INVALID_ARGUMENT", "exclude each other")]
#[case::too_large_a_page("{ huts(first: 501) { totalCount } }", "INVALID_ARGUMENT", "from 0 to 500")]
#[case::negative("{ huts(first: -1) { totalCount } }", "INVALID_ARGUMENT", "from 0 to 500")]
#[case::skip_and_cursor("{ huts(skip: 1, after: \"x\") { totalCount } }", "INVALID_ARGUMENT", "`skip` excludes")]
#[case::eq_null("{ huts(filter: { name: { eq: null } }) { totalCount } }", "INVALID_ARGUMENT", "isNull")]
#[case::cursor("{ huts(after: \"abc\") { totalCount } }", "INVALID_CURSOR", "not a cursor of this list")]
#[case::date(
    "{ bookings(filter: { startsOn: { eq: \"2026-02-30\" } }) { totalCount } }",
    "INVALID_ARGUMENT",
    "such as \"2026-07-14\""
)]
#[case::two_keys("{ hut(key: { id: 1, code: \"x\" }) { id } }", "DOCUMENT_INVALID", "")]
#[case::two_operations("query A { __typename } query B { __typename }", "DOCUMENT_INVALID", "one of A, B")]
#[case::too_costly(
    "{ bookings(first: 500) { nodes { hut { bookings(first: 500) { nodes { hut { bookings { totalCount } } } } } } } }",
    "TOO_COSTLY",
    "smaller pages"
)]
fn bad_documents_get_their_clear_error(#[case] document: &str, #[case] code: &str, #[case] text: &str) {
    static SERVICE: std::sync::OnceLock<(TestProject, TestService)> = std::sync::OnceLock::new();
    let (_, service) = SERVICE.get_or_init(huts);
    let response = service.ask(document);
    assert_eq!(response.code(), code, "{}", response.text());
    assert_eq!(response.status, 400);
    assert!(response.text().replace("\\\"", "\"").contains(text), "{}", response.text());
    if code != "TOO_COSTLY" && !document.starts_with("query") {
        let line = &response.json()["errors"][0]["locations"][0]["line"];
        assert_eq!(line, &json!(1), "the place is told: {}", response.text());
    }
}

#[rstest]
#[case(json!({}), "`$n` is required")]
#[case(json!({ "n": "x" }), "$n expects a value of type `Int`, found \"x\"")]
#[case(json!({ "n": 1, "f": { "nam": {} } }), "did you mean `name`?")]
#[case(json!({ "n": 1, "f": { "name": { "in": ["a", null] } } }), "$f.name.in[1] expects a value of type `String!`, found null")]
#[case(json!({ "n": 1, "o": [{ "name": "UP" }] }), "expects one of ASC, DESC")]
#[case(json!({ "n": 1, "o": [{ "name": "ASC", "id": "ASC" }] }), "exactly one member")]
fn bad_variables_get_their_clear_error(#[case] variables: Json, #[case] text: &str) {
    static SERVICE: std::sync::OnceLock<(TestProject, TestService)> = std::sync::OnceLock::new();
    let (_, service) = SERVICE.get_or_init(huts);
    let document =
        "query($n: Int!, $f: HutFilter, $o: [HutOrder!]) { huts(first: $n, filter: $f, orderBy: $o) { totalCount } }";
    let response = service.post(&json!({ "query": document, "variables": variables }));
    assert_eq!((response.status, response.code().as_str()), (400, "INVALID_VARIABLE"));
    let message = response.json()["errors"][0]["message"].as_str().unwrap().to_owned();
    assert!(message.contains(text), "{message}");
}

#[test]
fn floods_and_depths_are_refused_and_the_service_stays_up() {
    let (_project, service) = huts();
    let deep = format!("{}{}", "{ huts { nodes ".repeat(10_000), "} }".repeat(10_000));
    assert_eq!(service.ask(&deep).code(), "TOO_COSTLY");
    let aliases: String = (0..1_000).map(|n| format!("a{n}: hut(key: {{ id: 1 }}) {{ id }} ")).collect();
    assert_eq!(service.ask(&format!("{{ {aliases} }}")).code(), "TOO_COSTLY");
    let ring = "{ regions { nodes { ...A } } } fragment A on Region { parent { ...A } }";
    assert_eq!(service.ask(ring).code(), "DOCUMENT_INVALID");
    let filter = format!("{}{{}}{}", "{ not: ".repeat(30), " }".repeat(30));
    assert_eq!(service.ask(&format!("{{ huts(filter: {filter}) {{ totalCount }} }}")).code(), "TOO_COSTLY");
    let list = json!({ "query": "query($i: [Int!]) { huts(filter: { id: { in: $i } }) { totalCount } }", "variables": { "i": vec![1; 1_001] } });
    assert_eq!(service.post(&list).code(), "TOO_COSTLY");
    assert_eq!(service.ask("{ huts { totalCount } }").status, 200);
}

/// A view that takes the database some seconds to count.
const SLOW: &str = "create table steps (i integer primary key);
    with recursive c(i) as (select 1 union all select i + 1 from c where i < 3000) insert into steps select i from c;
    create view slow as select a.i from steps as a, steps as b, steps as c where (a.i + b.i + c.i) % 7 = 8;";

#[test]
fn a_slow_ask_is_cancelled_in_the_database_at_its_time() {
    // The survey samples the view, so it is made slow only afterwards.
    let project = TestProject::of_sql(
        "create table steps (i integer primary key); create view slow as select i from steps;",
        "[limits]\ntime_ms = 300\n",
    );
    make_slow(&project);
    let service = project.serve();
    let start = Instant::now();
    let response = service.ask("{ slows { totalCount } }");
    assert_eq!((response.status, response.code().as_str()), (504, "TIMED_OUT"), "{}", response.text());
    assert!(start.elapsed() < Duration::from_secs(5));
    // Both readers are free again at once.
    for _ in 0..4 {
        assert_eq!(service.ask("{ steps { totalCount } }").status, 200);
    }
}

#[test]
fn an_ask_whose_client_left_is_cancelled_in_the_database() {
    let project = TestProject::of_sql(
        "create table steps (i integer primary key); create view slow as select i from steps;",
        "connections = 1\n[limits]\ntime_ms = 60000\n",
    );
    make_slow(&project);
    let service = project.serve();
    let authorization = format!("Bearer {OWNER_KEY}");
    let headers = [("Authorization", authorization.as_str()), ("Content-Type", "application/json")];
    let streams: Vec<_> = (0..3)
        .map(|_| service.connect("POST", "/graphql", &headers, br#"{"query": "{ slows { totalCount } }"}"#))
        .collect();
    std::thread::sleep(Duration::from_millis(500));
    drop(streams);
    let start = Instant::now();
    assert_eq!(service.ask("{ steps { totalCount } }").status, 200);
    assert!(start.elapsed() < Duration::from_secs(20), "the readers were freed long before the asks' own time limit");
}

fn make_slow(project: &TestProject) {
    let connection = rusqlite::Connection::open(project.database()).unwrap();
    connection.execute_batch(&format!("drop view slow; drop table steps; {SLOW}")).unwrap();
}

#[test]
fn stopping_finishes_what_runs() {
    let (_project, mut service) = huts();
    let authorization = format!("Bearer {OWNER_KEY}");
    let headers = [("Authorization", authorization.as_str()), ("Content-Type", "application/json")];
    let body = json!({ "query": "{ weatherReadings(filter: { hut: { name: { contains: \"e\" } } }, orderBy: [{ hut: { name: ASC } }], first: 500) { totalCount nodes { id } } }" });
    let mut stream = service.connect("POST", "/graphql", &headers, body.to_string().as_bytes());
    std::thread::sleep(Duration::from_millis(30));
    service.stop();
    let mut answer = String::new();
    std::io::Read::read_to_string(&mut stream, &mut answer).unwrap();
    assert!(
        answer.starts_with("HTTP/1.1 200") && answer.ends_with("}"),
        "{}",
        answer.chars().take(200).collect::<String>()
    );
}

#[test]
fn a_value_that_does_not_fit_is_an_error_on_its_field_and_no_more() {
    let project = TestProject::of_sql(
        "create table odd (id integer primary key, n integer, d date, s text);
         insert into odd values (1, 5, '2026-01-01', 'ok');",
        "",
    );
    // What the survey could not see.
    let connection = rusqlite::Connection::open(project.database()).unwrap();
    let later = "insert into odd values (2, 'many', '2026-02-30', x'ff'), (3, 1e300, '24:00', 'ok')";
    connection.execute_batch(later).unwrap();
    let service = project.serve();
    let answer = service.ask("{ odds { nodes { id n d s } } }");
    assert_eq!(answer.status, 200);
    let answer = answer.json();
    assert_eq!(answer["data"]["odds"]["nodes"][0], json!({ "id": 1, "n": 5, "d": "2026-01-01", "s": "ok" }));
    assert_eq!(answer["data"]["odds"]["nodes"][1], json!({ "id": 2, "n": null, "d": null, "s": null }));
    let errors = answer["errors"].as_array().unwrap();
    assert_eq!(errors.len(), 5, "{errors:#?}");
    assert_eq!(errors[0]["path"], json!(["odds", "nodes", 1, "n"]));
    assert_eq!(errors[0]["extensions"]["code"], "VALUE_UNFIT");
    assert!(
        errors[0]["message"]
            .as_str()
            .unwrap()
            .contains("of the row with id 2 expects an integer of 32 bits, found the text \"many\"")
    );
}

#[test]
fn an_error_on_a_non_null_field_nulls_the_nearest_nullable_position() {
    let sql = "create table huts (id integer primary key, beds integer not null) strict;
        create table notes (id integer primary key, hut_id integer references huts);
        insert into huts values (1, 4), (2, 5); insert into notes values (1, 1), (2, 2);";
    let project = TestProject::of_sql(sql, "");
    let connection = rusqlite::Connection::open(project.database()).unwrap();
    connection.execute_batch("update huts set beds = 5000000000 where id = 2").unwrap();
    let service = project.serve();
    let answer = service.ask("{ notes { nodes { id hut { beds } } } huts { nodes { beds } } }").json();
    assert_eq!(answer["data"], Json::Null, "a list of non-null rows of a non-null connection has no nullable position");
    let answer = service.ask("{ notes { nodes { id hut { beds } } } }").json();
    assert_eq!(answer["data"]["notes"]["nodes"], json!([{ "id": 1, "hut": { "beds": 4 } }, { "id": 2, "hut": null }]));
    let message = answer["errors"][0]["message"].as_str().unwrap();
    assert!(message.contains("row with id 2") && message.contains("`nullable`"), "{message}");
}

#[test]
fn introspection_and_the_printed_schema_are_the_same() {
    let (_project, service) = huts();
    let sdl = service.api.sdl("owner").expect("the owner is there");
    let answer = service.ask(include_str!("introspection.graphql")).json();
    assert!(answer.get("errors").is_none(), "{answer:#}");
    let types = answer["data"]["__schema"]["types"].as_array().unwrap();
    let schema = apollo_compiler::Schema::parse_and_validate(&sdl, "printed.graphql").expect("the SDL is valid");
    let introspected: std::collections::BTreeSet<_> =
        types.iter().map(|t| t["name"].as_str().unwrap().to_owned()).collect();
    let printed: std::collections::BTreeSet<_> = schema.types.keys().map(ToString::to_string).collect();
    assert_eq!(introspected, printed);
    for t in types {
        let Some(fields) = t["fields"].as_array() else { continue };
        for field in fields {
            let (owner, name) = (t["name"].as_str().unwrap(), field["name"].as_str().unwrap());
            let known = schema.type_field(owner, name).unwrap_or_else(|_| panic!("{owner}.{name}"));
            assert_eq!(written(&field["type"]), known.ty.to_string(), "{owner}.{name}");
            assert_eq!(field["args"].as_array().unwrap().len(), known.arguments.len(), "{owner}.{name}");
        }
    }
}

/// The schema is told piece by piece: aliases, fragments, merged fields and variables come out as if it were told as a whole.
#[test]
fn introspection_is_merged_however_it_is_written() {
    let (_project, service) = huts();
    let document = "query($no: Boolean!, $old: Boolean, $hut: String!) {
        s: __schema { ...Some types { name @include(if: $no) } t: types { kind } queryType { name } directives @skip(if: $no) { name } __typename }
        s: __schema { types { fields(includeDeprecated: $old) { name } } }
        t: __type(name: $hut) { ...Named } t: __type(name: $hut) { kind }
        none: __type(name: \"Nothing\") { name }
        hut(key: { id: 1 }) { id }
      }
      fragment Some on __Schema { types { ...Named } mutationType { name } }
      fragment Named on __Type { name }";
    let answer =
        service.post(&json!({ "query": document, "variables": { "no": false, "old": true, "hut": "Hut" } })).json();
    let alone = |of_schema: &str| {
        let answer = service.ask(&format!("{{ __schema {{ {of_schema} }} }}")).json();
        answer["data"]["__schema"].as_object().and_then(|members| members.values().next()).cloned().unwrap_or_default()
    };
    let expected = json!({
        "s": {
            "types": alone("types { name fields(includeDeprecated: true) { name } }"),
            "mutationType": { "name": "Mutation" },
            "t": alone("types { kind }"),
            "queryType": { "name": "Query" },
            "directives": alone("directives { name }"),
            "__typename": "__Schema",
        },
        "t": { "name": "Hut", "kind": "OBJECT" },
        "none": null,
        "hut": { "id": 1 },
    });
    assert!(answer["data"]["s"]["types"].as_array().is_some_and(|types| types.len() > 50), "{answer}");
    assert_eq!(answer["data"], expected);
    // The order is that of the document, too.
    assert_eq!(answer["data"].to_string(), expected.to_string());
}

/// A type reference of introspection as it is written.
fn written(t: &Json) -> String {
    match t["kind"].as_str().unwrap() {
        "NON_NULL" => format!("{}!", written(&t["ofType"])),
        "LIST" => format!("[{}]", written(&t["ofType"])),
        _ => t["name"].as_str().unwrap().to_owned(),
    }
}
