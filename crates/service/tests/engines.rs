//! What every engine must do alike: one table of cases, run on all of them, over a socket.

use std::sync::OnceLock;

use puente_core::catalog::Engine;
use puente_testkit::database::Database;
use puente_testkit::project::{TestProject, TestService};
use rstest::rstest;
use serde_json::{Value as Json, json};

/// A project that lives as long as the tests.
struct Running {
    _database: Database,
    _project: TestProject,
    service: TestService,
}

fn running(engine: Engine) -> &'static TestService {
    static RUNNING: [OnceLock<Running>; 4] = [const { OnceLock::new() }; 4];
    let number = match engine {
        Engine::Sqlite => 0,
        Engine::Postgres => 1,
        Engine::Mariadb => 2,
        Engine::Mongodb => 3,
    };
    let running = RUNNING[number].get_or_init(|| {
        let database = Database::empty(engine);
        database.execute(&script(engine));
        let project = TestProject::of(&database, "", "");
        Running { service: project.serve(), _database: database, _project: project }
    });
    &running.service
}

/// The same tables and rows in each engine's types.
fn script(engine: Engine) -> String {
    let (text, date, decimal) = match engine {
        Engine::Sqlite | Engine::Mongodb => ("text", "date", "decimal(10,2)"),
        Engine::Postgres => ("text collate \"C\"", "date", "numeric(10,2)"),
        Engine::Mariadb => ("varchar(50) collate utf8mb4_nopad_bin", "date", "decimal(10,2)"),
    };
    format!(
        "create table walks (id integer primary key, title {text}, km {decimal}, walked {date}, steps bigint);
create table stops (id integer primary key, walk_id integer references walks (id), name {text});
create index stops_walk on stops (walk_id);
insert into walks values (1, 'Ridge', 10.50, '2026-01-31', 9007199254740993);
insert into walks values (2, 'ridge', 2.25, null, 5);
insert into walks values (3, '50% off', null, '2026-02-28', null);
insert into walks values (4, 'snake_case', 7.00, '2026-02-01', 9223372036854775807);
insert into walks values (5, null, 10.50, '2025-12-31', -9223372036854775808);
insert into stops values (1, 1, 'spring');
insert into stops values (2, 1, 'hut');
insert into stops values (3, 2, null);
insert into stops values (4, null, 'nowhere');
"
    )
}

/// The ids that a list of walks gives.
fn ids(service: &TestService, arguments: &str) -> Json {
    let response = service.ask(&format!("{{ walks({arguments}) {{ nodes {{ id }} }} }}"));
    assert_eq!(response.status, 200, "{}", response.text());
    let nodes = response.json()["data"]["walks"]["nodes"].clone();
    nodes.as_array().expect("a list").iter().map(|node| node["id"].clone()).collect()
}

