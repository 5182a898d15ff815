//! One API over several databases: links between them, pages, filters and summaries through the links, rules on both sides,
//! changes, a source that is away, and mistakes in a project file that has several.

use puente_core::catalog::Engine;
use puente_core::project::Mistake;
use puente_service::{FolderError, ProjectFolder};
use puente_testkit::database::Database;
use puente_testkit::project::{OWNER_KEY, TestProject, TestService};
use rstest::rstest;
use serde_json::{Value as Json, json};

/// The huts, as every engine understands them.
const HUTS: &str = "
create table regions (id integer primary key, name varchar(40));
create table huts (id integer primary key, code varchar(10) not null unique, name varchar(40), region_id integer references regions (id), warden varchar(10));
create table bookings (id integer primary key, hut_id integer not null references huts (id), guest varchar(10));
insert into regions values (1, 'North'), (2, 'South');
insert into huts values (1, 'A', 'Alm', 1, 'w1'), (2, 'B', 'Berg', 1, 'w2'), (3, 'C', 'Col', 2, 'w1'), (4, 'D', null, null, null);
insert into bookings values (1, 1, 'x'), (2, 1, 'y'), (3, 2, 'x');
";

/// What the rescue service wrote down: huts are known by code here, and by number as a text there.
const LOG: &str = "
create table calls (id integer primary key, hut_code varchar(10), hut_no varchar(10), severity integer, crew varchar(10));
create table notes (id integer primary key, call_id integer references calls (id), body varchar(40));
insert into calls values (1, 'A', '1', 1, 'r1'), (2, 'A', '1', 5, 'r2'), (3, 'B', '2', 3, 'r1'), (4, null, null, 4, 'r1'), (5, 'Z', 'none', 9, 'r2');
insert into notes values (1, 1, 'fog'), (2, 2, 'ice'), (3, 3, 'fog'), (4, 5, 'far');
";

