//! Databases as others make them: what engines allow and few expect.

use puente_core::catalog::Engine;
use puente_testkit::database::Database;
use puente_testkit::project::TestProject;
use rstest::rstest;
use serde_json::{Value as Json, json};

/// A key of the parent says nothing about the rows of those that inherit from it.
#[test]
fn a_table_that_others_inherit_from_has_its_own_rows() {
    let sql = "create table places (id integer primary key, name text not null);
create table towns (people integer) inherits (places);
create table summits (height integer, primary key (id)) inherits (places);
insert into places values (1, 'bend'), (2, 'ford');
insert into towns values (1, 'Unterdorf', 900);
insert into summits values (1, 'Horn', 3000);
";
    let (database, _project, service) = TestProject::served(Engine::Postgres, sql, "");
    let list = "{ places(orderBy: [{ id: ASC }]) { totalCount nodes { id name } } }";
    let own = json!({ "totalCount": 2, "nodes": [{ "id": 1, "name": "bend" }, { "id": 2, "name": "ford" }] });
    assert_eq!(service.data(list)["places"], own);
    assert_eq!(
        service.data("{ summit(key: { id: 1 }) { name height } }")["summit"],
        json!({ "name": "Horn", "height": 3000 })
    );
    service.data("mutation { updatePlace(key: { id: 1 }, set: { name: \"bridge\" }) { node { id } } }");
    let names = || database.query("select name from places order by name");
    let is = |expected: [&str; 4]| assert_eq!(names(), expected.map(|name| vec![Some(name.to_owned())]));
    is(["Horn", "Unterdorf", "bridge", "ford"]);
    service.data("mutation { deletePlaces(everyRow: true) { count } }");
    assert_eq!(names(), ["Horn", "Unterdorf"].map(|name| vec![Some(name.to_owned())]));
    service.data("mutation { createPlace(input: { id: 7, name: \"cave\" }) { node { id name } } }");
    assert_eq!(database.query("select count(*) from only places"), [[Some("1".to_owned())]]);
}

/// An API of nothing is not passed over in silence.
#[test]
fn where_nothing_is_found_the_survey_says_where_it_could_be() {
    let database = Database::empty(Engine::Postgres);
    database.execute("create schema app;\ncreate table app.huts (id integer primary key);\ncreate schema empty;\n");
    let survey = puente_sources::survey(&database.settings(""), database.folder()).unwrap();
    let notice = "there is no table that this login can read in the schemas \"public\", but in others: \"app\" (1 table); \
                  `schemas = [\"app\"]` of the source has them read (`puente init --schemas app`)";
    assert_eq!(survey.notices, [notice]);
    database.execute("create table own (id integer primary key);\n");
    let survey = puente_sources::survey(&database.settings(""), database.folder()).unwrap();
    let notice = "other schemas are not read: \"app\" (1 table); `schemas = [\"public\", \"app\"]` of the source has them read \
                  (`puente init --schemas public,app`)";
    assert_eq!(survey.notices, [notice], "also where there are tables in the first");
    let survey = puente_sources::survey(&database.settings("schemas = [\"app\"]"), database.folder()).unwrap();
    assert_eq!((survey.notices.len(), survey.catalog.tables.len()), (0, 1));
}

