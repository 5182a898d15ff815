//! Global ids: every row that has a key is found by its `id` alone, as far as the role sees it.

use puente_core::catalog::Engine;
use puente_testkit::database::Database;
use puente_testkit::project::{TestProject, TestService};
use rstest::rstest;
use serde_json::{Value as Json, json};

const TABLES: &str = "
create table huts (id integer primary key, name varchar(40) not null);
insert into huts values (1, 'Low'), (2, 'High');
create table hikers (id integer primary key, name varchar(40) not null);
insert into hikers values (1, 'Ann'), (2, 'Ben');
create table bookings (
  hut_id integer not null, night varchar(10) not null, hiker_id integer not null, beds integer not null default 1,
  primary key (hut_id, night), constraint of_hut foreign key (hut_id) references huts (id),
  constraint of_hiker foreign key (hiker_id) references hikers (id)
);
insert into bookings values (1, '2026-07-01', 1, 2), (2, '2026-07-02', 2, 1);
create table readings (hut_id integer, celsius integer);
insert into readings values (1, 7);
";

const PROJECT: &str = "
[service]
global_ids = true
[role.hiker.Booking.read]
fields = [\"night\", \"hut\"]
rows = \"row.hikerId == int(claims.sub)\"
[role.hiker.Hut.read]
fields = [\"name\"]
";

fn served(engine: Engine) -> (Database, TestProject, TestService) {
    TestProject::served(engine, TABLES, &PROJECT.replace("int(claims.sub)", "claims.sub"))
}

fn data(service: &TestService, document: &str, variables: Json) -> Json {
    service.data_of(&json!({ "query": document, "variables": variables }))
}

fn as_hiker(service: &TestService, document: &str, variables: Json) -> Json {
    let extensions = json!({ "as": { "role": "hiker", "claims": { "sub": "1" } } });
    service.post(&json!({ "query": document, "variables": variables, "extensions": extensions })).json()
}

const NODE: &str =
    "query($id: ID!) { node(id: $id) { id __typename ... on Hut { name } ... on Booking { night hut { id } } } }";

#[rstest]
fn a_row_is_found_by_its_id_alone_whatever_it_is(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb)] engine: Engine,
) {
    let (_database, _project, service) = served(engine);
    let all = data(&service, "{ huts { nodes { id rowId name } } bookings { nodes { id hutId night } } }", json!({}));
    let id = |list: &str, at: usize| all[list]["nodes"][at]["id"].as_str().expect("an id").to_owned();
    assert_ne!(id("huts", 0), id("huts", 1));
    assert_eq!(all["huts"]["nodes"][1]["rowId"], 2);
    assert_eq!(
        data(&service, NODE, json!({ "id": id("huts", 1) })),
        json!({ "node": { "id": id("huts", 1), "__typename": "Hut", "name": "High" } })
    );
    // The same document, with another type's row: the plan of the one is not taken for the other.
    let booking = json!({ "node": {
        "id": id("bookings", 0), "__typename": "Booking", "night": "2026-07-01", "hut": { "id": id("huts", 0) },
    } });
    assert_eq!(data(&service, NODE, json!({ "id": id("bookings", 0) })), booking);
    assert_eq!(data(&service, NODE, json!({ "id": id("huts", 0) }))["node"]["name"], "Low");

    let many = "query($ids: [ID!]!) { nodes(ids: $ids) { ... on Hut { name } ...B } } fragment B on Booking { night }";
    let ids = json!({ "ids": [id("bookings", 1), id("huts", 0), id("bookings", 1)] });
    let found = json!({ "nodes": [{ "night": "2026-07-02" }, { "name": "Low" }, { "night": "2026-07-02" }] });
    assert_eq!(data(&service, many, ids), found);
    let literal = format!("{{ node(id: {:?}) {{ ... on Hut {{ name }} }} }}", id("huts", 0));
    assert_eq!(data(&service, &literal, json!({})), json!({ "node": { "name": "Low" } }));

    let again = data(&service, "{ huts { nodes { id } } }", json!({}));
    assert_eq!(again["huts"]["nodes"][0]["id"], id("huts", 0).as_str(), "the same row has the same id");
    let keyless = data(&service, "{ readings { nodes { hutId celsius } } }", json!({}));
    assert_eq!(keyless["readings"]["nodes"][0]["celsius"], 7, "what has no key has no id");
}