#[rstest]
#[case::percent_is_itself("filter: { title: { contains: \"0%\" } }", json!([3]))]
#[case::underscore_is_itself("filter: { title: { contains: \"e_c\" } }", json!([4]))]
#[case::nothing_matches_a_wildcard("filter: { title: { contains: \"R%e\" } }", json!([]))]
#[case::the_empty_text_is_everywhere("filter: { title: { contains: \"\" } }", json!([1, 2, 3, 4]))]
#[case::case_matters("filter: { title: { startsWith: \"R\" } }", json!([1]))]
#[case::unless_it_is_said("filter: { title: { eq: \"RIDGE\", ignoreCase: true } }", json!([1, 2]))]
#[case::also_in_lists("filter: { title: { in: [\"RIDGE\"], ignoreCase: true } }", json!([1, 2]))]
#[case::ends("filter: { title: { endsWith: \"off\" } }", json!([3]))]
#[case::in_nothing("filter: { id: { in: [] } }", json!([]))]
#[case::not_in_nothing("filter: { id: { notIn: [] } }", json!([1, 2, 3, 4, 5]))]
#[case::unknown_is_not_unequal("filter: { title: { ne: \"Ridge\" } }", json!([2, 3, 4]))]
#[case::nor_not_in("filter: { title: { notIn: [\"Ridge\"] } }", json!([2, 3, 4]))]
#[case::negation("filter: { not: { km: { gt: \"5\" } } }", json!([2]))]
#[case::nulls("filter: { walked: { isNull: true } }", json!([2]))]
#[case::decimals_are_numbers("filter: { km: { eq: \"10.5\" } }", json!([1, 5]))]
#[case::decimals_in_a_list("filter: { km: { in: [\"10.500\", \"2.25\"] } }", json!([1, 2, 5]))]
#[case::big_integers_are_whole("filter: { steps: { eq: \"9007199254740993\" } }", json!([1]))]
#[case::and_compared_whole("filter: { steps: { gt: \"9007199254740992\" } }", json!([1, 4]))]
#[case::the_smallest("filter: { steps: { lte: \"-9223372036854775808\" } }", json!([5]))]
#[case::dates("filter: { walked: { gte: \"2026-01-31\", lt: \"2026-02-28\" } }", json!([1, 4]))]
#[case::exists("filter: { stops: { exists: { name: { eq: \"hut\" } } } }", json!([1]))]
#[case::none("filter: { stops: { none: {} } }", json!([3, 4, 5]))]
#[case::all_of_unknown("filter: { stops: { all: { name: { isNull: false } } } }", json!([1, 3, 4, 5]))]
#[case::nulls_last("orderBy: [{ walked: ASC_NULLS_LAST }]", json!([5, 1, 4, 3, 2]))]
#[case::nulls_first("orderBy: [{ walked: DESC_NULLS_FIRST }]", json!([2, 3, 4, 1, 5]))]
#[case::ties_by_key("orderBy: [{ km: DESC_NULLS_LAST }]", json!([1, 5, 4, 2, 3]))]
#[case::skip("orderBy: [{ id: DESC }], skip: 1, first: 2", json!([4, 3]))]
#[case::last("last: 2", json!([4, 5]))]
fn conditions_and_orders_mean_the_same(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
    #[case] arguments: &str,
    #[case] expected: Json,
) {
    assert_eq!(ids(running(engine), arguments), expected);
}

#[rstest]
fn values_are_lossless(#[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine) {
    let answer = running(engine).ask("{ walks { nodes { id title walked steps } } }").json();
    assert_eq!(
        answer["data"]["walks"]["nodes"],
        json!([
            { "id": 1, "title": "Ridge", "walked": "2026-01-31", "steps": "9007199254740993" },
            { "id": 2, "title": "ridge", "walked": null, "steps": "5" },
            { "id": 3, "title": "50% off", "walked": "2026-02-28", "steps": null },
            { "id": 4, "title": "snake_case", "walked": "2026-02-01", "steps": "9223372036854775807" },
            { "id": 5, "title": null, "walked": "2025-12-31", "steps": "-9223372036854775808" },
        ])
    );
}

#[rstest]
fn nulls_are_where_the_indexes_have_them(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
) {
    let expected = if engine == Engine::Postgres { json!([5, 1, 4, 3, 2]) } else { json!([2, 5, 1, 4, 3]) };
    assert_eq!(ids(running(engine), "orderBy: [{ walked: ASC }]"), expected);
}

