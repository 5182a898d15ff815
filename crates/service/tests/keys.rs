//! Tables and views without a key, which the survey suggests and the project file may promise; and what was renamed.

use puente_core::catalog::Engine;
use puente_service::{Accepted, SurveyOutcome, accept, survey};
use puente_testkit::database::Database;
use puente_testkit::project::TestProject;
use rstest::rstest;
use serde_json::json;

const STAYS: &str = "
create table stays (hut_id integer not null, night varchar(10) not null, guests integer);
insert into stays values (1, '2026-07-01', 4), (1, '2026-07-02', 5), (2, '2026-07-01', null), (2, '2026-07-02', 4), (3, '2026-07-01', 1);
create view totals as select hut_id, sum(guests) as guests from stays group by hut_id;
";

fn outcome(project: &TestProject) -> SurveyOutcome {
    survey(&project.open(), None).expect("a survey")
}

#[rstest]
fn a_key_is_proposed_where_there_is_none_and_pages_are_turned_by_it(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb)] engine: Engine,
) {
    let database = Database::empty(engine);
    database.execute(STAYS);
    // What the file says of the table already stays as it is.
    let project =
        TestProject::of(&database, "", "# theirs\n[[type]]\ntable = \"stays\" # nights\ndescription = \"Nights.\"\n");
    let found = outcome(&project);
    let mut keys: Vec<(&str, Vec<String>, u64)> =
        found.keys.iter().map(|key| (key.table.as_str(), key.columns.clone(), key.rows)).collect();
    keys.sort();
    let columns = |names: &[&str]| names.iter().map(|name| (*name).to_owned()).collect::<Vec<_>>();
    assert_eq!(keys, [("stays", columns(&["hut_id", "night"]), 5), ("totals", columns(&["hut_id"]), 3)]);
    let accepted = Accepted { keys: found.keys.iter().collect(), ..Accepted::default() };
    accept(&project.open(), &accepted).unwrap();
    let text = std::fs::read_to_string(project.path().join("puente.toml")).unwrap();
    let theirs =
        "# theirs\n[[type]]\ntable = \"stays\" # nights\ndescription = \"Nights.\"\nkey = [\"hut_id\", \"night\"]\n";
    assert!(text.contains(theirs), "{text}");
    assert_eq!(outcome(&project).keys, []);
    let service = project.serve();
    let one = service.data("{ stay(key: { hutIdNight: { hutId: 2, night: \"2026-07-02\" } }) { guests } total(key: { hutId: 3 }) { guests } }",
    );
    assert_eq!(one["stay"], json!({ "guests": 4 }));
    let (mut after, mut walked) = (String::new(), Vec::new());
    for _ in 0..3 {
        let page = service.data(&format!(
                "{{ stays(first: 2, {after} orderBy: [{{ guests: DESC }}]) {{ nodes {{ hutId night }} pageInfo {{ endCursor }} }} }}"
            ),
        );
        walked.extend(page["stays"]["nodes"].as_array().unwrap().iter().map(|node| node["hutId"].as_i64().unwrap()));
        after = format!("after: {},", page["stays"]["pageInfo"]["endCursor"]);
    }
    let nulls_first = engine == Engine::Postgres;
    assert_eq!(walked, if nulls_first { [2, 1, 1, 2, 3] } else { [1, 1, 2, 3, 2] });
    // A promise is not enough to change a row by: others may have the same key.
    let answer =
        service.ask("mutation { deleteStay(key: { hutIdNight: { hutId: 1, night: \"2026-07-01\" } }) { count } }");
    assert!(answer.text().contains("`mutation` root operation type is not defined"), "{}", answer.text());
}

#[rstest]
#[case(&[], "beds", "bedCount")]
#[case(&["huts.bed_count"], "beds", "beds")]
fn what_was_renamed_keeps_its_names_once_that_is_said(
    #[case] said: &[&str],
    #[case] before: &str,
    #[case] after: &str,
) {
    let database = Database::empty(Engine::Sqlite);
    database.execute(
        "create table huts (id integer primary key, name text, beds integer);
        create table notes (id integer primary key, hut_id integer references huts (id));",
    );
    let project = TestProject::of(&database, "", "");
    let fields = |table: &str| {
        let model = project.open().model().unwrap();
        let t = model.types.iter().find(|t| t.table == table).unwrap();
        let columns = t.columns.iter().filter_map(|column| column.field.clone());
        columns.chain(t.links.iter().map(|link| link.field.clone())).collect::<Vec<_>>()
    };
    assert!(fields("huts").contains(&before.to_owned()));
    database.execute("alter table huts rename column beds to bed_count");
    let drift = puente_service::find_drift(&project.open());
    let told = drift.iter().map(|drift| drift.text.as_str()).collect::<Vec<_>>().join("\n");
    assert!(
        told.contains("`huts.bed_count` is like it, and `puente survey --accept huts.bed_count` keeps its names"),
        "{told}"
    );
    // It is still to be decided about after a survey that decides nothing.
    assert_eq!(outcome(&project).renames().count(), 1);
    let found = outcome(&project);
    let renames: Vec<_> = found.renames().filter(|(_, rename)| said.contains(&rename.now().as_str())).collect();
    accept(&project.open(), &Accepted { renames, ..Accepted::default() }).unwrap();
    let found = outcome(&project);
    assert_eq!(found.renames().count(), usize::from(said.is_empty()));
    assert!(fields("huts").contains(&after.to_owned()), "{:?}", fields("huts"));
}

#[test]
fn a_table_and_a_linking_column_that_were_renamed_keep_the_names_of_their_links() {
    let database = Database::empty(Engine::Sqlite);
    database.execute(
        "create table huts (id integer primary key, name text, beds integer);
        create table notes (id integer primary key, body text, hut_id integer references huts (id));",
    );
    let project = TestProject::of(&database, "", "");
    database.execute("alter table huts rename to shelters; alter table notes rename column hut_id to shelter_id;");
    let found = outcome(&project);
    accept(&project.open(), &Accepted { renames: found.renames().collect(), ..Accepted::default() }).unwrap();
    assert_eq!(outcome(&project).renames().count(), 0);
    let service = project.serve();
    service.data("mutation { createHut(input: { id: 1, name: \"Horn\", notes: [{ id: 1, body: \"x\" }] }) { count } }");
    let read = service.data("{ notes { nodes { hutId hut { name notes { totalCount } } } } }");
    assert_eq!(
        read["notes"]["nodes"],
        json!([{ "hutId": 1, "hut": { "name": "Horn", "notes": { "totalCount": 1 } } }])
    );
}