/// `char(n)` is served with its blanks, and so are parts of it looked for.
#[test]
fn the_blanks_of_fixed_width_are_part_of_the_text() {
    let sql = "create table codes (id integer primary key, code char(4));\n\
               insert into codes values (1, 'ab'), (2, 'abcd'), (3, 'a b'), (4, null);\n";
    let (_database, _project, service) = TestProject::served(Engine::Postgres, sql, "");
    let nodes = &service.data("{ codes(orderBy: [{ id: ASC }]) { nodes { id code } } }")["codes"]["nodes"];
    let nodes: Vec<(i64, Option<String>)> = nodes
        .as_array()
        .unwrap()
        .iter()
        .map(|node| (node["id"].as_i64().unwrap(), node["code"].as_str().map(str::to_owned)))
        .collect();
    assert_eq!(nodes[0].1.as_deref(), Some("ab  "));
    type Test = fn(&str, &str) -> bool;
    let words: [(&str, Test); 3] = [
        ("contains", |text, part| text.contains(part)),
        ("startsWith", |text, part| text.starts_with(part)),
        ("endsWith", |text, part| text.ends_with(part)),
    ];
    for (word, test) in words {
        for part in ["b ", "ab  ", "ab   ", " ", "", "a b", "B ", "cd"] {
            for ignore_case in [false, true] {
                let fold = |text: &str| if ignore_case { text.to_lowercase() } else { text.to_owned() };
                let expected: Vec<i64> = nodes
                    .iter()
                    .filter(|(_, code)| code.as_ref().is_some_and(|code| test(&fold(code), &fold(part))))
                    .map(|(id, _)| *id)
                    .collect();
                let document = format!(
                    "{{ codes(filter: {{ code: {{ {word}: \"{part}\", ignoreCase: {ignore_case} }} }}, orderBy: [{{ id: ASC }}]) {{ nodes {{ id }} }} }}"
                );
                let found = service.data(&document)["codes"]["nodes"].clone();
                let found: Vec<i64> =
                    found.as_array().unwrap().iter().map(|node| node["id"].as_i64().unwrap()).collect();
                assert_eq!(found, expected, "{word} {part:?}, {ignore_case}");
            }
        }
    }
}

/// Lists of texts come as JSON, which has a charset of its own whatever the database's is.
#[rstest]
fn lists_of_texts_are_looked_for_whatever_the_charset_is(#[values("utf8mb4", "utf8mb3", "latin1")] charset: &str) {
    let database = Database::empty(Engine::Mariadb);
    let name = database.url.rsplit('/').next().unwrap().to_owned();
    database.execute(&format!(
        "alter database `{name}` character set {charset};
         create table words (id integer primary key, own varchar(20), wide varchar(20) character set utf8mb4, marks set('x', 'y'),
           mood enum('gut', 'übel'), plain varchar(20) character set ascii, bytes varbinary(20));
         insert into words values (1, 'ä', '日本', 'x,y', 'übel', 'a', x'00ff'), (2, 'b', 'b', 'y', 'gut', 'b', x'01'), (3, null, null, null, null, null, null);\n"
    ));
    let project = TestProject::of(&database, "", "");
    let service = project.serve();
    let ids = |filter: &str| {
        let found = service
            .data(&format!("{{ words(orderBy: [{{ id: ASC }}], filter: {{ {filter} }}) {{ nodes {{ id }} }} }}"));
        let nodes = found["words"]["nodes"].as_array().unwrap().clone();
        nodes.iter().map(|node| node["id"].as_i64().unwrap()).collect::<Vec<_>>()
    };
    for (field, first, other) in [
        ("own", "ä", "b"),
        ("wide", "日本", "b"),
        ("marks", "x,y", "y"),
        ("plain", "a", "b"),
        ("bytes", "AP8=", "AQ=="),
    ] {
        for case in ["", ", ignoreCase: true"] {
            let case = if field == "bytes" { "" } else { case };
            assert_eq!(
                ids(&format!("{field}: {{ in: [\"{first}\", \"nothing\"]{case} }}").replace("nothing", "AAAA")),
                [1],
                "{field}"
            );
            assert_eq!(ids(&format!("{field}: {{ in: [\"{first}\", \"{other}\"]{case} }}")), [1, 2], "{field}");
            assert_eq!(ids(&format!("{field}: {{ notIn: [\"{first}\"]{case} }}")), [2], "{field}");
        }
        assert_eq!(ids(&format!("{field}: {{ eq: \"{first}\" }}")), [1], "{field}");
    }
    assert_eq!(ids("mood: { in: [GUT] }"), [2]);
    if charset != "utf8mb4" {
        assert!(ids("own: { in: [\"日本\"] }").is_empty(), "what the charset has not is not there");
    }
}