#[rstest]
#[case("[{ km: ASC }, { title: DESC }]")]
#[case("[{ walked: DESC_NULLS_FIRST }]")]
#[case("[{ title: ASC_NULLS_LAST }]")]
fn walking_meets_every_row_once(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
    #[case] order: &str,
) {
    let service = running(engine);
    let whole = ids(service, &format!("orderBy: {order}"));
    for (size, cursor, end) in [("first", "after", "endCursor"), ("last", "before", "startCursor")] {
        let document = format!(
            "query($c: String) {{ walks(orderBy: {order}, {size}: 2, {cursor}: $c) {{ nodes {{ id }} pageInfo {{ {end} }} }} }}"
        );
        let (mut met, mut at) = (Vec::new(), Json::Null);
        loop {
            let answer = service.post(&json!({ "query": document, "variables": { "c": at } })).json();
            let page = answer["data"]["walks"]["nodes"].as_array().unwrap_or_else(|| panic!("{answer}")).clone();
            if page.is_empty() {
                break;
            }
            let page = page.iter().map(|node| node["id"].clone());
            met = if size == "first" { met.into_iter().chain(page).collect() } else { page.chain(met).collect() };
            at = answer["data"]["walks"]["pageInfo"][end].clone();
        }
        assert_eq!(Json::from(met), whole, "{size}");
    }
}

#[rstest]
fn nothing_in_a_summary_or_a_group_is_taken_for_a_key(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
) {
    let document = "{ stops { summary { idValue { max } }
        groups(by: [{ idValue: VALUE }], orderBy: [{ idValue: { key: DESC } }], first: 1) { key { idValue } summary { idValue { sum } } } } }";
    assert_eq!(
        running(engine).ask(document).json()["data"]["stops"],
        json!({ "summary": { "idValue": { "max": 4 } }, "groups": [{ "key": { "idValue": 4 }, "summary": { "idValue": { "sum": "4" } } }] })
    );
    let schema = running(engine).ask("{ __type(name: \"StopSummaryKey\") { fields { name } } }").text().to_owned();
    assert!(schema.contains("idValue") && !schema.contains("\"id\""), "{schema}");
}

#[rstest]
fn links_summaries_and_groups_answer_together(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
) {
    let document = "{ walks(first: 2) { totalCount summary { count steps { max } } nodes { id stops { totalCount nodes { name walk { id } } } } }
        stops { groups(by: [{ walkId: VALUE }], orderBy: [{ count: DESC }, { walkId: { key: ASC_NULLS_LAST } }]) { key { walkId } summary { count name { min } } } } }";
    let answer = running(engine).ask(document).json();
    assert_eq!(
        answer["data"],
        json!({
            "walks": {
                "totalCount": 5,
                "summary": { "count": 5, "steps": { "max": "9223372036854775807" } },
                "nodes": [
                    { "id": 1, "stops": { "totalCount": 2, "nodes": [
                        { "name": "spring", "walk": { "id": 1 } }, { "name": "hut", "walk": { "id": 1 } } ] } },
                    { "id": 2, "stops": { "totalCount": 1, "nodes": [{ "name": null, "walk": { "id": 2 } }] } },
                ],
            },
            "stops": { "groups": [
                { "key": { "walkId": 1 }, "summary": { "count": 2, "name": { "min": "hut" } } },
                { "key": { "walkId": 2 }, "summary": { "count": 1, "name": { "min": null } } },
                { "key": { "walkId": null }, "summary": { "count": 1, "name": { "min": "nowhere" } } },
            ] },
        }),
        "{answer:#}"
    );
}

#[rstest]
#[case::key_without_grouping(
    "{ stops { groups(by: [{ walkId: VALUE }]) { key { name } } } }",
    "`name` is not among the fields that `by` groups by"
)]
#[case::twice(
    "{ walks { groups(by: [{ walked: DAY }, { walked: YEAR }]) { key { walked } } } }",
    "names `walked` twice"
)]
#[case::nothing("{ walks { groups(by: []) { summary { count } } } }", "`by` is empty")]
fn groups_that_make_no_sense_are_refused(#[case] document: &str, #[case] text: &str) {
    let response = running(Engine::Sqlite).ask(document);
    assert_eq!((response.status, response.code().as_str()), (400, "INVALID_ARGUMENT"), "{}", response.text());
    assert!(response.text().contains(text), "{}", response.text());
}

