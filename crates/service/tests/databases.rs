//! Databases as others make them: what engines allow and few expect.

use puente_core::catalog::Engine;
use puente_testkit::database::Database;
use puente_testkit::project::{TestProject, TestService};
use serde_json::{Value as Json, json};

fn served(engine: Engine, sql: &str, edits: &str) -> (Database, TestProject, TestService) {
    let database = Database::empty(engine);
    database.execute(sql);
    let project = TestProject::of(&database, "", edits);
    let service = project.serve();
    (database, project, service)
}

fn data(service: &TestService, document: &str) -> Json {
    let answer = service.ask(document).json();
    assert_eq!(answer["errors"], Json::Null, "{document}: {answer}");
    answer["data"].clone()
}

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
    let (database, _project, service) = served(Engine::Postgres, sql, "");
    let list = "{ places(orderBy: [{ id: ASC }]) { totalCount nodes { id name } } }";
    let own = json!({ "totalCount": 2, "nodes": [{ "id": 1, "name": "bend" }, { "id": 2, "name": "ford" }] });
    assert_eq!(data(&service, list)["places"], own);
    assert_eq!(data(&service, "{ summit(key: { id: 1 }) { name height } }")["summit"], json!({ "name": "Horn", "height": 3000 }));
    data(&service, "mutation { updatePlace(key: { id: 1 }, set: { name: \"bridge\" }) { node { id } } }");
    let names = || database.query("select name from places order by name");
    let is = |expected: [&str; 4]| assert_eq!(names(), expected.map(|name| vec![Some(name.to_owned())]));
    is(["Horn", "Unterdorf", "bridge", "ford"]);
    data(&service, "mutation { deletePlaces(everyRow: true) { count } }");
    assert_eq!(names(), ["Horn", "Unterdorf"].map(|name| vec![Some(name.to_owned())]));
    data(&service, "mutation { createPlace(input: { id: 7, name: \"cave\" }) { node { id name } } }");
    assert_eq!(database.query("select count(*) from only places"), [[Some("1".to_owned())]]);
}