#[rstest]
fn a_role_finds_what_it_sees_and_nothing_else(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb)] engine: Engine,
) {
    let (_database, _project, service) = served(engine);
    let all = data(&service, "{ huts { nodes { id } } bookings { nodes { id } } hikers { nodes { id } } }", json!({}));
    let id = |list: &str, at: usize| json!({ "id": all[list]["nodes"][at]["id"] });
    let own = as_hiker(&service, NODE, id("bookings", 0));
    assert_eq!(own["data"]["node"]["night"], "2026-07-01");
    assert_eq!(own["data"]["node"]["id"], all["bookings"]["nodes"][0]["id"], "ids are the same for every role");
    assert_eq!(own["data"]["node"]["hut"]["id"], all["huts"]["nodes"][0]["id"], "also where the key is not granted");
    let nobody = json!({ "data": { "node": null } });
    assert_eq!(as_hiker(&service, NODE, id("bookings", 1)), nobody, "the rule hides the row");
    assert_eq!(as_hiker(&service, NODE, id("hikers", 0)), nobody, "the type was not granted");
    let many = "query($ids: [ID!]!) { nodes(ids: $ids) { id } }";
    let ids = json!({ "ids": [all["bookings"]["nodes"][1]["id"], all["huts"]["nodes"][1]["id"]] });
    assert_eq!(
        as_hiker(&service, many, ids),
        json!({ "data": { "nodes": [null, { "id": all["huts"]["nodes"][1]["id"] }] } })
    );
}

#[rstest]
fn many_ids_are_one_statement_for_each_type_and_level(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb)] engine: Engine,
) {
    let (database, _project, service) = served(engine);
    database.execute(
        "insert into hikers select id + 10, name from hikers; insert into hikers select id + 20, name from hikers",
    );
    database.execute("insert into bookings select hut_id, '2026-08-01', hiker_id, 4 from bookings");
    let all =
        data(&service, "{ hikers { nodes { id rowId } } bookings { nodes { id night hut { name } } } }", json!({}));
    let of = |list: &str| all[list]["nodes"].as_array().unwrap().clone();
    let (hikers, bookings) = (of("hikers"), of("bookings"));
    assert_eq!((hikers.len(), bookings.len()), (8, 4));
    // In any order, one of them twice, and one that is gone.
    let gone =
        data(&service, "mutation { createHiker(input: { rowId: 99, name: \"Eve\" }) { node { id } } }", json!({}));
    service.data("mutation { deleteHiker(key: { rowId: 99 }) { count } }");
    let mut wanted: Vec<&Json> = Vec::new();
    for (at, hiker) in hikers.iter().enumerate().rev() {
        wanted.extend([hiker, &bookings[at % bookings.len()]]);
    }
    let missing = gone["createHiker"]["node"].clone();
    wanted.insert(3, &missing);
    let document =
        "query($ids: [ID!]!) { nodes(ids: $ids) { id ... on Hiker { rowId } ... on Booking { night hut { name } } } }";
    let ids: Vec<&Json> = wanted.iter().map(|row| &row["id"]).collect();
    let body = json!({ "query": document, "variables": { "ids": ids }, "extensions": { "statements": true } });
    let answer = service.post(&body).json();
    let expected: Vec<Json> =
        wanted.iter().map(|row| if **row == missing { Json::Null } else { (*row).clone() }).collect();
    assert_eq!(answer["data"]["nodes"], Json::Array(expected), "{answer}");
    let executions: i64 = answer["extensions"]["statements"]
        .as_array()
        .unwrap()
        .iter()
        .map(|statement| statement["executions"].as_i64().unwrap())
        .sum();
    for few in [&wanted[5..6], &wanted[..2], &wanted[3..4]] {
        // Another number of them, and others of their types, is another plan of the same document.
        let ids: Vec<&Json> = few.iter().map(|row| &row["id"]).collect();
        let expected: Vec<Json> =
            few.iter().map(|row| if **row == missing { Json::Null } else { (*row).clone() }).collect();
        assert_eq!(data(&service, document, json!({ "ids": ids }))["nodes"], Json::Array(expected));
    }
    // The link to one is joined, or read once for each of the few rows by SQLite, in process.
    assert!(executions <= if engine == Engine::Sqlite { 2 + 16 } else { 3 }, "{executions}: {answer}");
}