/// Every row once, in both directions, however long the texts are by which they are ordered.
#[rstest]
fn walks_by_long_texts_lose_and_repeat_no_row(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb)] engine: Engine,
) {
    let text = if engine == Engine::Mariadb { "longtext" } else { "text" };
    let mut sql = format!("create table notes (id integer primary key, body {text});\n");
    for id in 0..40 {
        // Alike for longer than engines sort by, and in no order of their keys behind that.
        let (beginning, end) = ("é".repeat([400, 900, 1_500, 3_000][id % 4]), (id * 23) % 40);
        sql.push_str(&format!("insert into notes values ({id}, '{beginning}{end:02}');\n"));
    }
    let (_database, _project, service) = TestProject::served(engine, &sql, "");
    for direction in ["ASC", "DESC"] {
        let (mut after, mut walked) = (Json::Null, Vec::new());
        for _ in 0..40 {
            let document = format!(
                "query($after: String) {{ notes(first: 3, after: $after, orderBy: [{{ body: {direction} }}]) {{ nodes {{ id }} pageInfo {{ endCursor hasNextPage }} }} }}"
            );
            let answer = service.post(&json!({ "query": document, "variables": { "after": after } })).json();
            assert_eq!(answer["errors"], Json::Null, "{answer}");
            let list = &answer["data"]["notes"];
            walked.extend(list["nodes"].as_array().unwrap().iter().map(|node| node["id"].as_i64().unwrap()));
            if list["pageInfo"]["hasNextPage"] == false {
                break;
            }
            after = list["pageInfo"]["endCursor"].clone();
        }
        let document = format!("{{ notes(first: 100, orderBy: [{{ body: {direction} }}]) {{ nodes {{ id }} }} }}");
        let whole = service.data(&document)["notes"]["nodes"].clone();
        let whole: Vec<i64> = whole.as_array().unwrap().iter().map(|node| node["id"].as_i64().unwrap()).collect();
        assert_eq!(walked, whole, "{direction}");
        let mut ids = walked;
        ids.sort_unstable();
        assert_eq!(ids, (0..40).collect::<Vec<i64>>(), "{direction}");
    }
}

/// What a column holds counts, not how it is declared.
#[test]
fn a_flag_that_holds_other_numbers_is_a_number() {
    let sql = "create table doors (id integer primary key, open tinyint(1) not null, state tinyint(1) not null);\n\
               insert into doors values (1, 1, 2), (2, 0, -1);\n";
    let (_database, _project, service) = TestProject::served(Engine::Mariadb, sql, "");
    let nodes = &service.data("{ doors(orderBy: [{ id: ASC }]) { nodes { open state } } }")["doors"]["nodes"];
    assert_eq!(*nodes, json!([{ "open": true, "state": 2 }, { "open": false, "state": -1 }]));
    let found = service.data("{ doors(filter: { state: { gt: 1 } }) { nodes { id } } }");
    assert_eq!(found["doors"]["nodes"], json!([{ "id": 1 }]));
}

