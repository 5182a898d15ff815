//! JSON columns with types: what is read of them, asked about them, ordered by them and written into them is one and the same on every
//! engine.

mod indexes;
mod writing;

use puente_core::catalog::Engine;
use puente_testkit::database::Database;
use puente_testkit::project::{TestProject, TestService};
use rstest::rstest;
use serde_json::{Value as Json, json};

const TYPED: &str = "[[type]]\ntable = \"incidents\"\n[type.fields.report]\nshape = true\n";

/// Reports as they come in: members are missing, null, or of another type than usual.
const REPORTS: [&str; 8] = [
    r#"{"by": "Ida", "depth": 3, "safe": true, "day": "2026-01-05", "weather": {"snow": 10, "wind": 2.5}, "tags": ["ice", "fog"],
        "people": [{"name": "Ana", "age": 17, "gear": [{"kind": "rope"}, {"kind": "axe"}]}, {"name": "Bo", "age": 40}]}"#,
    r#"{"by": "ida", "depth": null, "safe": false, "day": "2026-01-31", "weather": {"snow": 30, "wind": 0.5}, "tags": [],
        "people": []}"#,
    r#"{"by": "Zoé \"Z\" O'Hara", "depth": 70, "safe": true, "day": "2026-02-01", "weather": {"snow": null, "wind": 12},
        "tags": ["ice"], "people": [{"name": "Cy", "age": null}]}"#,
    r#"{"by": "Bo", "depth": -5, "day": "2026-02-01", "weather": null, "people": [{"name": "Di", "age": 12}]}"#,
    r#"{"by": "Cy", "depth": 12, "safe": true, "day": "2026-03-09", "weather": {}, "tags": ["fog", "fog"], "people": null}"#,
    r#"{"depth": 3, "safe": false, "day": "2026-03-09", "weather": {"snow": 10, "wind": 2.5}, "tags": ["dark"],
        "people": [{"age": 70}, {"name": "Ed", "age": 7}]}"#,
    "null",
    r#"{"by": "Zed", "depth": 3, "safe": true, "day": "2026-01-05", "weather": {"snow": 200, "wind": 99.25}, "tags": ["ice"],
        "people": [{"name": "Flo", "age": 33, "gear": []}]}"#,
];

/// What no sample had, written after the survey.
const UNFIT: &str =
    r#"{"by": 7, "depth": "deep", "safe": 1, "day": [1], "weather": "fine", "tags": "ice", "people": {"name": "Ana"}}"#;

fn insert(id: usize, report: &str) -> String {
    let report = report.replace('\'', "''").replace('\n', " ");
    format!("insert into incidents values ({id}, '{report}');\n")
}

struct Served {
    database: Database,
    _project: TestProject,
    service: TestService,
}

fn served(engine: Engine, edits: &str) -> Served {
    let json = if engine == Engine::Postgres { "jsonb" } else { "json" };
    let mut sql = format!("create table incidents (id integer primary key, report {json});\n");
    for (at, report) in REPORTS.iter().enumerate() {
        // MariaDB's texts take backslashes for escapes.
        let report = if engine == Engine::Mariadb { report.replace('\\', "\\\\") } else { (*report).to_owned() };
        sql.push_str(&insert(at + 1, &report));
    }
    sql.push_str("insert into incidents values (9, null);\n");
    let (database, project, service) = TestProject::served(engine, &sql, edits);
    Served { database, _project: project, service }
}

fn nodes(service: &TestService, arguments: &str, fields: &str) -> Vec<Json> {
    let arguments = if arguments.is_empty() { "orderBy: [{ id: ASC }]".to_owned() } else { arguments.to_owned() };
    let data = service.data(&format!("{{ incidents({arguments}) {{ nodes {{ {fields} }} }} }}"));
    data["incidents"]["nodes"].as_array().unwrap().clone()
}

fn found(service: &TestService, filter: &str) -> Vec<i64> {
    let arguments = format!("orderBy: [{{ id: ASC }}], filter: {{ {filter} }}");
    nodes(service, &arguments, "id").iter().map(|node| node["id"].as_i64().unwrap()).collect()
}