#[test]
fn documents_are_found_by_their_ids_together() {
    let database = Database::empty(Engine::Mongodb);
    let huts = [bson::doc! { "name": "Low" }, bson::doc! { "name": "High" }];
    database.command(bson::doc! { "insert": "huts", "documents": huts });
    database.command(
        bson::doc! { "insert": "grades", "documents": [{ "_id": 1.5, "word": "easy" }, { "_id": 7, "word": "hard" }] },
    );
    let project = TestProject::of(&database, "[service]\nglobal_ids = true\n", "");
    let service = project.serve();
    let all = data(&service, "{ huts { nodes { id name } } grades { nodes { id word } } }", json!({}));
    let [huts, grades] = ["huts", "grades"].map(|list| all[list]["nodes"].as_array().unwrap());
    let wanted = [&grades[1], &huts[1], &huts[0], &grades[0]];
    let ids: Vec<&Json> = wanted.iter().map(|row| &row["id"]).collect();
    let document = "query($ids: [ID!]!) { nodes(ids: $ids) { id ... on Hut { name } ... on Grade { word } } }";
    let body = json!({ "query": document, "variables": { "ids": ids }, "extensions": { "statements": true } });
    let answer = service.post(&body).json();
    assert_eq!(answer["data"]["nodes"], json!(wanted));
    assert_eq!(answer["extensions"]["statements"].as_array().unwrap().len(), 2, "{answer}");
}

#[rstest]
fn rows_are_changed_and_linked_by_their_ids(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb)] engine: Engine,
) {
    let (_database, _project, service) = served(engine);
    let all = data(&service, "{ huts { nodes { id } } bookings { nodes { id } } hikers { nodes { id } } }", json!({}));
    let change = "mutation($booking: ID!, $hiker: ID!) {
        updateBooking(key: { id: $booking }, set: { beds: 3, hiker: { key: { id: $hiker } } }) { node { id beds hiker { name } } }
    }";
    let variables = json!({ "booking": all["bookings"]["nodes"][0]["id"], "hiker": all["hikers"]["nodes"][1]["id"] });
    let changed = data(&service, change, variables);
    assert_eq!(
        changed["updateBooking"]["node"],
        json!({ "id": all["bookings"]["nodes"][0]["id"], "beds": 3, "hiker": { "name": "Ben" } })
    );
    let create = "mutation($hut: ID!, $hiker: ID!) {
        createBooking(input: { night: \"2026-08-01\", hut: { key: { id: $hut } }, hiker: { key: { id: $hiker } } }) { node { id } }
    }";
    let variables = json!({ "hut": all["huts"]["nodes"][1]["id"], "hiker": all["hikers"]["nodes"][0]["id"] });
    let created = data(&service, create, variables)["createBooking"]["node"]["id"].clone();
    assert_eq!(data(&service, NODE, json!({ "id": created }))["node"]["hut"]["id"], all["huts"]["nodes"][1]["id"]);
    let deleted =
        data(&service, "mutation($id: ID!) { deleteBooking(key: { id: $id }) { count } }", json!({ "id": created }));
    assert_eq!(deleted["deleteBooking"]["count"], 1);
    assert_eq!(data(&service, NODE, json!({ "id": created })), json!({ "node": null }));
}