/// SQLite keeps what it is given: columns are served as what they hold, keys included, and every value is found by itself.
#[test]
fn columns_of_mixed_values_are_served_whole() {
    let sql = "create table parts (code integer not null unique, weight real, flag boolean, note blob);
create table uses (id integer primary key, part_code integer references parts (code));
insert into parts values (7, 1.5, 1, 'light'), ('A7', 'heavy', 'no', 'x'), (007, 2, 0, null) on conflict do nothing;
insert into uses values (1, 7), (2, 'A7'), (3, 'A7');
";
    let (_database, _project, service) = TestProject::served(Engine::Sqlite, sql, "");
    let list = "{ parts(orderBy: [{ code: ASC }]) { nodes { code weight flag note uses { totalCount } } } }";
    let nodes = json!([
        { "code": "7", "weight": "1.5", "flag": "1", "note": "light", "uses": { "totalCount": 1 } },
        { "code": "A7", "weight": "heavy", "flag": "no", "note": "x", "uses": { "totalCount": 2 } },
    ]);
    assert_eq!(service.data(list)["parts"]["nodes"], nodes);
    for code in ["7", "A7"] {
        let one = service.data(&format!("{{ part(key: {{ code: \"{code}\" }}) {{ code }} }}"));
        assert_eq!(one["part"]["code"], code);
        let found = service.data(&format!("{{ parts(filter: {{ code: {{ in: [\"{code}\"] }} }}) {{ totalCount }} }}"));
        assert_eq!(found["parts"]["totalCount"], 1);
    }
    let uses = service.data("{ uses(orderBy: [{ id: ASC }]) { nodes { id part { code } } } }");
    assert_eq!(uses["uses"]["nodes"][1], json!({ "id": 2, "part": { "code": "A7" } }));
}

/// A number that is a name can be served as one.
#[test]
fn a_setting_shows_integers_as_text_and_finds_them() {
    let sql = "create table members (no integer primary key, since integer);\ninsert into members values (1, 1999), (20, 2004);\n";
    let edits =
        "[[type]]\ntable = \"members\"\n[type.fields]\nno = { scalar = \"String\" }\nsince = { scalar = \"String\" }\n";
    let (_database, _project, service) = TestProject::served(Engine::Sqlite, sql, edits);
    let nodes = &service.data("{ members(orderBy: [{ no: ASC }]) { nodes { no since } } }")["members"]["nodes"];
    assert_eq!(*nodes, json!([{ "no": "1", "since": "1999" }, { "no": "20", "since": "2004" }]));
    let found = service.data(
        "{ members(filter: { since: { startsWith: \"20\" } }) { nodes { no } } member(key: { no: \"20\" }) { since } }",
    );
    assert_eq!(found, json!({ "members": { "nodes": [{ "no": "20" }] }, "member": { "since": "2004" } }));
}

/// JSON that says `null` is served as null, and is null to filters.
#[rstest]
fn json_that_says_null_is_null(#[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb)] engine: Engine) {
    let json = if engine == Engine::Postgres { "jsonb" } else { "json" };
    let sql = format!(
        "create table reports (id integer primary key, about {json});\n\
         insert into reports values (1, null), (2, 'null'), (3, ' null '), (4, '{{\"a\": null}}'), (5, '\"null\"');\n"
    );
    let (_database, _project, service) = TestProject::served(engine, &sql, "");
    let ids = |truth: bool| {
        let document = format!(
            "{{ reports(filter: {{ about: {{ isNull: {truth} }} }}, orderBy: [{{ id: ASC }}]) {{ nodes {{ id about }} }} }}"
        );
        service.data(&document)["reports"]["nodes"].clone()
    };
    let none = |id: i32| json!({ "id": id, "about": null });
    assert_eq!(ids(true), json!([none(1), none(2), none(3)]));
    assert_eq!(ids(false), json!([{ "id": 4, "about": { "a": null } }, { "id": 5, "about": "null" }]));
}

/// A sum that no double can hold is told for what it is; PostgreSQL gives up the whole statement for it.
#[rstest]
fn a_sum_beyond_what_doubles_hold_is_told(#[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb)] engine: Engine) {
    let double = if engine == Engine::Postgres { "double precision" } else { "double" };
    let sql = format!(
        "create table stars (id integer primary key, mass {double});\n\
         insert into stars values (1, 1.7e308), (2, 1.7e308), (3, 2);\n"
    );
    let (_database, _project, service) = TestProject::served(engine, &sql, "");
    let answer = service.ask("{ stars { totalCount summary { mass { sum avg max } } } }").json();
    assert_eq!(answer["errors"][0]["extensions"]["code"], "VALUE_UNFIT", "{answer}");
    if engine != Engine::Postgres {
        let stars = json!({ "totalCount": 3, "summary": { "mass": { "sum": null, "avg": null, "max": 1.7e308 } } });
        assert_eq!(answer["data"]["stars"].to_string(), stars.to_string());
    }
}

