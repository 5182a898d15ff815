//! What a survey says of names and values that it cannot serve as they are, and what it calls them.

use puente_core::catalog::Engine;
use puente_service::SurveyOutcome;
use puente_testkit::database::Database;
use puente_testkit::project::TestProject;
use rstest::rstest;
use serde_json::json;

fn surveyed(project: &TestProject) -> SurveyOutcome {
    puente_service::survey(&project.open(), None).expect("a survey")
}

fn said(outcome: &SurveyOutcome) -> String {
    let advice =
        outcome.sources.iter().flat_map(|of| &of.advice).map(|advice| format!("{} {}", advice.place, advice.text));
    advice.chain(outcome.sources.iter().flat_map(|of| of.notices.clone())).collect::<Vec<_>>().join("\n")
}

/// Every type's name and its list.
fn types(project: &TestProject) -> Vec<(String, String)> {
    let model = project.open().model().expect("a model");
    model.types.iter().map(|t| (t.name.clone(), t.list.clone())).collect()
}

const SHOP: &str = "
create table shop_orders (id integer primary key, customer_id integer);
create table shop_customers (id integer primary key, name varchar(20));
create table shop_items (id integer primary key, order_id integer references shop_orders (id));
";

#[rstest]
fn a_first_word_of_every_table_is_left_out_and_one_line_turns_that_back(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb)] engine: Engine,
) {
    let database = Database::empty(engine);
    database.execute(SHOP);
    let project = TestProject::of(&database, "", "");
    let called = |names: &[(&str, &str)]| -> Vec<(String, String)> {
        names.iter().map(|(name, list)| ((*name).to_owned(), (*list).to_owned())).collect()
    };
    let short = called(&[("Customer", "customers"), ("Item", "items"), ("Order", "orders")]);
    let long = called(&[("ShopCustomer", "shopCustomers"), ("ShopItem", "shopItems"), ("ShopOrder", "shopOrders")]);
    assert_eq!(types(&project), short);
    let outcome = surveyed(&project);
    assert!(said(&outcome).contains("every table begins with `shop`"), "{}", said(&outcome));
    let file = project.path().join("puente.toml");
    let text = std::fs::read_to_string(&file).expect("the project file");
    std::fs::write(&file, text.replacen("[source.test]\n", "[source.test]\nkeep_first_word = true\n", 1))
        .expect("written");
    assert_eq!(types(&project), long);
    assert!(!said(&surveyed(&project)).contains("every table begins"));
    // Names that were given once stay, whatever the line says then, and also where a table comes without the word.
    std::fs::write(&file, text).expect("written");
    assert_eq!(types(&project), long);
    database.execute("create table notes (id integer primary key);\n");
    surveyed(&project);
    assert_eq!(types(&project)[1..], long);
}

#[rstest]
fn what_only_its_language_reads_has_a_neutral_name(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb)] engine: Engine,
) {
    let q = if engine == Engine::Mariadb { '`' } else { '"' };
    let database = Database::empty(engine);
    database.execute(&format!(
        "create table {q}都市{q} (id integer primary key, {q}名前{q} varchar(20), {q}人口{q} integer, город varchar(9));
insert into {q}都市{q} values (1, 'Sendai', 1090000, 'x');\n"
    ));
    let project = TestProject::of(&database, "", "");
    let service = project.serve();
    let node = &service.data("{ tables { nodes { id column column2 gorod } } }")["tables"]["nodes"][0];
    assert_eq!(*node, json!({ "id": 1, "column": "Sendai", "column2": 1_090_000, "gorod": "x" }));
    let outcome = surveyed(&project);
    assert!(said(&outcome).contains("[type.fields.\"名前\"] name"), "{}", said(&outcome));
    let described = service.ask("{ __type(name: \"Table\") { description fields { description } } }").text();
    assert!(
        described.contains("`名前` in the database.") && described.contains("`都市` in the database."),
        "{described}"
    );
}

#[rstest]
fn exact_names_are_taken_before_altered_ones() {
    let database = Database::empty(Engine::Postgres);
    database.execute("create table things (_id integer, id integer primary key, \"Label\" text, label text);\ninsert into things values (7, 1, 'A', 'a');\n");
    let service = TestProject::of(&database, "", "").serve();
    let node = &service.data("{ things { nodes { id _id label Label } } }")["things"]["nodes"][0];
    assert_eq!(*node, json!({ "id": 1, "_id": 7, "label": "a", "Label": "A" }));
}

#[rstest]
fn values_of_enums_without_names_are_told_and_lists_of_enums_are_lists() {
    let database = Database::empty(Engine::Postgres);
    database.execute(
        "create type cased as enum ('ok', 'OK');
create type mood as enum ('glad', 'so so');
create table days (id integer primary key, c cased, moods mood[], a inet, b inet, d inet, e inet);
insert into days values (1, 'OK', '{glad,so so}', '10.0.0.1', null, null, null);\n",
    );
    let project = TestProject::of(&database, "", "");
    let told = said(&surveyed(&project));
    assert!(told.contains("the enum of column `c` of `days` is served as text"), "{told}");
    assert!(told.contains("days.a, days.b, days.d and 1 more `inet` has no type"), "{told}");
    let service = project.serve();
    let asked = "{ days(filter: { moods: { includesAny: [SO_SO] }, c: { startsWith: \"O\" } }) { nodes { c moods } } }";
    assert_eq!(service.data(asked)["days"]["nodes"], json!([{ "c": "OK", "moods": ["GLAD", "SO_SO"] }]));
    assert_eq!(
        service.data("{ days(filter: { c: { in: [\"none such\"] } }) { totalCount } }")["days"]["totalCount"],
        0
    );
    let change = "mutation { updateDay(key: { id: 1 }, set: { moods: [SO_SO, GLAD] }) { node { moods } } }";
    assert_eq!(service.data(change)["updateDay"]["node"]["moods"], json!(["SO_SO", "GLAD"]));
    assert!(
        service
            .ask("{ days(filter: { moods: { includes: \"so so\" } }) { totalCount } }")
            .text()
            .contains("DOCUMENT_INVALID")
    );
}

