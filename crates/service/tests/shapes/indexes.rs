//! Indexes on members of JSON find rows, and say nothing else than the members do.

use puente_core::catalog::Engine;
use puente_testkit::database::Database;
use puente_testkit::project::{TestProject, TestService};
use rstest::rstest;
use serde_json::{Value as Json, json};

use super::TYPED;

const SQLITE: &str = "
create table incidents (id integer primary key, report json, kind text generated always as (json_extract(report, '$.kind')));
create index by_kind on incidents (kind);
create index by_depth on incidents (report ->> '$.depth');
create index by_snow on incidents (json_extract(report, '$.weather.snow'), id);
create index by_safe on incidents (report ->> 'safe');
create index by_day on incidents (report ->> '$.day') where id > 3;
";

const POSTGRES: &str = "
create table incidents (id integer primary key, report jsonb, kind text generated always as (report ->> 'kind') stored);
create index by_kind on incidents (kind);
create index by_depth on incidents (((report ->> 'depth')::numeric));
create index by_snow on incidents (((report -> 'weather' ->> 'snow')::integer), id);
create index by_safe on incidents (((report ->> 'safe')::boolean));
create index by_day on incidents ((report ->> 'day')) where id > 3;
";

fn incidents(engine: Engine) -> (Database, TestProject, TestService) {
    let report = |id: u32| {
        let weather = if id.is_multiple_of(3) { "null".to_owned() } else { format!("{{\"snow\": {}}}", id % 200) };
        let report = format!(
            "{{\"kind\": \"k{}\", \"depth\": {}, \"safe\": {}, \"day\": \"2026-01-{:02}\", \"weather\": {weather}}}",
            id % 300,
            id % 250,
            id.is_multiple_of(40),
            id % 28 + 1
        );
        format!("({id}, '{report}')")
    };
    let rows: Vec<String> = (1..=3_000).map(report).collect();
    let tables = if engine == Engine::Sqlite { SQLITE } else { POSTGRES };
    let mut sql = format!("{tables}insert into incidents (id, report) values {};\n", rows.join(", "));
    // What is of another type, or missing, matches nothing, with an index and without.
    sql.push_str("insert into incidents (id, report) values (3001, '{\"kind\": 7, \"depth\": 2.0}');\n");
    sql.push_str("insert into incidents (id, report) values (3002, '{\"kind\": [1]}'), (3003, 'null'), (3004, null);\nanalyze;\n");
    TestProject::served(engine, &sql, TYPED)
}

fn explained(service: &TestService, filter: &str) -> (Json, String) {
    let body = json!({
        "query": format!("{{ incidents(filter: {{ report: {filter} }}) {{ totalCount }} }}"),
        "extensions": { "statements": true, "explain": true },
    });
    let answer = service.post(&body).json();
    (answer["data"]["incidents"]["totalCount"].clone(), answer["extensions"]["statements"].to_string())
}

#[rstest]
#[case::a_text("{ kind: { eq: \"k7\" } }", 10, Some("by_kind"))]
#[case::a_text_that_is_a_number("{ kind: { eq: \"7\" } }", 0, Some("by_kind"))]
#[case::texts("{ kind: { in: [\"k7\", \"k8\"] } }", 20, Some("by_kind"))]
#[case::a_number("{ depth: { eq: 2 } }", 13, Some("by_depth"))]
#[case::numbers("{ depth: { in: [2, 3] } }", 25, Some("by_depth"))]
#[case::a_range("{ depth: { gt: 247 } }", 24, Some("by_depth"))]
#[case::inside_an_object("{ weather: { snow: { eq: 5 } } }", 10, Some("by_snow"))]
#[case::both("{ weather: { snow: { lt: 3 } }, kind: { eq: \"k1\" } }", 5, Some("by_"))]
#[case::a_truth("{ safe: { eq: true } }", 75, Some("by_safe"))]
#[case::some_of_two("{ or: [{ depth: { eq: 2 } }, { kind: { eq: \"k7\" } }] }", 23, Some("by_kind"))]
#[case::all_but("{ not: { depth: { eq: 2 } } }", 2_988, None)]
#[case::not_of_every_row("{ day: { eq: \"2026-01-05\" } }", 108, None)]
fn rows_are_found_by_an_index_on_a_member(
    #[values(Engine::Sqlite, Engine::Postgres)] engine: Engine,
    #[case] filter: &str,
    #[case] rows: i64,
    #[case] index: Option<&str>,
) {
    let (_database, _project, service) = incidents(engine);
    let (count, statements) = explained(&service, filter);
    assert_eq!(count, rows, "{filter}");
    match index {
        Some(name) => assert!(statements.contains(name), "{filter}: {statements}"),
        None => assert!(!statements.contains("by_"), "{filter}: {statements}"),
    }
}

#[rstest]
fn the_statement_that_would_make_an_index_is_told_and_works(
    #[values(Engine::Sqlite, Engine::Postgres)] engine: Engine,
) {
    let (database, _project, service) = incidents(engine);
    let (_, before) = explained(&service, "{ day: { eq: \"2026-01-05\" } }");
    let expected = match engine {
        Engine::Sqlite => {
            "create index \\\"incidents_report_day\\\" on \\\"incidents\\\" (\\\"report\\\" ->> '$.\\\"day\\\"')"
        }
        _ => "create index on \\\"public\\\".\\\"incidents\\\" (((\\\"report\\\" ->> 'day')))",
    };
    let told = before.replace("\\\\\\\"", "\\\"");
    assert!(told.contains(expected), "{told}");
    database.execute(&format!("{};\nanalyze;\n", expected.replace("\\\"", "\"")));
    let survey = puente_sources::survey(&database.settings(""), database.folder()).unwrap();
    let index = &survey.catalog.table("incidents").unwrap().member_indexes;
    assert!(index.iter().any(|index| index.path == ["day"]), "{index:?}");
}