/// In SQLite's binary form, and where a text was put into such a column.
#[test]
fn binary_json_that_says_null_is_null() {
    let sql = "create table reports (id integer primary key, about jsonb);\n\
               insert into reports values (1, null), (2, jsonb('null')), (3, ' null '), (4, jsonb('{\"a\": null}'));\n";
    let (_database, _project, service) = TestProject::served(Engine::Sqlite, sql, "");
    let found =
        service.data("{ reports(filter: { about: { isNull: true } }, orderBy: [{ id: ASC }]) { nodes { id about } } }");
    let none = |id: i32| json!({ "id": id, "about": null });
    assert_eq!(found["reports"]["nodes"], json!([none(1), none(2), none(3)]));
    let found = service.data("{ reports(filter: { about: { isNull: false } }) { nodes { id } } }");
    assert_eq!(found["reports"]["nodes"], json!([{ "id": 4 }]));
}

const WITHOUT_INDEX: &str = "
create table parents (id integer primary key, name varchar(20) not null);
create table children (id integer primary key, parent_id integer, name varchar(20) not null);
";

/// A link without an index takes one pass over the children, however many parents there are: the engine's own plan says so.
#[rstest]
#[case(Engine::Sqlite, &["SCAN t0", "SEARCH k USING AUTOMATIC COVERING INDEX (k0=?)"], &["SCAN k"])]
#[case(Engine::Postgres, &["Hash Join", "Seq Scan on children"], &["Nested Loop"])]
#[case(Engine::Mariadb, &["ALL t0", "using key0"], &["join buffer"])]
fn a_link_without_an_index_takes_one_pass(#[case] engine: Engine, #[case] is: &[&str], #[case] is_not: &[&str]) {
    let mut sql = WITHOUT_INDEX.to_owned();
    for parent in 0..50 {
        sql.push_str(&format!("insert into parents values ({parent}, 'p{parent}');\n"));
    }
    for chunk in 0..20 {
        let rows: Vec<String> =
            (0..1_000).map(|row| chunk * 1_000 + row).map(|id| format!("({id}, {}, 'c{id}')", id % 60)).collect();
        sql.push_str(&format!("insert into children values {};\n", rows.join(", ")));
    }
    if engine == Engine::Postgres {
        sql.push_str("analyze;\n");
    }
    let link = "[[link]]\ntable = \"children\"\ncolumns = [\"parent_id\"]\nto = \"parents\"\nreferences = [\"id\"]\n";
    let (_database, _project, service) = TestProject::served(engine, &sql, link);
    let document = "{ parents(first: 50) { nodes { id children(first: 3, orderBy: [{ name: ASC }]) { totalCount nodes { id } } } } }";
    let answer = service.post(&json!({ "query": document, "extensions": { "explain": true } })).json();
    assert_eq!(answer["errors"], Json::Null, "{answer}");
    let first = &answer["data"]["parents"]["nodes"][1];
    assert_eq!(
        first["children"],
        json!({ "totalCount": 334, "nodes": [{ "id": 1 }, { "id": 10021 }, { "id": 10081 }] })
    );
    let statements = answer["extensions"]["statements"].as_array().unwrap();
    let plans: Vec<String> = statements.iter().map(|statement| statement["plan"].to_string()).collect();
    let of_children: Vec<&String> =
        plans.iter().filter(|plan| plan.contains("children") || plan.contains("t0") && plan.contains("k")).collect();
    assert!(!of_children.is_empty(), "{plans:?}");
    for word in is {
        assert!(of_children.iter().any(|plan| plan.contains(word)), "{word}: {of_children:#?}");
    }
    for word in is_not {
        assert!(of_children.iter().all(|plan| !plan.contains(word)), "{word}: {of_children:#?}");
    }
}