/// Dates that GraphQL's are not are errors on their fields, and cursors over them lead on.
#[rstest]
fn pages_go_on_over_dates_before_christ() {
    let database = Database::empty(Engine::Postgres);
    database.execute(
        "create table reigns (id integer primary key, d date, t timestamp, z timestamptz);
insert into reigns values (1, '0044-03-15 BC', '0044-03-15 10:00 BC', '0044-03-15 10:00Z BC'),
    (2, '0100-01-01 BC', '0100-01-01 00:00 BC', '0100-01-01 00:00Z BC'), (3, '12000-01-01', '12000-01-01 00:00', '12000-01-01 00:00Z'),
    (4, 'infinity', 'infinity', '-infinity'), (5, '2024-01-01', '2024-01-01 00:00', '2024-01-01 00:00Z');\n",
    );
    let service = TestProject::of(&database, "", "").serve();
    for (order, expected) in [("d", [2, 1, 5, 3, 4]), ("t", [2, 1, 5, 3, 4]), ("z", [4, 2, 1, 5, 3])] {
        let (mut found, mut after) = (Vec::new(), String::new());
        for _ in 0..expected.len() {
            let page = format!(
                "{{ reigns(first: 1, orderBy: [{{ {order}: ASC }}]{after}) {{ nodes {{ id }} pageInfo {{ endCursor }} }} }}"
            );
            let data = service.data(&page);
            found.push(data["reigns"]["nodes"][0]["id"].as_i64().expect("a row"));
            after = format!(", after: {}", data["reigns"]["pageInfo"]["endCursor"]);
        }
        assert_eq!(found, expected, "{order}");
    }
}

#[rstest]
fn what_mariadb_cannot_read_is_told_with_its_reason() {
    let database = Database::empty(Engine::Mariadb);
    database.execute(
        "create table notes (id integer primary key, doc json);
insert into notes values (1, '{\"-a\": 1, \"b\": {\"-c\": 2, \"d\": 3}}');
create table gone (id integer primary key);
create view broken as select id from gone;
drop table gone;\n",
    );
    let told = said(&surveyed(&TestProject::of(&database, "", "")));
    assert!(told.contains("view `broken` names tables, columns or functions that are not there"), "{told}");
    assert!(told.contains("no member whose name begins with `-`; left out: `-a`, `-c`"), "{told}");
}

/// A map of 250 currencies is one field, and not a type for each; whoever wants fields says so, and they stay.
#[rstest]
fn an_object_used_as_a_map_is_one_field(#[values(Engine::Sqlite, Engine::Mongodb)] engine: Engine) {
    let database = Database::empty(engine);
    let country = |row: u32| {
        let code = |at: u32| format!("{}{}{}", letter(at), letter(at / 7), letter(at / 3));
        let used: serde_json::Map<String, serde_json::Value> = (0..5)
            .map(|at| (code(row * 5 + at), json!({ "name": format!("coin {at}"), "since": 1990 + at })))
            .collect();
        json!({ "used": used, "capital": format!("city {row}") })
    };
    if engine == Engine::Mongodb {
        let documents =
            (0..50).map(|row| bson::doc! { "_id": row, "doc": bson::serialize_to_bson(&country(row)).expect("BSON") });
        database.insert("countries", documents.collect());
    } else {
        let rows: Vec<String> = (0..50).map(|row| format!("({row}, '{}')", country(row))).collect();
        database.execute(&format!(
            "create table countries (id integer primary key, doc json);\ninsert into countries values {};\n",
            rows.join(", ")
        ));
    }
    let shape = if engine == Engine::Mongodb {
        ""
    } else {
        "[[type]]\ntable = \"countries\"\n[type.fields.doc]\nshape = true\n"
    };
    let project = TestProject::of(&database, "", shape);
    let model = project.open().model().expect("a model");
    assert_eq!(model.objects.len(), 1, "{:?}", model.objects);
    let told = said(&surveyed(&project));
    assert!(
        told.contains("`countries.doc/used` is used as a map")
            && told.contains("[type.fields.\"doc\".members.\"used\"]"),
        "{told}"
    );

    let node = &project
        .serve()
        .data("{ countries(first: 1, orderBy: [{ id: ASC }]) { nodes { doc { capital used } } } }")["countries"]["nodes"]
        [0];
    assert_eq!(node["doc"]["capital"], "city 0", "{node}");
    assert_eq!(node["doc"]["used"], country(0)["used"]);
    let file = project.path().join("puente.toml");
    let before = std::fs::read_to_string(&file).expect("the project file");
    let lines =
        if shape.is_empty() { "[[type]]\ntable = \"countries\"\n[type.fields.doc]\nshape = true\n" } else { "" };
    std::fs::write(&file, format!("{before}{lines}[type.fields.doc.members.used]\nshape = true\n")).expect("written");
    let fields = surveyed(&project).model.expect("a model").objects.len();
    assert!(fields > 50, "{fields}");
    // Names that were given stay.
    std::fs::write(&file, before).expect("written");
    assert_eq!(project.open().model().expect("a model").objects.len(), fields);
}

fn letter(at: u32) -> char {
    char::from(b'A' + u8::try_from(at % 26).expect("a letter"))
}