#[rstest]
fn members_are_fields_at_any_depth(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
) {
    let Served { database, _project, service } = served(engine, TYPED);
    let fields = "report { by depth safe day weather { snow wind } tags \
                  people(first: 2) { __typename name age gear { kind } } __typename }";
    let nodes = nodes(&service, "", fields);
    let expected = json!({
        "by": "Ida", "depth": 3, "safe": true, "day": "2026-01-05", "weather": { "snow": 10, "wind": 2.5 },
        "tags": ["ice", "fog"], "people": [
            { "__typename": "IncidentReportPerson", "name": "Ana", "age": 17, "gear": [{ "kind": "rope" }, { "kind": "axe" }] },
            { "__typename": "IncidentReportPerson", "name": "Bo", "age": 40, "gear": null },
        ], "__typename": "IncidentReport",
    });
    assert_eq!(nodes[0]["report"], expected);
    let report = |id: usize| &nodes[id - 1]["report"];
    assert_eq!((&report(2)["depth"], &report(2)["people"]), (&Json::Null, &json!([])));
    assert_eq!(report(3)["by"], "Zoé \"Z\" O'Hara");
    assert_eq!(
        (&report(4)["weather"], &report(4)["safe"], &report(4)["tags"]),
        (&Json::Null, &Json::Null, &Json::Null)
    );
    assert_eq!(report(5)["weather"], json!({ "snow": null, "wind": null }));
    assert_eq!((report(7), report(9)), (&Json::Null, &Json::Null));
    database.execute(&insert(10, r#"{"depth": 12.0}"#));
    assert_eq!(found(&service, "report: { depth: { eq: 12 } }"), [5, 10], "what has no fraction is whole");
    let depth = service.data("{ incident(key: { id: 10 }) { report { depth } } }");
    assert_eq!(depth["incident"]["report"], json!({ "depth": 12 }));
}

#[rstest]
fn items_of_lists_are_filtered_and_paged(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
) {
    let Served { database: _database, _project, service } = served(engine, TYPED);
    let fields = "report { young: people(filter: { age: { lt: 18 } }) { name } second: people(skip: 1, first: 1) { name } \
                  none: people(first: 0) { name } not: people(filter: { not: { age: { lt: 18 } } }) { name } }";
    let nodes = nodes(&service, "", fields);
    assert_eq!(
        nodes[0]["report"],
        json!({ "young": [{ "name": "Ana" }], "second": [{ "name": "Bo" }], "none": [], "not": [{ "name": "Bo" }] })
    );
    assert_eq!(nodes[2]["report"]["not"], json!([]), "of what is null nothing is known");
    assert_eq!(nodes[5]["report"]["young"], json!([{ "name": "Ed" }]));
    assert_eq!((&nodes[4]["report"]["young"], &nodes[1]["report"]["young"]), (&Json::Null, &json!([])));
}

/// Days with huts with beds, and what is not as it should be among them.
const TRIPS: [&str; 4] = [
    r#"{"days": [{"n": 1, "huts": [{"name": "A", "beds": [{"no": 1, "free": true}, {"no": 2, "free": false}]}, {"name": "B", "beds": []}],
        "bag": {"things": [{"kind": "rope"}, {"kind": "axe"}, {"kind": "rope"}]}},
       {"n": 2, "huts": null, "bag": {"things": [{"kind": "axe"}]}}, {"n": 3, "huts": [{"name": "A", "beds": [{"no": 7, "free": true}]}], "bag": null}]}"#,
    r#"{"days": []}"#,
    r#"{"days": null}"#,
    r#"{"days": [{"n": 4, "huts": [{"name": "A"}, {"name": null, "beds": null}]}, null]}"#,
];

#[rstest]
fn lists_inside_items_are_filtered_too(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
) {
    let json = if engine == Engine::Postgres { "jsonb" } else { "json" };
    let rows: Vec<String> =
        TRIPS.iter().enumerate().map(|(at, trip)| format!("insert into trips values ({at}, '{trip}');\n")).collect();
    let sql =
        format!("create table trips (id integer primary key, trip {json});\n{}", rows.concat().replace("\n ", " "));
    let edits = "[[type]]\ntable = \"trips\"\n[type.fields.trip]\nshape = true\n";
    let (database, _project, service) = TestProject::served(engine, &sql, edits);
    let trips = |fields: &str| {
        let answer =
            service.ask(&format!("{{ trips(orderBy: [{{ id: ASC }}]) {{ nodes {{ trip {{ {fields} }} }} }} }}")).json();
        let days = |at: usize| answer["data"]["trips"]["nodes"][at]["trip"]["days"].clone();
        (days(0), days(1), days(2), days(3), answer)
    };
    // Alone: the list around it is not filtered.
    let (first, empty, null, last, _) = trips("days { n huts(filter: { name: { eq: \"A\" } }) { name } }");
    let a = json!([{ "name": "A" }]);
    assert_eq!(first, json!([{ "n": 1, "huts": a }, { "n": 2, "huts": null }, { "n": 3, "huts": a }]));
    assert_eq!((empty, null), (json!([]), Json::Null));
    assert_eq!(last, json!([{ "n": 4, "huts": a }, null]));
    // At every level, in an object, twice under other names, and with pages.
    let fields = "days(filter: { n: { ne: 2 } }, first: 2) { n \
        rope: bag { things(filter: { kind: { eq: \"rope\" } }, skip: 1) { kind } } \
        other: bag { things(filter: { kind: { ne: \"rope\" } }) { kind } all: things { kind } } \
        huts(filter: { beds: { isEmpty: false } }) { name beds(filter: { free: { eq: true } }) { no } taken: beds(filter: { free: { eq: false } }) { no } } }";
    let (first, empty, null, last, answer) = trips(fields);
    let rope = json!({ "kind": "rope" });
    let day = json!({
        "n": 1, "rope": { "things": [rope] }, "other": { "things": [{ "kind": "axe" }], "all": [rope, { "kind": "axe" }, rope] },
        "huts": [{ "name": "A", "beds": [{ "no": 1 }], "taken": [{ "no": 2 }] }],
    });
    let third =
        json!({ "n": 3, "rope": null, "other": null, "huts": [{ "name": "A", "beds": [{ "no": 7 }], "taken": [] }] });
    assert_eq!(first, json!([day, third]), "{answer}");
    assert_eq!((empty, null), (json!([]), Json::Null));
    assert_eq!(last, json!([{ "n": 4, "rope": null, "other": null, "huts": [] }]));
    assert_eq!(answer["errors"], Json::Null);
    // The list in the middle is delivered whole, with a filtered one inside.
    let (first, .., last, _) = trips("days { huts { name beds(filter: { no: { gt: 1 } }) { no } } }");
    assert_eq!(first[0]["huts"], json!([{ "name": "A", "beds": [{ "no": 2 }] }, { "name": "B", "beds": [] }]));
    assert_eq!((&first[1]["huts"], &first[2]["huts"][0]["beds"]), (&Json::Null, &json!([{ "no": 7 }])));
    assert_eq!(last, json!([{ "huts": [{ "name": "A", "beds": null }, { "name": null, "beds": null }] }, null]));
    // What is no list, no object, and no JSON of its type is an error on that field alone.
    let odd =
        r#"{"days": [5, {"n": 5, "huts": "none", "bag": [1]}, {"n": 6, "huts": [7, {"name": "A", "beds": {}}]}]}"#;
    database.execute(&format!("insert into trips values (9, '{odd}');\n"));
    let document = "{ trips(filter: { id: { eq: 9 } }) { nodes { trip { days { n huts(filter: { not: { name: { eq: \"B\" } } }) { \
                    name beds(filter: { no: { gt: 1 } }) { no } } bag { things(filter: { kind: { eq: \"rope\" } }) { kind } } } } } } }";
    let answer = service.ask(document).json();
    let days = &answer["data"]["trips"]["nodes"][0]["trip"]["days"];
    assert_eq!(days[0], Json::Null, "{answer}");
    assert_eq!(days[1], json!({ "n": 5, "huts": null, "bag": null }), "{answer}");
    assert_eq!(days[2], json!({ "n": 6, "huts": [{ "name": "A", "beds": null }], "bag": null }), "{answer}");
    let paths: Vec<String> =
        answer["errors"].as_array().unwrap().iter().map(|error| error["path"].to_string()).collect();
    let at = |rest: &str| format!("[\"trips\",\"nodes\",0,\"trip\",\"days\",{rest}]");
    assert_eq!(paths, [at("0"), at("1,\"huts\""), at("1,\"bag\""), at("2,\"huts\",0,\"beds\"")], "{answer}");
}

