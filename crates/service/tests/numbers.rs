//! Numbers are exact from a caller's text to the column and back, on every engine.

use puente_core::catalog::Engine;
use puente_testkit::database::Database;
use puente_testkit::project::{TestProject, TestService};
use rand::rngs::StdRng;
use rand::{RngExt as _, SeedableRng as _};
use rstest::rstest;
use serde_json::{Value as Json, json};

fn served(engine: Engine) -> (Database, TestProject, TestService) {
    let database = Database::empty(engine);
    let (double, single, json) = match engine {
        Engine::Mongodb => {
            let number = |kind: &str| bson::doc! { "bsonType": kind };
            let members = bson::doc! { "_id": number("int"), "level": number("double") };
            let validator = bson::doc! { "$jsonSchema": { "bsonType": "object", "properties": members } };
            database.command(bson::doc! { "create": "readings", "validator": validator });
            return put_up(database);
        }
        Engine::Sqlite => ("double", "double", "json"),
        Engine::Postgres => ("double precision", "real", "jsonb"),
        Engine::Mariadb => ("double", "float", "json"),
    };
    database.execute(&format!(
        "create table readings (id integer primary key, level {double}, coarse {single}, exact decimal(40, 10), about {json});\n"
    ));
    put_up(database)
}

fn put_up(database: Database) -> (Database, TestProject, TestService) {
    let project = TestProject::of(&database, "", "");
    let service = project.serve();
    (database, project, service)
}

/// The ids of the readings that a filter finds.
fn found(service: &TestService, filter: &Json) -> Json {
    let document = "query($f: ReadingFilter) { readings(filter: $f) { nodes { id } } }";
    let answer = service.post(&json!({ "query": document, "variables": { "f": filter } }));
    answer.json()["data"]["readings"]["nodes"].clone()
}

#[rstest]
fn doubles_come_back_bit_for_bit_and_are_found(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
) {
    let (_database, _project, service) = served(engine);
    let mut random = StdRng::seed_from_u64(11);
    let mut levels: Vec<f64> =
        (0..150).map(|_| random.random::<f64>() * [1.0, 50.0, 1e6][random.random_range(0..3)]).collect();
    levels.extend([0.1 + 0.2, 1e300, 5e-300, f64::MAX, f64::MIN_POSITIVE, -1.0 / 3.0, 123_456_789.123_456_78]);
    let items: Vec<Json> = levels.iter().enumerate().map(|(id, level)| json!({ "id": id, "level": level })).collect();
    let document = "mutation($items: [ReadingCreate!]!) { createReadings(inputs: $items) { count } }";
    let answer = service.post(&json!({ "query": document, "variables": { "items": items } })).json();
    assert_eq!(answer["data"]["createReadings"]["count"], levels.len(), "{answer}");
    let answer = service.ask("{ readings(first: 500, orderBy: [{ id: ASC }]) { nodes { level } } }").json();
    let read: Vec<f64> = answer["data"]["readings"]["nodes"]
        .as_array()
        .unwrap()
        .iter()
        .map(|node| node["level"].to_string().parse().unwrap())
        .collect();
    assert_eq!(read, levels);
    for (id, level) in levels.iter().enumerate() {
        let expected = json!([{ "id": id }]);
        assert_eq!(found(&service, &json!({ "level": { "eq": level } })), expected, "{level} in a variable");
        assert_eq!(found(&service, &json!({ "level": { "in": [level, -7.5] } })), expected, "{level} in a list");
        let literal = format!("{{ readings(filter: {{ level: {{ eq: {} }} }}) {{ nodes {{ id }} }} }}", json!(level));
        assert_eq!(service.ask(&literal).json()["data"]["readings"]["nodes"], expected, "{level} in the document");
    }
}

#[rstest]
fn numbers_of_32_bits_are_found_and_walked_by_what_is_served(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb)] engine: Engine,
) {
    let (_database, _project, service) = served(engine);
    let coarse = [0.1, 0.3, 1.1, 2.7, 3.3, 1_234.567];
    let items: Vec<Json> =
        coarse.iter().enumerate().map(|(id, coarse)| json!({ "id": id, "coarse": coarse })).collect();
    let document = "mutation($items: [ReadingCreate!]!) { createReadings(inputs: $items) { count } }";
    let answer = service.post(&json!({ "query": document, "variables": { "items": items } })).json();
    assert_eq!(answer["data"]["createReadings"]["count"], coarse.len(), "{answer}");
    for (id, coarse) in coarse.iter().enumerate() {
        assert_eq!(found(&service, &json!({ "coarse": { "eq": coarse } })), json!([{ "id": id }]), "{coarse}");
        assert_eq!(found(&service, &json!({ "coarse": { "in": [coarse] } })), json!([{ "id": id }]), "{coarse}");
    }
    let (mut after, mut walked) = (Json::Null, Vec::new());
    for _ in 0..coarse.len() {
        let document = "query($after: String) { readings(first: 1, after: $after, orderBy: [{ coarse: ASC }]) { nodes { coarse } pageInfo { endCursor } } }";
        let answer = service.post(&json!({ "query": document, "variables": { "after": after } })).json();
        let list = &answer["data"]["readings"];
        walked.push(list["nodes"][0]["coarse"].to_string());
        after = list["pageInfo"]["endCursor"].clone();
    }
    assert_eq!(walked, coarse.map(|coarse| json!(coarse).to_string()));
}

#[rstest]
fn numbers_of_any_size_stay_what_they_are(#[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb)] engine: Engine) {
    let (_database, _project, service) = served(engine);
    let digits = "123456789012345678901234567890.0123456789";
    let number: Json = serde_json::from_str(digits).unwrap();
    let document = "mutation($exact: Decimal, $about: JSON) { createReading(input: { id: 1, exact: $exact, about: $about }) { node { id } } }";
    let variables = json!({ "exact": number, "about": { "big": 9_007_199_254_740_993_i64, "bigger": number } });
    let answer = service.post(&json!({ "query": document, "variables": variables })).json();
    assert_eq!(answer["errors"], Json::Null, "{answer}");
    let answer = service.ask("{ readings { nodes { exact about } } }").json();
    let node = &answer["data"]["readings"]["nodes"][0];
    assert_eq!(node["about"]["big"].to_string(), "9007199254740993");
    assert_eq!(node["about"]["bigger"].to_string(), digits);
    if engine != Engine::Sqlite {
        // SQLite has no decimals: a column declared as one holds doubles.
        assert_eq!(node["exact"], digits);
    }
}