const LINKS: &str = "
[[link]]
table = \"log:calls\"
columns = [\"hut_code\"]
to = \"huts\"
references = [\"code\"]
name = \"hut\"
back = \"calls\"

[[link]]
table = \"calls\"
columns = [\"hut_no\"]
to = \"main:huts\"
references = [\"id\"]
name = \"byNumber\"
back = \"callsByNumber\"
";

struct Two {
    main: Database,
    log: Database,
    project: TestProject,
}

impl Two {
    fn new(engines: (Engine, Engine), edits: &str) -> Self {
        let (main, log) = (Database::empty(engines.0), Database::empty(engines.1));
        main.execute(HUTS);
        log.execute(LOG);
        let project = TestProject::of_sources(&[("main", &main), ("log", &log)], &format!("{LINKS}{edits}"));
        Two { main, log, project }
    }

    fn sqlite(edits: &str) -> Self {
        Two::new((Engine::Sqlite, Engine::Sqlite), edits)
    }
}

/// Names of huts, in order.
fn names(answer: &Json) -> Vec<&str> {
    answer["huts"]["nodes"].as_array().unwrap().iter().map(|hut| hut["code"].as_str().unwrap()).collect()
}

fn statements(service: &TestService, document: &str) -> Vec<Json> {
    let answer = service.post(&json!({ "query": document, "extensions": { "statements": true } })).json();
    assert!(answer.get("errors").is_none(), "{answer}");
    answer["extensions"]["statements"].as_array().unwrap().clone()
}

#[rstest]
#[case::two_files((Engine::Sqlite, Engine::Sqlite))]
#[case::a_server_and_a_file((Engine::Postgres, Engine::Sqlite))]
#[case::a_file_and_a_server((Engine::Sqlite, Engine::Mariadb))]
#[case::two_servers((Engine::Mariadb, Engine::Postgres))]
fn links_between_sources_are_links(#[case] engines: (Engine, Engine)) {
    let two = Two::new(engines, "");
    let service = two.project.serve();
    let answer = service.data(
        "{ huts(orderBy: [{ code: ASC }]) { nodes { code region { name }
            calls(orderBy: [{ severity: DESC }], first: 1) { totalCount nodes { severity notes { nodes { body } } }
                pageInfo { hasNextPage } summary { severity { sum } } }
            bookings { totalCount } } } }",
    );
    let huts = answer["huts"]["nodes"].as_array().unwrap();
    assert_eq!(
        huts[0],
        json!({ "code": "A", "region": { "name": "North" }, "calls": { "totalCount": 2,
            "nodes": [{ "severity": 5, "notes": { "nodes": [{ "body": "ice" }] } }],
            "pageInfo": { "hasNextPage": true }, "summary": { "severity": { "sum": "6" } } },
            "bookings": { "totalCount": 2 } })
    );
    assert_eq!(huts[2]["calls"]["totalCount"], 0);
    assert_eq!(
        huts[3]["calls"],
        json!({ "totalCount": 0, "nodes": [], "pageInfo": { "hasNextPage": false },
        "summary": { "severity": { "sum": null } } })
    );
    // And the other way round, there and back again.
    let answer = service.data(
        "{ calls(orderBy: [{ id: ASC }]) { nodes { id hut { name region { name } calls { totalCount } } byNumber { code } } } }",
    );
    let calls = answer["calls"]["nodes"].as_array().unwrap();
    assert_eq!(
        calls[0],
        json!({ "id": 1, "hut": { "name": "Alm", "region": { "name": "North" }, "calls": { "totalCount": 2 } },
            "byNumber": { "code": "A" } })
    );
    assert_eq!(calls[3], json!({ "id": 4, "hut": null, "byNumber": null }));
    assert_eq!(calls[4], json!({ "id": 5, "hut": null, "byNumber": null }), "`none` is the number of no hut");
}

#[rstest]
#[case::two_files((Engine::Sqlite, Engine::Sqlite))]
#[case::a_server_and_a_file((Engine::Postgres, Engine::Sqlite))]
#[case::a_file_and_a_server((Engine::Sqlite, Engine::Mariadb))]
#[case::two_servers((Engine::Mariadb, Engine::Postgres))]
fn filters_through_links_between_sources_have_their_meaning(#[case] engines: (Engine, Engine)) {
    let two = Two::new(engines, "");
    let service = two.project.serve();
    let huts = |filter: &str| {
        let answer =
            service.data(&format!("{{ huts(orderBy: [{{ code: ASC }}], filter: {filter}) {{ nodes {{ code }} }} }}"));
        names(&answer).join("")
    };
    for (filter, expected) in [
        ("{ calls: { exists: { severity: { gte: 3 } } } }", "AB"),
        ("{ calls: { exists: {} } }", "AB"),
        ("{ calls: { all: { severity: { gte: 3 } } } }", "BCD"),
        ("{ calls: { none: { severity: { gte: 3 } } } }", "CD"),
        ("{ not: { calls: { all: { severity: { gte: 3 } } } } }", "A"),
        ("{ not: { calls: { exists: { severity: { gte: 5 } } } } }", "BCD"),
        ("{ calls: { exists: { notes: { exists: { body: { eq: \"ice\" } } } } } }", "A"),
        // There and back again: huts of whose calls one is of a hut in the north.
        ("{ calls: { exists: { hut: { region: { name: { eq: \"North\" } } } } } }", "AB"),
        ("{ or: [{ code: { eq: \"D\" } }, { calls: { exists: { severity: { eq: 3 } } } }] }", "BD"),
        ("{ callsByNumber: { exists: { severity: { eq: 3 } } } }", "B"),
        ("{ bookings: { exists: { hut: { calls: { exists: { severity: { eq: 5 } } } } } } }", "A"),
    ] {
        assert_eq!(huts(filter), expected, "{filter}");
    }
    let calls = |filter: &str| {
        let answer =
            service.data(&format!("{{ calls(orderBy: [{{ id: ASC }}], filter: {filter}) {{ nodes {{ id }} }} }}"));
        let nodes = answer["calls"]["nodes"].as_array().unwrap();
        nodes.iter().map(|call| call["id"].to_string()).collect::<String>()
    };
    for (filter, expected) in [
        ("{ hut: { name: { eq: \"Alm\" } } }", "12"),
        ("{ hut: { name: { ne: \"Alm\" } } }", "3"),
        // A hut that is not there has no name: what is asked of it is unknown, but for whether it is null.
        ("{ not: { hut: { name: { eq: \"Alm\" } } } }", "3"),
        ("{ hut: { name: { isNull: true } } }", "45"),
        ("{ not: { hut: { name: { isNull: true } } } }", "123"),
        ("{ hut: { name: { isNull: false } } }", "123"),
        ("{ hut: { name: { notIn: [] } } }", "12345"),
        ("{ hut: { region: { name: { startsWith: \"N\" } } } }", "123"),
        ("{ hut: {} }", "12345"),
        ("{ byNumber: { code: { eq: \"B\" } } }", "3"),
        ("{ hut: { bookings: { none: {} } } }", "45"),
        ("{ hut: { bookings: { exists: { guest: { eq: \"y\" } } } } }", "12"),
    ] {
        assert_eq!(calls(filter), expected, "{filter}");
    }
    let answer = service.post(&json!({
        "query": "query ($names: [String!]) { calls(filter: { hut: { name: { notIn: $names } } }) { totalCount } }",
        "variables": { "names": [] },
    }));
    assert_eq!(answer.json()["data"]["calls"]["totalCount"], 5);
}

#[test]
fn a_level_between_sources_is_one_statement_for_a_thousand_keys() {
    let two = Two::sqlite("[limits]\npage = 5000\n");
    two.main.execute("with recursive n(i) as (select 100 union all select i + 1 from n where i < 2600) insert into huts select i, 'H' || i, null, null, null from n");
    two.log.execute("insert into calls select i + 1000, 'H' || i, null, 1, null from (with recursive n(i) as (select 100 union all select i + 1 from n where i < 2600) select i from n)");
    let service = two.project.serve();
    let sent = statements(&service, "{ huts(first: 900) { nodes { calls { nodes { id } } } } }");
    let to = |sent: &[Json], source: &str| sent.iter().filter(|statement| statement["source"] == source).count();
    assert_eq!((to(&sent, "main"), to(&sent, "log")), (1, 1), "{sent:#?}");
    let sent = statements(&service, "{ huts(first: 2505) { nodes { calls { nodes { id } } } } }");
    assert_eq!((to(&sent, "main"), to(&sent, "log")), (1, 3), "{sent:#?}");
    let answer = service.data("{ huts(first: 2505) { nodes { code calls { nodes { hutCode } } } } }");
    let huts = answer["huts"]["nodes"].as_array().unwrap();
    assert_eq!(huts.len(), 2505);
    for hut in huts {
        for call in hut["calls"]["nodes"].as_array().unwrap() {
            assert_eq!(call["hutCode"], hut["code"]);
        }
    }
    assert_eq!(huts.iter().filter(|hut| hut["calls"]["nodes"].as_array().unwrap().is_empty()).count(), 2);
}

#[rstest]
#[case::two_files((Engine::Sqlite, Engine::Sqlite))]
#[case::two_servers((Engine::Postgres, Engine::Mariadb))]
fn requests_that_cross_both_ways_do_not_wait_for_each_other(#[case] engines: (Engine, Engine)) {
    let two = Two::new(engines, "[limits]\ntime_ms = 20000\n");
    let file = two.project.path().join("puente.toml");
    let text = std::fs::read_to_string(&file).unwrap();
    std::fs::write(&file, text.replace("]\nurl", "]\nconnections = 2\nurl")).unwrap();
    let service = two.project.serve();
    let documents = [
        "{ huts { nodes { calls { nodes { id } } } } }",
        "{ calls { nodes { hut { code } } } }",
        "{ huts { nodes { bookings { totalCount } calls { nodes { hut { region { name } } } } } } }",
        "{ calls(filter: { hut: { name: { eq: \"Alm\" } } }) { nodes { notes { totalCount } hut { calls { totalCount } } } } }",
        "{ huts(filter: { calls: { exists: {} } }) { nodes { code } } calls { totalCount } }",
        "{ huts { totalCount } calls { totalCount } }",
    ];
    let asked = |number: usize| {
        for at in 0..12 {
            let answer = service.ask(documents[(number + at) % documents.len()]).json();
            assert!(answer.get("errors").is_none(), "{answer}");
        }
    };
    let start = std::time::Instant::now();
    std::thread::scope(|scope| {
        for number in 0..16 {
            scope.spawn(move || asked(number));
        }
    });
    // Whoever waited for each other would do so until the time is up.
    assert!(start.elapsed() < std::time::Duration::from_secs(15), "{:?}", start.elapsed());
}

#[test]
fn a_snapshot_that_ends_leaves_nothing_to_the_next_request() {
    let project = TestProject::demo();
    let service = project.serve();
    let document = "{ huts(first: 20) { nodes { name callouts(first: 10) { nodes { kind severity rescuers { totalCount } } } } } }";
    let expected = service.data(document);
    std::thread::scope(|scope| {
        for _ in 0..4 {
            scope.spawn(|| (0..150).for_each(|_| assert_eq!(service.data(document), expected)));
        }
    });
}

#[test]
fn a_filter_takes_so_many_keys_from_another_source_and_no_more() {
    let two = Two::sqlite("[limits]\ncross_keys = 2\n");
    let service = two.project.serve();
    let ask = |filter: &str| service.ask(&format!("{{ huts(filter: {filter}) {{ totalCount }} }}")).json();
    assert_eq!(ask("{ calls: { exists: { severity: { lt: 9 } } } }")["data"]["huts"]["totalCount"], 2);
    let refused = ask("{ calls: { exists: {} } }");
    let error = &refused["errors"][0];
    assert_eq!(error["extensions"]["code"], "TOO_COSTLY");
    let text = error["message"].as_str().unwrap();
    assert!(
        text.contains("over 2 keys") && text.contains("`cross_keys`") && text.contains("narrow the filter"),
        "{text}"
    );
}

#[rstest]
#[case::to_a_file(Engine::Sqlite)]
#[case::to_postgres(Engine::Postgres)]
#[case::to_mariadb(Engine::Mariadb)]
fn what_another_engine_cannot_hold_is_nobodys_key(#[case] engine: Engine) {
    let (main, log) = (Database::empty(Engine::Sqlite), Database::empty(engine));
    main.execute(
        "create table huts (id integer primary key, code text, number integer, big bigint);
        insert into huts values (1, 'a' || char(0) || 'b', 70000, 9223372036854775807), (2, 'ok', 7, 7),
            (3, cast(x'fffe' as text), -1, -1), (4, 'a', 'seven', null), (5, '\"{}\\', 7.5, 8);",
    );
    log.execute(
        "create table calls (id integer primary key, code varchar(10), number smallint, big bigint);
        insert into calls values (1, 'ok', 7, 7), (2, 'a', -1, 9223372036854775807), (3, null, null, null);",
    );
    let link = |column: &str| {
        format!(
            "[[link]]\ntable = \"huts\"\ncolumns = [\"{column}\"]\nto = \"calls\"\nreferences = [\"{column}\"]\nname = \"by_{column}\"\nback = \"of_{column}\"\n"
        )
    };
    let links = [link("code"), link("number"), link("big")].concat();
    let service = TestProject::of_sources(&[("main", &main), ("log", &log)], &links).serve();
    let answer = service.data(
        "{ huts(orderBy: [{ id: ASC }]) { nodes { by_code { nodes { id } } by_number { nodes { id } } by_big { nodes { id } } } } }",
    );
    let ids = |list: &Json| {
        let nodes = list["nodes"].as_array().unwrap().iter();
        nodes.map(|call| call["id"].to_string()).collect::<String>()
    };
    let found: Vec<[String; 3]> = answer["huts"]["nodes"]
        .as_array()
        .unwrap()
        .iter()
        .map(|hut| ["by_code", "by_number", "by_big"].map(|link| ids(&hut[link])))
        .collect();
    assert_eq!(found, [["", "", "2"], ["1", "1", "1"], ["", "2", ""], ["2", "", ""], ["", "", ""]]);
    let count = |filter: &str| {
        service.data(&format!("{{ calls(filter: {filter}) {{ totalCount }} }}"))["calls"]["totalCount"].clone()
    };
    for (filter, expected) in [
        ("{ of_code: { exists: {} } }", 2),
        ("{ of_code: { none: {} } }", 1),
        ("{ of_number: { exists: {} } }", 2),
        ("{ of_number: { none: { id: { gt: 0 } } } }", 1),
        ("{ of_big: { exists: {} } }", 2),
    ] {
        assert_eq!(count(filter), expected, "{filter}");
    }
}

const GRANTS: &str = "
[role.warden.Hut.read]
fields = [\"code\", \"name\", \"calls\"]
rows = \"row.warden == claims.sub\"
[role.warden.Call.read]
fields = [\"id\", \"severity\", \"crew\", \"hut\"]
rows = \"row.severity < 9\"
masks = { crew = \"row.severity < 5\" }
";

#[test]
fn rules_and_masks_hold_on_both_sides() {
    let two = Two::sqlite(GRANTS);
    let service = two.project.serve();
    let ask = |document: &str| {
        let as_warden = json!({ "as": { "role": "warden", "claims": { "sub": "w1" } } });
        let answer = service.post(&json!({ "query": document, "extensions": as_warden })).json();
        assert!(answer.get("errors").is_none(), "{answer}");
        answer["data"].clone()
    };
    let answer = ask("{ calls(orderBy: [{ id: ASC }]) { nodes { id crew hut { name } } } }");
    assert_eq!(
        answer["calls"]["nodes"],
        json!([{ "id": 1, "crew": "r1", "hut": { "name": "Alm" } }, { "id": 2, "crew": null, "hut": { "name": "Alm" } },
            { "id": 3, "crew": "r1", "hut": null }, { "id": 4, "crew": "r1", "hut": null }])
    );
    // What a filter ranges over is what the role sees, and what a mask hides is null.
    let count =
        |filter: &str| ask(&format!("{{ huts(filter: {filter}) {{ totalCount }} }}"))["huts"]["totalCount"].clone();
    assert_eq!(count("{ calls: { exists: { crew: { eq: \"r2\" } } } }"), 0);
    assert_eq!(count("{ calls: { exists: { crew: { isNull: true } } } }"), 1);
    let count =
        |filter: &str| ask(&format!("{{ calls(filter: {filter}) {{ totalCount }} }}"))["calls"]["totalCount"].clone();
    assert_eq!(count("{ hut: { name: { eq: \"Berg\" } } }"), 0);
    assert_eq!(count("{ hut: { name: { isNull: true } } }"), 2);
}

/// MariaDB would make -1 the nearest number that an unsigned column can hold.
#[rstest]
fn a_negative_number_is_not_the_zero_of_an_unsigned_column(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] from: Engine,
) {
    let (main, log) = (Database::empty(from), Database::empty(Engine::Mariadb));
    main.execute(
        "create table tags (id integer primary key, number bigint);
        insert into tags values (1, -1), (2, 7), (3, -9007199254740993);",
    );
    log.execute(
        "create table large (id integer primary key, n bigint unsigned, small int unsigned);
        insert into large values (1, 0, 0), (2, 7, 7), (3, 18446744073709551615, 4294967295);",
    );
    let link = |column: &str| {
        format!(
            "[[link]]\ntable = \"main:tags\"\ncolumns = [\"number\"]\nto = \"log:large\"\nreferences = [\"{column}\"]\nname = \"by_{column}\"\n"
        )
    };
    let edits = [link("n"), link("small")].concat();
    let service = TestProject::of_sources(&[("main", &main), ("log", &log)], &edits).serve();
    let answer =
        service.data("{ tags(orderBy: [{ id: ASC }]) { nodes { by_n { nodes { id } } by_small { nodes { id } } } } }");
    let (nothing, seven) = (json!({ "nodes": [] }), json!({ "nodes": [{ "id": 2 }] }));
    let expected = [&nothing, &seven, &nothing].map(|found| json!({ "by_n": found, "by_small": found }));
    assert_eq!(answer["tags"]["nodes"], json!(expected), "{answer}");
}

#[test]
fn a_source_that_is_away_is_an_error_of_its_own_fields() {
    let two = Two::new((Engine::Sqlite, Engine::Sqlite), "");
    let service = two.project.serve();
    std::fs::rename(two.log.file(), two.log.file().with_extension("away")).unwrap();
    let document = "{ huts(first: 2, orderBy: [{ code: ASC }]) { nodes { code calls { totalCount } bookings { totalCount } } } calls { totalCount } }";
    let response = service.ask(document);
    let answer = response.json();
    assert_eq!(response.status, 200);
    assert_eq!(
        answer["data"],
        json!({ "huts": { "nodes": [{ "code": "A", "calls": null, "bookings": { "totalCount": 2 } },
            { "code": "B", "calls": null, "bookings": { "totalCount": 1 } }] }, "calls": null })
    );
    let errors = answer["errors"].as_array().unwrap();
    let paths: Vec<&Json> = errors.iter().map(|error| &error["path"]).collect();
    assert_eq!(
        paths,
        [
            &json!(["huts", "nodes", 0, "calls", "totalCount"]),
            &json!(["huts", "nodes", 1, "calls", "totalCount"]),
            &json!(["calls", "totalCount"])
        ]
    );
    for error in errors {
        assert_eq!(error["extensions"]["code"], "SOURCE_UNAVAILABLE");
        assert!(error["message"].as_str().unwrap().starts_with("source `log`: "), "{error}");
        assert!(error["locations"][0]["line"].is_u64(), "{error}");
    }
    // A filter that it would have to be asked for cannot be answered; what needs it alone fails as a whole.
    let filtered =
        service.ask("{ huts(filter: { calls: { exists: {} } }) { totalCount } regions { totalCount } }").json();
    assert_eq!(filtered["data"], json!({ "huts": null, "regions": { "totalCount": 2 } }));
    assert_eq!(service.ask("{ calls { totalCount } }").status, 503);
    assert_eq!(service.data("{ huts { totalCount } }")["huts"]["totalCount"], 4);
    let ready = service.send("GET", "/health/ready", &[], b"");
    let text = String::from_utf8(ready.body.clone()).unwrap();
    assert!(ready.status == 200 && text.contains("main: ready") && text.contains("log: not ready"), "{text}");
    assert_eq!(
        (
            service.send("GET", "/health/ready/main", &[], b"").status,
            service.send("GET", "/health/ready/log", &[], b"").status
        ),
        (200, 503)
    );
    assert_eq!(service.send("GET", "/health/ready/lag", &[], b"").status, 404);
    let metrics = String::from_utf8(
        service.send("GET", "/metrics", &[("Authorization", &format!("Bearer {}", OWNER_KEY))], b"").body,
    )
    .unwrap();
    assert!(metrics.contains("puente_source_away_total{source=\"log\"} 3"), "{metrics}");
    assert!(metrics.contains("puente_statements_total{source=\"main\"}"), "{metrics}");
    std::fs::rename(two.log.file().with_extension("away"), two.log.file()).unwrap();
    assert_eq!(service.data("{ calls { totalCount } }")["calls"]["totalCount"], 5);
}

#[test]
fn a_change_writes_one_source_and_answers_from_both() {
    let two = Two::sqlite("");
    let service = two.project.serve();
    let answer = service.data(
        "mutation { a: updateHut(key: { code: \"A\" }, set: { name: \"Alp\" }) { node { name calls { totalCount nodes { id hut { name } } } } }
            b: createHut(input: { id: 9, code: \"Z\" }) { node { calls { nodes { severity } } } } }",
    );
    assert_eq!(
        answer,
        json!({ "a": { "node": { "name": "Alp", "calls": { "totalCount": 2, "nodes": [
                { "id": 1, "hut": { "name": "Alp" } }, { "id": 2, "hut": { "name": "Alp" } }] } } },
            "b": { "node": { "calls": { "nodes": [{ "severity": 9 }] } } } })
    );
    // Keys are written as what they are; nothing is created over the link.
    service.data("mutation { createCall(input: { id: 10, hutCode: \"C\", severity: 2 }) { node { hut { name } } } }");
    let refused = |document: &str| service.ask(document).json()["errors"][0].clone();
    let error = refused("mutation { createCall(input: { id: 11, hut: { key: { id: 1 } } }) { count } }");
    assert_eq!(error["extensions"]["code"], "DOCUMENT_INVALID");
    let error = refused(
        "mutation { createHut(input: { id: 10, code: \"Y\" }) { count } createCall(input: { id: 11 }) { count } }",
    );
    let text = error["message"].as_str().unwrap();
    assert!(text.contains("writes one source") && text.contains("`createHut` writes `main`"), "{error}");
    assert_eq!(error["path"], json!(["createCall"]));
    let error = refused("mutation { deleteHuts(filter: { calls: { none: { severity: { eq: 1 } } } }) { count } }");
    assert!(error["message"].as_str().unwrap().contains("give them with `in`"), "{error}");
    assert_eq!(
        service.data("{ huts { totalCount } calls { totalCount } }"),
        json!({ "huts": { "totalCount": 5 }, "calls": { "totalCount": 6 } })
    );
    // What cannot be read any more once the change is done takes nothing of it back.
    std::fs::rename(two.log.file(), two.log.file().with_extension("away")).unwrap();
    // A reader looks once a second whether its file is another one.
    std::thread::sleep(std::time::Duration::from_millis(1_100));
    let answer = service.ask("mutation { updateHut(key: { code: \"A\" }, set: { name: \"Alm\" }) { node { name calls { totalCount } } } }").json();
    assert_eq!(answer["data"], json!({ "updateHut": { "node": { "name": "Alm", "calls": null } } }));
    assert_eq!(answer["errors"][0]["path"], json!(["updateHut", "node", "calls", "totalCount"]));
    assert_eq!(service.data("{ hut(key: { code: \"A\" }) { name } }")["hut"]["name"], "Alm");
}

#[test]
fn the_schema_says_what_may_be_away_and_what_cannot_be_asked() {
    let two = Two::sqlite("");
    let service = two.project.serve();
    let sdl = service.api.sdl("owner").unwrap();
    let of = |head: &str| sdl.split(head).nth(1).unwrap().split('}').next().unwrap().to_owned();
    assert!(of("type Query {").contains("): HutConnection\n"), "{sdl}");
    assert!(of("type Hut {").contains("): CallConnection\n") && of("type Hut {").contains("): BookingConnection!\n"));
    assert!(
        !of("input CallOrder @oneOf {").contains("hut:") && of("input BookingOrder @oneOf {").contains("hut: HutOrder")
    );
    assert!(
        of("input CallFilter {").contains("hut: HutFilter")
            && of("input HutFilter {").contains("calls: CallListFilter")
    );
    assert!(!of("input CallCreate {").contains(" hut:") && of("input CallCreate {").contains("hutCode: String"));
    assert!(!of("input HutCreate {").contains("calls"));
}

#[test]
fn of_two_tables_of_one_name_the_newcomer_takes_its_sources_name() {
    let (main, log) = (Database::empty(Engine::Sqlite), Database::empty(Engine::Sqlite));
    main.execute("create table huts (id integer primary key, code text); create table notes (id integer primary key);");
    log.execute("create table notes (id integer primary key, text text); insert into notes values (7, 'x');");
    let project = TestProject::of_sources(&[("main", &main), ("rescue", &log)], "");
    let types = |project: &TestProject| -> Vec<String> {
        project.open().model().unwrap().types.iter().map(|t| format!("{} {}", t.name, t.list)).collect()
    };
    assert_eq!(types(&project), ["Hut huts", "Note notes", "RescueNote rescueNotes"]);
    assert_eq!(
        project.serve().data("{ rescueNotes { nodes { text } } }")["rescueNotes"]["nodes"],
        json!([{ "text": "x" }])
    );
    // The names stay when the sources change places, and when the other table goes.
    let file = project.path().join("puente.toml");
    let text = std::fs::read_to_string(&file).unwrap();
    let at = text.find("[source.rescue]").unwrap();
    std::fs::write(&file, format!("{}{}", &text[at..], &text[..at])).unwrap();
    assert_eq!(types(&project), ["RescueNote rescueNotes", "Hut huts", "Note notes"]);
    main.execute("drop table notes");
    puente_service::survey(&project.open(), Some("main")).unwrap();
    assert_eq!(types(&project), ["RescueNote rescueNotes", "Hut huts"]);
}

fn mistakes(project: &TestProject, edits: &str) -> Vec<Mistake> {
    let file = project.path().join("puente.toml");
    let before = std::fs::read_to_string(&file).unwrap();
    std::fs::write(&file, format!("{before}{edits}")).unwrap();
    let opened = ProjectFolder::open(project.path());
    let found = opened.and_then(|folder| folder.model().and_then(|model| folder.roles(&model).map(|_| ())));
    std::fs::write(&file, before).unwrap();
    match found {
        Err(FolderError::Mistakes(mistakes)) => mistakes,
        other => panic!("{other:?}"),
    }
}

#[rstest]
#[case(
    "[[link]]\ntable = \"lag:calls\"\ncolumns = [\"crew\"]\nto = \"huts\"\nreferences = [\"code\"]\n",
    "`lag` of `lag:calls` is not a source of the project",
    "did you mean `log`?"
)]
#[case(
    "[[link]]\ntable = \"log:cals\"\ncolumns = [\"crew\"]\nto = \"huts\"\nreferences = [\"code\"]\n",
    "the survey of `log` has no table `cals`",
    "did you mean `calls`?"
)]
#[case(
    "[[link]]\ntable = \"calls\"\ncolumns = [\"flagged\"]\nto = \"huts\"\nreferences = [\"id\"]\n",
    "`log:calls.flagged` is Boolean",
    "no value of one is one of the other"
)]
#[case(
    "[[type]]\ntable = \"things\"\nname = \"Thing\"\n",
    "several sources have a table `things`",
    "write `main:things` or `log:things`"
)]
#[case("[[type]]\ntable = \"huts\"\n[[type]]\ntable = \"main:huts\"\n", "a second `[[type]]`", "put both into one")]
#[case("[[link]]\ntable = \"huts\"\nthrough = \"calls\"\nto = \"notes\"\n", "different sources", "leave this one out")]
#[case(
    "[role.r.Call.read]\nfields = [\"id\"]\nrows = \"row.hut.code == 'A'\"\n",
    "`Call.hut` leads to the source `main`",
    "compare `hutCode` with a claim"
)]
#[case(
    "[role.r.Hut.read]\nfields = [\"id\"]\nrows = \"row.calls.exists(c, c.severity > 3)\"\n",
    "`Hut.calls` leads to the source `log`",
    "copy what decides"
)]
#[case(
    "[role.r.Call.read]\nfields = []\n[role.r.Call.create]\nfields = [\"hut\"]\n",
    "a link to another source",
    "grant `hutCode`"
)]
fn mistakes_over_several_sources_have_a_place_and_a_remedy(
    #[case] edits: &str,
    #[case] what: &str,
    #[case] remedy: &str,
) {
    let (main, log) = (Database::empty(Engine::Sqlite), Database::empty(Engine::Sqlite));
    main.execute(HUTS);
    main.execute("create table things (id integer primary key)");
    log.execute(LOG);
    log.execute("create table things (id integer primary key); alter table calls add column flagged boolean;");
    let project = TestProject::of_sources(&[("main", &main), ("log", &log)], LINKS);
    let found = mistakes(&project, edits);
    assert!(found.iter().any(|mistake| mistake.text.contains(what) && mistake.text.contains(remedy)), "{found:#?}");
    assert!(found.iter().all(|mistake| mistake.place.line > 4), "{found:#?}");
}