/// Functions of some engines take a hundred arguments.
#[rstest]
fn a_list_is_asked_for_under_many_names(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
) {
    let Served { database: _database, _project, service } = served(engine, TYPED);
    let asked = |within: &str, list: &str, filter: &Json| {
        let lists: String = (0..900).map(|at| format!("a{at}:{list}(filter:$f){{__typename}}")).collect();
        let kind = if list == "gear" { "IncidentReportPersonGear" } else { "IncidentReportPerson" };
        let query =
            format!("query($f:{kind}Filter){{incident(key:{{id:1}}){{report{{{}}}}}}}", within.replace('@', &lists));
        service.data_of(&json!({ "query": query, "variables": { "f": filter } }))["incident"]["report"].clone()
    };
    let report = asked("people{@}", "gear", &json!({ "kind": { "eq": "rope" } }));
    assert_eq!(report["people"][0]["a899"], json!([{ "__typename": "IncidentReportPersonGear" }]));
    assert_eq!(report["people"][1]["a899"], Json::Null);
    let report = asked("@", "people", &json!({ "age": { "gt": 18 } }));
    assert_eq!(report["a899"], json!([{ "__typename": "IncidentReportPerson" }]));
}

/// What is passed over costs no byte of the answer, and time all the same.
#[rstest]
fn a_list_is_not_gone_over_without_end(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
) {
    let people: Vec<Json> =
        (0..100).map(|at| json!({ "name": "somebody with a name", "age": at, "gear": [] })).collect();
    let report = json!({ "by": "Ida", "people": people }).to_string();
    let edits = format!("{TYPED}[limits]\nanswer_bytes = 40000\n");
    let Served { database, _project, service } = served(engine, &edits);
    database.execute(&insert(20, &report));
    let asked = |names: usize, list: &str| {
        let lists: String = (0..names).map(|at| format!("a{at}: people({list}) {{ name }} ")).collect();
        service.ask(&format!("{{ incident(key: {{ id: 20 }}) {{ report {{ {lists} }} }} }}"))
    };
    for list in ["skip: 200", "first: 0"] {
        let few = asked(100, list);
        assert_eq!(few.code(), "", "{}", few.text());
        let many = asked(800, list);
        assert_eq!(many.code(), "TOO_COSTLY", "{}", many.text());
        assert!(many.text().contains("goes over JSON too often"), "{}", many.text());
    }
    assert_eq!(asked(1, "first: 1").code(), "", "and the next request is answered");
}