#[rstest]
fn the_number_of_statements_follows_the_shape_and_not_the_rows(
    #[values(Engine::Postgres, Engine::Mariadb)] engine: Engine,
) {
    let statements = |first: u32| {
        let document =
            format!("{{ walks(first: {first}) {{ nodes {{ id stops {{ nodes {{ walk {{ id }} }} }} }} }} }}");
        let answer = running(engine).post(&json!({ "query": document, "extensions": { "statements": true } })).json();
        let told = answer["extensions"]["statements"].as_array().unwrap_or_else(|| panic!("{answer}")).clone();
        assert!(told.iter().all(|statement| statement["executions"] == 1), "{told:#?}");
        told.len()
    };
    let expected = if engine == Engine::Postgres { 1 } else { 2 };
    assert_eq!((statements(1), statements(5)), (expected, expected));
}

#[rstest]
fn the_engine_explains_its_statements(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
) {
    let body = json!({
        "query": "{ walks(filter: { title: { eq: \"Ridge\" } }) { nodes { id stops { nodes { name } } } } }",
        "extensions": { "explain": true },
    });
    let answer = running(engine).post(&body).json();
    let statements = answer["extensions"]["statements"].as_array().unwrap_or_else(|| panic!("{answer}"));
    assert!(statements.iter().all(|statement| !statement["plan"].as_array().expect("a plan").is_empty()));
}

/// Names that are not GraphQL names, and tables whose names differ by case or number alone.
#[rstest]
#[case::sqlite(Engine::Sqlite)]
#[case::postgres(Engine::Postgres)]
#[case::mariadb(Engine::Mariadb)]
fn odd_names_are_served_and_written(#[case] engine: Engine) {
    let q = if engine == Engine::Mariadb { '`' } else { '"' };
    let database = Database::empty(engine);
    database.execute(&format!(
        "create table {q}lost & found{q} (id integer primary key, {q}found-on{q} date, {q}found on{q} date, {q}2nd owner{q} varchar(40), {q}a {{}} b{q} varchar(9));
create table bookings (id integer primary key, nights integer);
create table {q}Booking{q} (id integer primary key, folio varchar(20) not null);
insert into {q}lost & found{q} values (1, '2026-01-02', '2026-02-03', 'Ada', 'x');
insert into bookings values (1, 3);
insert into {q}Booking{q} values (1, 'folio 7');
"
    ));
    let edits = "[[type]]\ntable = \"Booking\"\nname = \"LegacyBooking\"\n[role.clerk.LostFound.read]\nfields = \"all\"\n\
         masks = { aB = \"row.id == 1\" }\nrows = \"row.id > 0\"\n";
    let project = TestProject::of(&database, "", edits);
    let service = project.serve();
    let types = service.ask("{ __schema { queryType { fields { name } } } }").text().to_owned();
    for name in ["lostFounds", "bookings", "legacyBookings"] {
        assert!(types.contains(&format!("\"{name}\"")), "{name} among {types}");
    }
    let ask = "{ lostFounds(filter: { aB: { eq: \"x\" } }, orderBy: [{ aB: ASC }]) { nodes { id aB } } }";
    let owner = service.ask(ask).json();
    assert_eq!(owner["data"]["lostFounds"]["nodes"][0]["aB"], "x", "{owner}");
    let clerk = service.post(&json!({ "query": "{ lostFounds(filter: { aB: { eq: \"x\" } }) { nodes { aB } } }", "extensions": { "as": { "role": "clerk" } } }));
    assert_eq!(clerk.json()["data"]["lostFounds"]["nodes"], json!([{ "aB": "x" }]), "{}", clerk.text());
    let folio = service
        .ask("mutation { updateLegacyBooking(key: { id: 1 }, set: { folio: \"folio 8\" }) { node { folio } } }")
        .json();
    assert_eq!(folio["data"]["updateLegacyBooking"]["node"]["folio"], "folio 8", "{folio}");
}