#[test]
fn two_sources_of_one_name_are_a_mistake_with_its_place() {
    let text = "[source.main]\nurl = \"sqlite:a.db\"\n[source.main]\nurl = \"sqlite:b.db\"\n";
    let found = puente_core::project::read(text, &|_| None).unwrap_err();
    let twice =
        puente_core::project::read("[source.main]\nurl = \"a\"\nurl = \"b://u:hush@h\"\n", &|_| None).unwrap_err();
    assert!(twice[0].text.starts_with("`url` is there twice") && !twice[0].text.contains("hush"), "{twice:?}");
    assert!(found[0].place.line == 3 && found[0].text.contains("`[source.main]` is there twice"), "{found:?}");
}

#[test]
fn links_between_sources_are_proposed_with_evidence() {
    let (main, log) = (Database::empty(Engine::Sqlite), Database::empty(Engine::Sqlite));
    main.execute(HUTS);
    log.execute(LOG);
    let project = TestProject::of_sources(&[("main", &main), ("log", &log)], "");
    let outcome = puente_service::survey(&project.open(), None).unwrap();
    let told: Vec<String> = outcome
        .proposals
        .iter()
        .map(|p| format!("{}.{} -> {}.{} {:?}", p.table, p.column, p.to, p.references, p.sampled))
        .collect();
    assert_eq!(told, ["calls.hut_code -> huts.code Some((3, 2))"]);
    let accepted = puente_service::Accepted { links: outcome.proposals.iter().collect(), ..Default::default() };
    puente_service::accept(&project.open(), &accepted).unwrap();
    assert!(puente_service::survey(&project.open(), None).unwrap().proposals.is_empty());
    let service = project.serve();
    assert_eq!(service.data("{ hut(key: { id: 1 }) { calls { totalCount } } }")["hut"]["calls"]["totalCount"], 2);
}