#[rstest]
fn filters_say_the_same_on_every_engine(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
) {
    let Served { database, _project, service } = served(engine, TYPED);
    database.execute(&insert(10, UNFIT));
    let cases: &[(&str, &[i64])] = &[
        ("report: { depth: { eq: 3 } }", &[1, 6, 8]),
        ("report: { depth: { gt: 3 } }", &[3, 5]),
        ("report: { depth: { lt: 0 } }", &[4]),
        ("report: { not: { depth: { gt: 3 } } }", &[1, 4, 6, 8]),
        ("report: { depth: { in: [12, 70] } }", &[3, 5]),
        ("report: { depth: { notIn: [12, 70] } }", &[1, 4, 6, 8]),
        ("report: { depth: { isNull: true } }", &[2, 7, 9, 10]),
        ("report: { depth: { isNull: false } }", &[1, 3, 4, 5, 6, 8]),
        ("report: { safe: { eq: true } }", &[1, 3, 5, 8]),
        ("report: { safe: { ne: true } }", &[2, 6]),
        ("report: { by: { eq: \"Ida\" } }", &[1]),
        ("report: { by: { eq: \"IDA\", ignoreCase: true } }", &[1, 2]),
        ("report: { by: { startsWith: \"Z\" } }", &[3, 8]),
        ("report: { by: { contains: \"O'H\" } }", &[3]),
        ("report: { by: { gt: \"Ida\" } }", &[2, 3, 8]),
        ("report: { day: { gte: \"2026-02-01\" } }", &[3, 4, 5, 6]),
        ("report: { weather: { wind: { gt: 2.5 } } }", &[3, 8]),
        ("report: { weather: { snow: { lte: 10 } } }", &[1, 6]),
        ("report: { weather: { isNull: true } }", &[4, 7, 9, 10]),
        ("report: { isNull: true }", &[7, 9]),
        ("report: { isNull: false }", &[1, 2, 3, 4, 5, 6, 8, 10]),
        ("report: { or: [{ by: { eq: \"Bo\" } }, { weather: { wind: { gt: 50 } } }] }", &[4, 8]),
        ("report: { tags: { includes: \"ice\" } }", &[1, 3, 8]),
        ("report: { tags: { includesAll: [\"fog\", \"ice\"] } }", &[1]),
        ("report: { tags: { includesAny: [\"dark\", \"fog\"] } }", &[1, 5, 6]),
        ("report: { not: { tags: { includesAny: [\"ice\", \"fog\"] } } }", &[2, 6]),
        ("report: { tags: { isEmpty: true } }", &[2]),
        ("report: { tags: { isEmpty: false } }", &[1, 3, 5, 6, 8]),
        ("report: { tags: { isNull: true } }", &[4, 7, 9, 10]),
        ("report: { people: { exists: { age: { lt: 18 } } } }", &[1, 4, 6]),
        ("report: { people: { all: { age: { lt: 18 } } } }", &[2, 4, 5, 7, 9, 10]),
        ("report: { people: { none: { age: { lt: 18 } } } }", &[2, 5, 7, 8, 9, 10]),
        ("report: { not: { people: { all: { age: { lt: 18 } } } } }", &[1, 6, 8]),
        ("report: { people: { exists: { name: { isNull: true } } } }", &[6]),
        ("report: { people: { exists: { gear: { exists: { kind: { eq: \"axe\" } } } } } }", &[1]),
        ("report: { people: { isEmpty: true } }", &[2]),
        ("report: { people: { isNull: true } }", &[4 + 1, 7, 9, 10]),
    ];
    for (filter, expected) in cases {
        assert_eq!(found(&service, filter), *expected, "{filter}");
    }
    let by_variable = json!({
        "query": "query($f: IncidentFilter) { incidents(filter: $f) { nodes { id } } }",
        "variables": { "f": { "report": { "people": { "exists": { "age": { "in": [7, 33] } } } } } },
    });
    assert_eq!(service.data_of(&by_variable)["incidents"]["nodes"], json!([{ "id": 6 }, { "id": 8 }]));
}

#[rstest]
fn rows_are_walked_in_the_order_of_a_member(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
    #[values("depth", "by", "safe", "day", "weather.wind")] member: &str,
) {
    let Served { database, _project, service } = served(engine, TYPED);
    database.execute(&insert(10, UNFIT));
    for direction in ["ASC_NULLS_LAST", "DESC_NULLS_FIRST", "ASC_NULLS_FIRST", "DESC_NULLS_LAST"] {
        let order = member.rsplit('.').fold(direction.to_owned(), |inner, name| format!("{{ {name}: {inner} }}"));
        let whole = nodes(&service, &format!("orderBy: [{{ report: {order} }}]"), "id");
        assert_eq!(whole.len(), 10);
        let (mut after, mut walked) = (Json::Null, Vec::new());
        for _ in 0..10 {
            let document = format!(
                "query($after: String) {{ incidents(first: 3, after: $after, orderBy: [{{ report: {order} }}]) \
                 {{ nodes {{ id }} pageInfo {{ endCursor hasNextPage }} }} }}"
            );
            let page =
                service.data_of(&json!({ "query": document, "variables": { "after": after } }))["incidents"].clone();
            walked.extend(page["nodes"].as_array().unwrap().iter().cloned());
            after = page["pageInfo"]["endCursor"].clone();
            if page["pageInfo"]["hasNextPage"] == false {
                break;
            }
        }
        assert_eq!(walked, whole, "{direction}");
    }
    let ids = |arguments: &str| -> Vec<i64> {
        nodes(&service, arguments, "id").iter().map(|node| node["id"].as_i64().unwrap()).collect()
    };
    assert_eq!(ids("orderBy: [{ report: { depth: ASC_NULLS_LAST } }, { id: DESC }]"), [4, 8, 6, 1, 5, 3, 10, 9, 7, 2]);
    assert_eq!(ids("orderBy: [{ report: { by: ASC_NULLS_FIRST } }]"), [6, 7, 9, 10, 4, 5, 1, 8, 3, 2]);
}

