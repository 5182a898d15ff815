//! Tables between two others: with a key of their own, with several rows for the same two, and several between the same two.

use puente_core::catalog::Engine;
use puente_testkit::database::Database;
use puente_testkit::project::TestProject;
use rstest::rstest;
use serde_json::{Value as Json, json};

const FILMS: &str = "
create table films (id integer primary key, title varchar(40) not null);
create table people (id integer primary key, name varchar(40) not null);
create table castings (
    id integer primary key, film_id integer not null, person_id integer not null, part varchar(40),
    unique (film_id, person_id),
    foreign key (film_id) references films (id), foreign key (person_id) references people (id));
create table mentions (
    id integer primary key, film_id integer, person_id integer, page integer not null,
    foreign key (film_id) references films (id), foreign key (person_id) references people (id));
insert into films values (1, 'Fog'), (2, 'Snow'), (3, 'Rain');
insert into people values (1, 'Ida'), (2, 'Jon'), (3, 'Kim'), (4, 'Lea');
insert into castings values (1, 1, 1, 'the guide'), (2, 1, 2, 'the guest'), (3, 2, 2, null), (4, 2, 4, 'the cook');
insert into mentions values
    (1, 1, 3, 10), (2, 1, 3, 20), (3, 1, 1, 30), (4, 1, 3, 99), (5, 2, 3, 40), (6, 2, null, 50), (7, null, 1, 60);
";
const MENTIONED: &str = "
[[link]]
table = \"films\"
through = \"mentions\"
to = \"people\"
name = \"mentioned\"
back = \"mentionedIn\"
[role.reader.Film.read]
fields = \"all\"
[role.reader.Person.read]
fields = \"all\"
[role.reader.Mention.read]
fields = \"all\"
rows = \"row.page < 40\"
";

#[rstest]
fn a_join_table_with_a_key_of_its_own_links_directly(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
) {
    let (_database, _project, service) = TestProject::served(engine, FILMS, "");
    let read = "{ films(orderBy: [{ id: ASC }]) { nodes { people(orderBy: [{ name: DESC }]) { edges { id part node { name } } } } } }";
    let films = service.data(read)["films"]["nodes"].clone();
    let edge = |id: i64, part: Json, name: &str| json!({ "id": id, "part": part, "node": { "name": name } });
    assert_eq!(
        films[0]["people"]["edges"],
        json!([edge(2, json!("the guest"), "Jon"), edge(1, json!("the guide"), "Ida")])
    );
    assert_eq!(films[2]["people"]["edges"], json!([]));
    let change = "mutation { updateFilm(key: { id: 3 }, set: { people: { link: [{ key: { id: 4 }, id: 9, part: \"the owl\" }] } }) \
                  { node { people { edges { id part node { films { nodes { title } } } } } } } }";
    let node = &service.data(change)["updateFilm"]["node"];
    let films = json!({ "nodes": [{ "title": "Snow" }, { "title": "Rain" }] });
    assert_eq!(node["people"]["edges"], json!([{ "id": 9, "part": "the owl", "node": { "films": films } }]));
    let change = "mutation { updateFilm(key: { id: 3 }, set: { people: { unlink: [{ id: 4 }] } }) { node { people { totalCount } } } }";
    assert_eq!(service.data(change)["updateFilm"]["node"]["people"]["totalCount"], 0);
}

/// Whoever is mentioned on three pages is mentioned: a link leads to a row once.
#[rstest]
fn several_rows_for_the_same_two_link_them_once(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
) {
    let (_database, _project, service) = TestProject::served(engine, FILMS, MENTIONED);
    let names = |nodes: &Json| -> Vec<String> {
        nodes.as_array().unwrap().iter().map(|node| node["name"].as_str().unwrap().to_owned()).collect()
    };
    let read = "{ films(orderBy: [{ id: ASC }]) { nodes { mentioned(orderBy: [{ name: ASC }]) { totalCount nodes { name } } } } }";
    let films = service.data(read)["films"]["nodes"].clone();
    assert_eq!(
        (&films[0]["mentioned"]["totalCount"], names(&films[0]["mentioned"]["nodes"])),
        (&json!(2), vec!["Ida".into(), "Kim".into()])
    );
    assert_eq!(names(&films[1]["mentioned"]["nodes"]), ["Kim"]);
    assert_eq!(names(&films[2]["mentioned"]["nodes"]), [""; 0]);
    // A role sees whom the pages that it may read mention.
    let films = service.data_of(&json!({ "query": read, "extensions": { "as": "reader" } }))["films"]["nodes"].clone();
    assert_eq!(names(&films[0]["mentioned"]["nodes"]), ["Ida", "Kim"]);
    assert_eq!((&films[1]["mentioned"]["totalCount"], names(&films[1]["mentioned"]["nodes"])), (&json!(0), vec![]));
    let one = "{ film(key: { id: 1 }) { mentioned(first: 1, orderBy: [{ name: DESC }]) { nodes { name } pageInfo { hasNextPage } } } }";
    let page = service.data_of(&json!({ "query": one, "extensions": { "as": "reader" } }))["film"]["mentioned"].clone();
    assert_eq!(page, json!({ "nodes": [{ "name": "Kim" }], "pageInfo": { "hasNextPage": true } }));
    let filter = "{ films(filter: { mentioned: { exists: { name: { eq: \"Kim\" } } } }) { totalCount } \
                  people(filter: { mentionedIn: { none: {} } }, orderBy: [{ id: ASC }]) { nodes { name } } }";
    let found = service.data(filter);
    assert_eq!(
        (found["films"]["totalCount"].clone(), names(&found["people"]["nodes"])),
        (json!(2), vec!["Jon".into(), "Lea".into()])
    );
}

#[rstest]
#[case("through = \"mentons\"\nto = \"people\"", "did you mean `mentions`?")]
#[case(
    "through = \"people\"\nto = \"people\"",
    "`people` refers to `films` by no foreign key; say how by a `[[link]]` of its own"
)]
#[case("through = \"mentions\"\nto = \"films\"", "say both with `columns` and `references`")]
#[case("through = \"mentions\"\nto = \"people\"\ncolumns = [\"film\"]", "table `mentions` has no column `film`")]
fn a_table_between_that_does_not_join_is_a_mistake(#[case] link: &str, #[case] expected: &str) {
    let database = Database::empty(Engine::Sqlite);
    database.execute(FILMS);
    let survey = puente_sources::survey(&database.settings(""), database.folder()).unwrap();
    let text = format!("[source.main]\nurl = \"sqlite:x.db\"\n[[link]]\ntable = \"films\"\n{link}\n");
    let project = puente_core::project::read(&text, &|_| None).unwrap();
    let mistakes = puente_core::model::build(&[&survey.catalog], &project).unwrap_err();
    assert!(mistakes[0].text.contains(expected), "{mistakes:?}");
}