/// What is written leads to rows of another source that the role can read, as within one: a hidden row and none at all are refused alike,
/// whatever writes the end (a column, a nested row, `set`, an `ifExists`, a member of JSON), before anything is changed.
#[rstest]
fn ends_in_another_source_are_those_that_the_role_can_read(
    #[values(
        (Engine::Sqlite, Engine::Sqlite),
        (Engine::Postgres, Engine::Sqlite),
        (Engine::Mariadb, Engine::Postgres),
        (Engine::Sqlite, Engine::Mariadb),
        (Engine::Postgres, Engine::Mongodb)
    )]
    engines: (Engine, Engine),
) {
    const ROLES: &str = "
[role.warden.Hut.read]
fields = [\"name\"]
rows = \"row.warden == claims.sub\"
[role.warden.Call]
create = { fields = \"all\" }
update = { fields = \"all\" }
[role.warden.Call.read]
fields = \"all\"
[role.warden.Note]
create = { fields = \"all\" }
[role.warden.Note.read]
fields = \"all\"
[role.stranger.Call]
create = { fields = \"all\" }
[role.stranger.Call.read]
fields = [\"id\", \"hutCode\"]
";
    let two = Two::new(engines, ROLES);
    let service = two.project.serve();
    let asked = |role: &str, document: &str| {
        let claims = json!({ "role": role, "claims": { "sub": "w1" } });
        service.post(&json!({ "query": document, "extensions": { "as": claims } })).json()
    };
    let count = || service.data("{ calls { totalCount } notes { totalCount } }");
    let before = count();
    let mut refusals = std::collections::BTreeSet::new();
    // B is another warden's; X is nobody's, and 99 none.
    for (code, number) in [("B", "2"), ("X", "99")] {
        for (place, document) in [
            (
                "create",
                format!("mutation {{ createCall(input: {{ id: 10, hutCode: \"{code}\" }}) {{ node {{ id }} }} }}"),
            ),
            (
                "number",
                format!("mutation {{ createCall(input: {{ id: 10, hutNo: \"{number}\" }}) {{ node {{ id }} }} }}"),
            ),
            (
                "many",
                format!(
                    "mutation {{ createCalls(inputs: [{{ id: 11, hutCode: \"A\" }}, {{ id: 12, hutCode: \"{code}\" }}]) {{ count }} }}"
                ),
            ),
            ("set", format!("mutation {{ updateCall(key: {{ id: 1 }}, set: {{ hutCode: \"{code}\" }}) {{ count }} }}")),
            (
                "setMany",
                format!("mutation {{ updateCalls(everyRow: true, set: {{ hutCode: \"{code}\" }}) {{ count }} }}"),
            ),
            (
                "nested",
                format!(
                    "mutation {{ createNote(input: {{ id: 9, call: {{ create: {{ id: 13, hutCode: \"{code}\" }} }} }}) {{ node {{ id }} }} }}"
                ),
            ),
            (
                "existing",
                format!(
                    "mutation {{ createCall(input: {{ id: 1, hutCode: \"{code}\" }}, ifExists: {{ by: ID, act: CHANGE }}) {{ node {{ id }} }} }}"
                ),
            ),
        ] {
            let answer = asked("warden", &document);
            assert_eq!(answer["errors"][0]["extensions"]["code"], "REFERENCE_BROKEN", "{place}: {answer}");
            refusals.insert(format!("{place} {}", answer["errors"][0]["message"]));
        }
    }
    assert_eq!(refusals.len(), 7, "a hidden row is refused as one that is not there: {refusals:#?}");
    assert_eq!(count(), before);
    let fine = "mutation { createCalls(inputs: [{ id: 20, hutCode: \"A\" }, { id: 21, hutCode: \"C\", hutNo: \"3\" }, { id: 22, hutCode: null }]) { count } }";
    assert_eq!(asked("warden", fine)["data"]["createCalls"]["count"], 3, "{}", asked("warden", fine));
    // Whoever cannot read huts at all links to none; the owner, who reads all, may name one that is not there yet.
    let stranger = asked("stranger", "mutation { createCall(input: { id: 30, hutCode: \"A\" }) { node { id } } }");
    assert!(
        stranger["errors"][0]["message"].as_str().unwrap().contains("refers to no `row` that is there"),
        "{stranger}"
    );
    assert!(asked("stranger", "mutation { createCall(input: { id: 30 }) { node { id } } }")["errors"].is_null());
    let owner =
        "mutation { createCall(input: { id: 31, hutCode: \"Q\", hutNo: \"none\" }) { node { id hut { name } } } }";
    assert!(service.ask(owner).json()["errors"].is_null(), "{}", service.ask(owner).text());
}

/// As many ends as a mutation may write are asked for in parts; the last counts as the first.
#[rstest]
fn thousands_of_ends_in_another_source_are_asked_for(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb)] engine: Engine,
) {
    let roles = "
[role.warden.Hut.read]
fields = [\"name\"]
rows = \"row.warden == claims.sub\"
[role.warden.Call]
create = { fields = \"all\" }
[role.warden.Call.read]
fields = [\"id\"]
";
    let two = Two::new((engine, Engine::Sqlite), roles);
    let huts: Vec<String> = (100..2_600).map(|id| format!("({id}, 'N{id}', 'hut {id}', 1, 'w1')")).collect();
    two.main.execute(&format!("insert into huts values {};\n", huts.join(", ")));
    let service = two.project.serve();
    let create = |last: &str| {
        let codes = (100..2_600).map(|id| format!("N{id}")).chain([last.to_owned()]);
        let inputs: Vec<Json> =
            codes.enumerate().map(|(at, code)| json!({ "id": 1_000 + at, "hutCode": code })).collect();
        let document = "mutation ($inputs: [CallCreate!]!) { createCalls(inputs: $inputs) { count } }";
        let claims = json!({ "role": "warden", "claims": { "sub": "w1" } });
        service
            .post(&json!({ "query": document, "variables": { "inputs": inputs }, "extensions": { "as": claims } }))
            .json()
    };
    let refused = create("B");
    assert_eq!(refused["errors"][0]["extensions"]["code"], "REFERENCE_BROKEN", "{refused}");
    let done = create("A");
    assert_eq!(done["data"]["createCalls"]["count"], 2_501, "{done}");
}