#[rstest]
fn members_are_summed_up_and_grouped_by(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
) {
    let Served { database, _project, service } = served(engine, TYPED);
    database.execute(&insert(10, UNFIT));
    let document =
        "{ incidents { summary { report { depth { sum avg min max } by { min max } weather { wind { max sum } } } }
        groups(by: [{ report: { day: MONTH } }], orderBy: [{ report: { depth: { sum: DESC } } }]) {
            key { report { day } } summary { count report { depth { sum } } } } } }";
    let data = service.data(document);
    let summary = &data["incidents"]["summary"]["report"];
    let (sum, avg) = (3 + 70 - 5 + 12 + 3 + 3, f64::from(3 + 70 - 5 + 12 + 3 + 3) / 6.0);
    assert_eq!(summary["depth"]["sum"], sum.to_string());
    assert!((summary["depth"]["avg"].as_f64().unwrap() - avg).abs() < 1e-9, "{summary}");
    assert_eq!((&summary["depth"]["min"], &summary["depth"]["max"]), (&json!(-5), &json!(70)));
    assert_eq!(summary["by"], json!({ "min": "Bo", "max": "ida" }));
    let wind = &summary["weather"]["wind"];
    assert_eq!((wind["max"].as_f64(), wind["sum"].as_f64()), (Some(99.25), Some(2.5 + 0.5 + 12.0 + 2.5 + 99.25)));
    let groups: Vec<(Json, i64, Json)> = data["incidents"]["groups"]
        .as_array()
        .unwrap()
        .iter()
        .map(|group| {
            let summary = &group["summary"];
            let sum = summary["report"]["depth"]["sum"].clone();
            (group["key"]["report"]["day"].clone(), summary["count"].as_i64().unwrap(), sum)
        })
        .collect();
    let mut groups = groups;
    groups.sort_by_key(|group| group.0.to_string());
    assert_eq!(
        groups,
        [
            (json!("2026-01-01"), 3, json!("6")),
            (json!("2026-02-01"), 2, json!("65")),
            (json!("2026-03-01"), 2, json!("15")),
            (Json::Null, 3, Json::Null),
        ]
    );
}

#[rstest]
fn what_does_not_fit_is_an_error_on_that_field_alone(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
) {
    let Served { database, _project, service } = served(engine, TYPED);
    database.execute(&insert(10, UNFIT));
    let items = r#"{"by": "Gus", "people": [7, {"name": 1, "age": "old"}, {"name": "Hal"}]}"#;
    database.execute(&insert(11, items));
    let document = "{ incidents(filter: { id: { gte: 10 } }, orderBy: [{ id: ASC }]) { nodes { id report {
        by depth safe day weather { snow } tags people { name age } } } } }";
    let answer = service.ask(document).json();
    let nodes = &answer["data"]["incidents"]["nodes"];
    let nulls =
        json!({ "by": null, "depth": null, "safe": null, "day": null, "weather": null, "tags": null, "people": null });
    assert_eq!(nodes[0], json!({ "id": 10, "report": nulls }));
    let people = json!([null, { "name": null, "age": null }, { "name": "Hal", "age": null }]);
    assert_eq!((&nodes[1]["report"]["by"], &nodes[1]["report"]["people"]), (&json!("Gus"), &people));
    let mut paths: Vec<String> = Vec::new();
    for error in answer["errors"].as_array().unwrap() {
        assert_eq!(error["extensions"]["code"], "VALUE_UNFIT", "{error}");
        assert!(!error["locations"].as_array().unwrap().is_empty(), "{error}");
        let path = error["path"].as_array().unwrap().iter().skip(3).map(Json::to_string);
        paths.push(path.collect::<Vec<_>>().join("."));
        let text = error["message"].as_str().unwrap();
        assert!(text.contains("`Incident") && text.contains("of the row with id 1"), "{text}");
    }
    let members = ["by", "depth", "safe", "day", "weather", "tags", "people"];
    let mut expected: Vec<String> = members.iter().map(|member| format!("\"report\".\"{member}\"")).collect();
    for inside in ["0", "1.\"name\"", "1.\"age\""] {
        expected.push(format!("\"report\".\"people\".{inside}"));
    }
    assert_eq!(paths, expected);
}