#[test]
fn what_is_no_id_of_the_type_is_refused_with_the_remedy() {
    let (_database, _project, service) = served(Engine::Sqlite);
    let all =
        data(&service, "{ huts(first: 1) { nodes { id } pageInfo { endCursor } } hikers { nodes { id } } }", json!({}));
    let cursor = all["huts"]["pageInfo"]["endCursor"].as_str().unwrap();
    let id = all["huts"]["nodes"][0]["id"].as_str().unwrap();
    let changed = format!("{}{}", &id[..id.len() - 1], if id.ends_with('A') { 'B' } else { 'A' });
    for wrong in ["", "7", "SHV0OjE=", cursor, &changed] {
        for document in
            [NODE, "query($id: ID!) { nodes(ids: [$id]) { id } }", "query($id: ID!) { hut(key: { id: $id }) { name } }"]
        {
            let response = service.post(&json!({ "query": document, "variables": { "id": wrong } }));
            assert_eq!(
                (response.status, response.code().as_str()),
                (400, "INVALID_ARGUMENT"),
                "{wrong}: {}",
                response.text()
            );
            assert!(response.text().contains("pass the `id` of an answer"), "{}", response.text());
        }
    }
    let other = json!({ "id": all["hikers"]["nodes"][0]["id"] });
    let response =
        service.post(&json!({ "query": "query($id: ID!) { hut(key: { id: $id }) { name } }", "variables": other }));
    assert_eq!(response.code(), "INVALID_ARGUMENT", "an id of another type");
    let response = service.post(&json!({
        "query": "mutation($id: ID!) { deleteHut(key: { id: $id }) { count } }", "variables": other,
    }));
    assert_eq!(response.code(), "INVALID_ARGUMENT", "{}", response.text());
    let many: Vec<&str> = vec![id; 1_001];
    let response = service
        .post(&json!({ "query": "query($ids: [ID!]!) { nodes(ids: $ids) { id } }", "variables": { "ids": many } }));
    assert_eq!(response.code(), "TOO_COSTLY");
}

#[test]
fn fragments_on_the_interface_or_on_other_types_say_what_they_say() {
    let (_database, _project, service) = served(Engine::Sqlite);
    let document = "{ hut(key: { rowId: 1 }) { ... on Node { id ... on Booking { night } ... on Hut { name } } } }";
    let answer = data(&service, document, json!({}));
    assert_eq!(answer["hut"]["name"], "Low");
    assert!(answer["hut"]["id"].is_string() && answer["hut"].get("night").is_none(), "{answer}");
    let same_key = "query($id: ID!) { node(id: $id) { ... on Hut { is: name } ... on Booking { is: night } } }";
    let id = json!({ "id": answer["hut"]["id"] });
    assert_eq!(data(&service, same_key, id), json!({ "node": { "is": "Low" } }));
}

#[test]
fn names_are_given_back_once_there_are_no_ids_any_more() {
    let project = TestProject::of_sql(TABLES, "[service]\nglobal_ids = true\n");
    let file = project.path().join("puente.toml");
    let with = std::fs::read_to_string(&file).unwrap();
    let has = |text: &str| project.serve().api.sdl("owner").unwrap().contains(text);
    assert!(has("  rowId: Int!") && has("interface Node {") && has("type Hut implements Node {"));
    std::fs::write(&file, with.replace("global_ids = true", "")).unwrap();
    assert!(!has("rowId") && !has("Node") && has("  id: Int!"));
    puente_service::survey(&project.open(), None).expect("a survey");
    std::fs::write(&file, with.clone()).unwrap();
    assert!(has("  rowId: Int!"));
    std::fs::write(&file, format!("{with}\n[[type]]\ntable = \"huts\"\n[type.fields]\nid = {{ name = \"number\" }}\n"))
        .unwrap();
    assert!(has("  number: Int!"));
    std::fs::write(&file, format!("{with}\n[[type]]\ntable = \"huts\"\n[type.fields]\nid = {{ name = \"id\" }}\n"))
        .unwrap();
    let error = project.open().model().unwrap_err().to_string();
    assert!(error.contains("the global id of a row has it"), "{error}");
    let grants = "[role.a.Hut.read]\nfields = [\"id\"]\nrows = \"row.id == 1\"\n";
    std::fs::write(&file, format!("{with}\n{grants}")).unwrap();
    let told: Vec<String> = puente_service::check(&project.open()).into_iter().map(|finding| finding.text).collect();
    let hints = told.iter().filter(|text| text.contains("with `global_ids` the column is called `rowId`")).count();
    assert_eq!(hints, 2, "{told:?}");
}