const ROLES: &str = "
[role.reader.Incident.read]
fields = [\"id\", \"report.by\", \"report.weather.snow\", \"report.people.name\"]
[role.weather.Incident.read]
fields = [\"id\", \"report\"]
masks = { \"report.weather\" = \"row.report.safe == true\", \"report.people\" = \"row.id > 5\" }
[role.young.Incident.read]
fields = [\"id\", \"report\"]
rows = \"row.report.people.exists(p, p.age < 18) && row.report.depth >= claims.depth\"
[role.tagged.Incident.read]
fields = [\"id\"]
rows = \"claims.tag in row.report.tags || (has(row.report.weather) && row.report.weather.wind > 50.0)\"
[role.all_adults.Incident.read]
fields = [\"id\"]
rows = \"row.report.people.all(p, p.age >= 18)\"
";

fn as_role(service: &TestService, role: &str, claims: &Json, document: &str) -> Json {
    let extensions = json!({ "as": { "role": role, "claims": claims } });
    service.post(&json!({ "query": document, "extensions": extensions })).json()
}

#[rstest]
fn members_are_granted_masked_and_ruled_on(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
) {
    let Served { database: _database, _project, service } = served(engine, &format!("{TYPED}{ROLES}"));
    let none = json!({});
    let ids = |role: &str, claims: &Json| -> Vec<i64> {
        let answer = as_role(&service, role, claims, "{ incidents(orderBy: [{ id: ASC }]) { nodes { id } } }");
        let nodes = answer["data"]["incidents"]["nodes"].as_array().unwrap_or_else(|| panic!("{answer}")).clone();
        nodes.iter().map(|node| node["id"].as_i64().unwrap()).collect()
    };
    assert_eq!(ids("young", &json!({ "depth": 0 })), [1, 6]);
    assert_eq!(ids("young", &json!({ "depth": 4 })), Vec::<i64>::new());
    assert_eq!(ids("young", &none), Vec::<i64>::new(), "what is unknown allows nothing");
    assert_eq!(ids("tagged", &json!({ "tag": "fog" })), [1, 5, 8]);
    assert_eq!(ids("tagged", &json!({ "tag": "hail" })), [8]);
    assert_eq!(ids("all_adults", &none), [2, 5, 7, 8, 9]);

    let granted = "{ incident(key: { id: 1 }) { report { by weather { snow } people { name } } } }";
    let report = json!({ "by": "Ida", "weather": { "snow": 10 }, "people": [{ "name": "Ana" }, { "name": "Bo" }] });
    assert_eq!(as_role(&service, "reader", &none, granted)["data"]["incident"]["report"], report);
    for hidden in ["report { depth }", "report { weather { wind } }", "report { people { age } }", "report { tags }"] {
        let document = format!("{{ incidents {{ nodes {{ {hidden} }} }} }}");
        assert_eq!(
            as_role(&service, "reader", &none, &document)["errors"][0]["extensions"]["code"],
            "DOCUMENT_INVALID"
        );
    }
    for hidden in ["weather: { wind: { gt: 0 } }", "people: { exists: { age: { gt: 0 } } }", "depth: { isNull: true }"]
    {
        let document = format!("{{ incidents(filter: {{ report: {{ {hidden} }} }}) {{ nodes {{ id }} }} }}");
        assert_eq!(
            as_role(&service, "reader", &none, &document)["errors"][0]["extensions"]["code"],
            "DOCUMENT_INVALID"
        );
    }
    for hidden in ["orderBy: [{ report: { weather: { wind: ASC } } }]", "orderBy: [{ report: { depth: ASC } }]"] {
        let document = format!("{{ incidents({hidden}) {{ nodes {{ id }} }} }}");
        assert_eq!(
            as_role(&service, "reader", &none, &document)["errors"][0]["extensions"]["code"],
            "DOCUMENT_INVALID"
        );
    }

    // What a mask hides is hidden from filters, orders, summaries and items, too.
    let masked = "{ incidents(orderBy: [{ id: ASC }]) { nodes { report { weather { snow wind } people { name } } } } }";
    let answer = as_role(&service, "weather", &none, masked);
    let nodes = answer["data"]["incidents"]["nodes"].clone();
    assert_eq!(nodes[0]["report"], json!({ "weather": { "snow": 10, "wind": 2.5 }, "people": null }), "{answer}");
    assert_eq!(nodes[5]["report"]["weather"], Json::Null);
    assert_eq!(nodes[5]["report"]["people"], json!([{ "name": null }, { "name": "Ed" }]));
    let count = |filter: &str| {
        let document = format!("{{ incidents(filter: {{ report: {{ {filter} }} }}) {{ totalCount }} }}");
        as_role(&service, "weather", &none, &document)["data"]["incidents"]["totalCount"].as_i64()
    };
    assert_eq!(count("weather: { snow: { eq: 10 } }"), Some(1));
    assert_eq!(count("people: { exists: { age: { lt: 18 } } }"), Some(1));
    assert_eq!(count("weather: { isNull: true }"), Some(5));
    let summed = "{ incidents { summary { report { weather { snow { sum } } } } } }";
    let sum = &as_role(&service, "weather", &none, summed)["data"]["incidents"]["summary"]["report"]["weather"]["snow"]
        ["sum"];
    assert_eq!(*sum, "210");
    let filtered =
        "{ incidents(orderBy: [{ id: ASC }]) { nodes { report { people(filter: { age: { lt: 18 } }) { name } } } } }";
    let nodes = as_role(&service, "weather", &none, filtered)["data"]["incidents"]["nodes"].clone();
    assert_eq!(
        (&nodes[0]["report"]["people"], &nodes[5]["report"]["people"]),
        (&Json::Null, &json!([{ "name": "Ed" }]))
    );
}

#[test]
fn what_grants_cannot_say_of_json_is_told_with_a_remedy() {
    let sql = format!("create table incidents (id integer primary key, report json);\n{}", insert(1, REPORTS[0]));
    for (grants, expected) in [
        ("fields = [\"report.wether\"]", "did you mean `report.weather`?"),
        ("fields = [\"report\"]\nmasks = { \"report.people.age\" = \"true\" }", "mask the list as a whole"),
        ("fields = [\"report\"]\nrows = \"row.report.dept > 1\"", "did you mean `depth`?"),
        ("fields = [\"report\"]\nrows = \"row.report > 1\"", "compare a member of it"),
        ("fields = [\"report\"]\nrows = \"row.report.people.age > 1\"", "ask `.exists(x, x.age …)`"),
        (
            "fields = [\"report\"]\n[role.a.Incident.update]\nfields = [\"report.people.age\"]",
            "is inside a list, whose items are written as a whole; name the list",
        ),
        (
            "fields = [\"report\"]\n[role.a.IncidentReportPerson.read]\nfields = [\"age\"]",
            "grant it there, as `report.people`",
        ),
    ] {
        let edits = format!("{TYPED}[role.a.Incident.read]\n{grants}\n");
        let project = TestProject::of_sql(&sql, &edits);
        let folder = project.open();
        let model = folder.model().unwrap();
        let mistakes = folder.roles(&model).map(|_| String::new()).unwrap_or_else(|error| format!("{error:?}"));
        assert!(mistakes.contains(expected), "{grants}: {mistakes}");
    }
}

/// A value as no one should store it does no harm.
#[rstest]
fn huge_values_are_read_and_asked_about(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
) {
    let Served { database, _project, service } = served(engine, TYPED);
    let many: Vec<String> = (0..10_000).map(|at| format!("\"m{at}\": {at}")).collect();
    let deep = format!("{}1{}", "[".repeat(30), "]".repeat(30));
    let long = "x".repeat(1 << 20);
    for (at, report) in [
        format!("{{\"by\": \"Many\", \"depth\": 1, {}}}", many.join(", ")),
        format!("{{\"by\": \"Deep\", \"depth\": {deep}, \"weather\": {deep}}}"),
        format!("{{\"by\": \"Long\", \"depth\": 2, \"other\": \"{long}\"}}"),
    ]
    .iter()
    .enumerate()
    {
        database.execute(&insert(20 + at, report));
    }
    assert_eq!(found(&service, "report: { depth: { in: [1, 2] } }"), [20, 22]);
    let answer = service.ask("{ incidents(filter: { id: { gte: 20 } }) { nodes { report { by depth } } } }").json();
    let by: Vec<&str> = answer["data"]["incidents"]["nodes"]
        .as_array()
        .unwrap()
        .iter()
        .filter_map(|node| node["report"]["by"].as_str())
        .collect();
    assert_eq!(by, ["Many", "Deep", "Long"]);
    assert_eq!(answer["errors"].as_array().map(Vec::len), Some(1), "{answer}");
}

const CORRECTED: &str = "
[type.fields.report.members.\"by\"]
required = true
name = \"reporter\"
description = \"Who wrote it.\"
[type.fields.report.members.\"depth\"]
scalar = \"Float\"
[type.fields.report.members.\"weather/wind\"]
hidden = true
[type.fields.report.members.\"weather/ice\"]
scalar = \"Int\"
[type.fields.report.members.\"tags\"]
scalar = \"JSON\"
[type.fields.report.members.\"people/age\"]
required = true
[type.fields.report.members.\"people/nick\"]
scalar = \"String\"
list = true
";

#[rstest]
fn what_the_survey_found_is_corrected_in_the_project_file(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
) {
    let Served { database, _project: project, service } = served(engine, &format!("{TYPED}{CORRECTED}"));
    let late = r#"{"by": "Gus", "depth": 1.5, "weather": {"ice": 4}, "people": [{"age": 3, "nick": ["G", "g"]}]}"#;
    database.execute(&insert(10, late));
    let report = |id: i64, fields: &str| -> Json {
        let document = format!("{{ incident(key: {{ id: {id} }}) {{ report {{ {fields} }} }} }}");
        service.ask(&document).json()
    };
    let whole = report(10, "reporter depth weather { ice snow } tags people { age nick }");
    let people = json!([{ "age": 3, "nick": ["G", "g"] }]);
    let weather = json!({ "ice": 4, "snow": null });
    let expected = json!({ "reporter": "Gus", "depth": 1.5, "weather": weather, "tags": null, "people": people });
    assert_eq!(whole["data"]["incident"]["report"], expected, "{whole}");
    assert_eq!(report(1, "tags")["data"]["incident"]["report"], json!({ "tags": ["ice", "fog"] }));
    assert_eq!(report(1, "weather { wind }")["errors"][0]["extensions"]["code"], "DOCUMENT_INVALID");
    assert_eq!(found(&service, "report: { weather: { ice: { gt: 3 } } }"), [10]);
    // What is required and is not there nulls the object that it is a member of.
    let without = report(6, "depth reporter");
    assert_eq!(without["data"]["incident"]["report"], Json::Null, "{without}");
    assert_eq!(without["errors"][0]["path"], json!(["incident", "report", "reporter"]));
    let without = report(3, "people { name age }");
    assert_eq!(without["data"]["incident"]["report"], json!({ "people": [null] }), "{without}");
    assert_eq!(without["errors"][0]["path"], json!(["incident", "report", "people", 0, "age"]));
    let schema = service.data("{ __type(name: \"IncidentReport\") { fields { name description type { kind } } } }");
    let reporter = &schema["__type"]["fields"][0];
    assert_eq!(
        *reporter,
        json!({ "name": "reporter", "description": "Who wrote it.", "type": { "kind": "NON_NULL" } })
    );
    // The next survey changes nothing of it.
    puente_service::survey(&project.open(), None).unwrap();
    assert!(project.open().model().is_ok());
}

#[test]
fn corrections_of_what_is_not_there_are_refused() {
    let sql = format!("create table incidents (id integer primary key, report json);\n{}", insert(1, REPORTS[0]));
    for (edit, expected) in [
        ("members.\"weather/wnd\" = { hidden = true }", "did you mean `weather/wind`?"),
        ("members.\"ice/depth\" = { scalar = \"Int\" }", "inside of an object that is there"),
        ("members.\"by\" = { scalar = \"Text\" }", "expected one of"),
        ("members.\"by\" = { scalar = \"Bytes\" }", "JSON has no bytes"),
        ("members.\"by\" = { typ = \"Int\" }", "`typ`"),
        ("members.\"by\" = { name = \"depth\" }", "cannot be the name of member"),
    ] {
        let project = TestProject::of_sql(&sql, TYPED);
        let file = project.path().join("puente.toml");
        let before = std::fs::read_to_string(&file).unwrap();
        std::fs::write(&file, format!("{before}{edit}\n")).unwrap();
        let opened = puente_service::ProjectFolder::open(project.path());
        let told = match opened.and_then(|folder| folder.model().map(|_| ())) {
            Ok(()) => String::new(),
            Err(error) => format!("{error:?}"),
        };
        assert!(told.contains(expected), "{edit}: {told}");
    }
    let unsurveyed = TestProject::of_sql("create table incidents (id integer primary key, report text);", "");
    let file = unsurveyed.path().join("puente.toml");
    let before = std::fs::read_to_string(&file).unwrap();
    std::fs::write(&file, format!("{before}{TYPED}")).unwrap();
    let mistakes = format!("{:?}", unsurveyed.open().model().unwrap_err());
    assert!(mistakes.contains("found no shape in `incidents.report`"), "{mistakes}");
}

/// Names that mean something to engines mean nothing but themselves.
#[rstest]
fn odd_names_of_members_are_asked_for(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
) {
    let json = if engine == Engine::Postgres { "jsonb" } else { "json" };
    let document = r#"{"a'b": 1, "a.b": 2, "$": 3, "a b": {"[0]": 4, "0": 5, "*": 6, "é☃": 7}, "and": 8, "isNull": 9, "count": 10, "id": 11,
        "x\"y": 12, "": 13, "{}": 14, "?": 15, "%s": 16}"#;
    let document = document.replace('\n', " ").replace('\'', "''");
    let document = if engine == Engine::Mariadb { document.replace('\\', "\\\\") } else { document };
    let sql = format!(
        "create table papers (id integer primary key, doc {json});\ninsert into papers values (1, '{document}');\n"
    );
    let edits = "[[type]]\ntable = \"papers\"\n[type.fields.doc]\nshape = true\n";
    let (_database, project, service) = TestProject::served(engine, &sql, edits);
    let model = project.open().model().unwrap();
    let t = model.types.iter().find(|t| t.table == "papers").unwrap();
    let mut numbers = Vec::new();
    for column in t.columns.iter().filter(|column| column.member.is_some() && column.scalar().is_some()) {
        let names: Vec<&str> = column.label().split('.').collect();
        let nested =
            |inner: &str| names.iter().rev().fold(inner.to_owned(), |inner, name| format!("{{ {name}: {inner} }}"));
        let selected = names.iter().rev().fold(String::new(), |inner, name| {
            if inner.is_empty() { (*name).to_owned() } else { format!("{name} {{ {inner} }}") }
        });
        let read = service.data(&format!("{{ papers {{ nodes {{ {selected} }} }} }}"));
        let value = names.iter().fold(&read["papers"]["nodes"][0], |value, name| &value[*name]).clone();
        numbers.push(value.as_i64().unwrap_or_else(|| panic!("{}: {read}", column.label())));
        let filter = nested(&format!("{{ eq: {value} }}"));
        let document = format!("{{ papers(filter: {filter}, orderBy: [{}]) {{ totalCount }} }}", nested("ASC"));
        assert_eq!(service.data(&document)["papers"]["totalCount"], 1, "{document}");
    }
    numbers.sort_unstable();
    if engine == Engine::Mongodb {
        // It takes dots and `$` for something else; the survey says that it leaves such members out.
        assert_eq!(numbers, [1, 4, 5, 6, 7, 8, 9, 10, 11, 14, 15, 16]);
    } else {
        assert_eq!(numbers, [1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 14, 15, 16]);
    }
}

/// What a role was not granted is told by no error.
#[rstest]
fn errors_tell_nothing_of_what_was_not_granted(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
) {
    let Served { database, _project, service } = served(engine, &format!("{TYPED}{ROLES}"));
    database.execute(&insert(10, "\"secret\""));
    database.execute(&insert(11, r#"{"weather": "secret", "people": ["secret", {"name": {"a": "secret"}}]}"#));
    database.execute(&insert(12, r#"{"people": "secret"}"#));
    let document = "{ incidents(filter: { id: { gte: 10 } }) { nodes { report { by weather { snow } people { name } } revision } } }";
    let answer = as_role(&service, "reader", &json!({}), document);
    assert!(answer["errors"].as_array().is_some_and(|errors| errors.len() >= 4), "{answer}");
    assert!(!answer.to_string().contains("secret"), "{answer}");
    let revision = |id: i64| {
        let document = format!("{{ incident(key: {{ id: {id} }}) {{ revision }} }}");
        as_role(&service, "reader", &json!({}), &document)["data"]["incident"]["revision"].clone()
    };
    let before = revision(1);
    let age = r#"{"by": "Ida", "weather": {"snow": 10}, "people": [{"name": "Ana", "age": 99}, {"name": "Bo"}]}"#;
    database.execute(&format!("update incidents set report = '{age}' where id = 1;\n"));
    assert_eq!(revision(1), before, "a hidden member is no part of what the role may tell apart");
}
