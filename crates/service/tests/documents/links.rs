//! Documents linked with documents and with rows of another database, also from inside lists.

use bson::{Bson, Document, doc};
use puente_core::catalog::Engine;
use puente_testkit::database::Database;
use puente_testkit::project::TestProject;
use serde_json::{Value as Json, json};

use super::{code, served};

fn reports() -> Vec<Document> {
    vec![
        doc! { "_id": 1, "hutId": 1, "crew": [{ "who": "C1", "role": "medic" }, { "who": "C2", "role": "driver" }, { "who": "C9" }] },
        doc! { "_id": 2, "hutId": 2, "crew": [] },
        doc! { "_id": 3, "hutId": 1, "crew": [{ "who": "C2", "role": "medic" }, { "role": "lost" }] },
        doc! { "_id": 4, "crew": Bson::Null },
        doc! { "_id": 5, "hutId": 7 },
    ]
}

fn crew() -> Vec<Document> {
    vec![
        doc! { "_id": "C1", "name": "Ida", "memberNo": 11_i64, "secret": true },
        doc! { "_id": "C2", "name": "Bo", "secret": false },
    ]
}

const MEMBERS: &str = "
[[type]]
table = \"crew\"
name = \"Member\"
[[link]]
table = \"reports\"
columns = [\"crew/who\"]
to = \"crew\"
references = [\"_id\"]
name = \"member\"
";

fn collections() -> [(&'static str, Vec<Document>); 2] {
    [("reports", reports()), ("crew", crew())]
}

#[test]
fn a_link_starts_from_the_items_of_a_list() {
    let served = served(&collections(), MEMBERS);
    let read = |list: &str| {
        let document = format!("{{ reports {{ nodes {{ {list} }} }} }}");
        served.service.data(&document)["reports"]["nodes"].clone()
    };
    let all = read("crew { who role member { name } }");
    let item = |who: &str, role: Json, name: Json| json!({ "who": who, "role": role, "member": name });
    assert_eq!(
        all[0]["crew"],
        json!([
            item("C1", json!("medic"), json!({ "name": "Ida" })),
            item("C2", json!("driver"), json!({ "name": "Bo" })),
            item("C9", Json::Null, Json::Null),
        ])
    );
    assert_eq!((&all[1]["crew"], &all[3]["crew"], &all[4]["crew"]), (&json!([]), &Json::Null, &Json::Null));
    assert_eq!(all[2]["crew"][1], json!({ "who": null, "role": "lost", "member": null }));
    let some = read(
        "first: crew(first: 1, skip: 1) { member { name } } medics: crew(filter: { role: { eq: \"medic\" } }) { who member { name } }",
    );
    assert_eq!(some[0]["first"], json!([{ "member": { "name": "Bo" } }]));
    assert_eq!(some[2]["medics"], json!([{ "who": "C2", "member": { "name": "Bo" } }]));
    // The same without the link, which is read as it is written.
    let plain = read("medics: crew(filter: { role: { eq: \"medic\" } }) { who }");
    assert_eq!(plain[2]["medics"], json!([{ "who": "C2" }]));
    served
        .database
        .insert("reports", vec![doc! { "_id": 6, "crew": "nobody" }, doc! { "_id": 7, "crew": [1, { "who": "C1" }] }]);
    let odd = served.service.ask("{ reports(last: 2) { nodes { crew { who member { name } } } } }").json();
    let nodes = &odd["data"]["reports"]["nodes"];
    assert_eq!(nodes[0]["crew"], Json::Null);
    assert_eq!(nodes[1]["crew"], json!([null, { "who": "C1", "member": { "name": "Ida" } }]));
    assert_eq!(odd["errors"].as_array().unwrap().len(), 2, "{odd}");
}

#[test]
fn the_number_of_commands_is_that_of_the_levels() {
    let served = served(&collections(), MEMBERS);
    let body = json!({
        "query": "{ reports { nodes { crew { member { name } } } } }", "extensions": { "statements": true },
    });
    let answer = served.service.post(&body).json();
    assert_eq!(answer["extensions"]["statements"].as_array().unwrap().len(), 3, "{answer}");
}

#[test]
fn what_a_role_may_not_see_is_not_reached_from_inside_a_list() {
    let roles = "
[role.reader.Report.read]
fields = [\"id\", \"crew\", \"crew.member\"]
masks = { crew = \"row.hutId == claims.hut\" }
[role.reader.Member.read]
fields = [\"name\"]
rows = \"row.secret == false\"
[role.stranger.Report.read]
fields = [\"id\", \"crew\"]
[role.stranger.Member.read]
fields = [\"name\"]
";
    let served = served(&collections(), &format!("{MEMBERS}{roles}"));
    let document = "{ reports { nodes { id crew { who member { name } } } } }";
    let answer = served.ask_as("reader", &json!({ "hut": 1 }), document);
    let nodes = &answer["data"]["reports"]["nodes"];
    assert_eq!(nodes[0]["crew"][0], json!({ "who": "C1", "member": null }), "a row that the rule hides is not there");
    assert_eq!(nodes[0]["crew"][1], json!({ "who": "C2", "member": { "name": "Bo" } }));
    assert_eq!(nodes[1]["crew"], Json::Null, "a list that is masked has no items: {answer}");
    assert_eq!(
        code(&served.ask_as("stranger", &json!({}), document)),
        "DOCUMENT_INVALID",
        "the link is granted by itself"
    );
}

#[test]
fn a_link_from_inside_a_list_is_set_to_what_can_be_read_alone() {
    let roles = "
[role.writer.Report.read]
fields = [\"id\", \"crew\"]
[role.writer.Report.create]
fields = [\"id\", \"crew\"]
[role.writer.Report.update]
fields = [\"crew\"]
[role.writer.Member.read]
fields = [\"name\"]
rows = \"row.secret == false\"
[role.blind.Report.read]
fields = [\"id\", \"crew\"]
[role.blind.Report.update]
fields = [\"crew\"]
";
    let served = served(&collections(), &format!("{MEMBERS}{roles}"));
    let update = |crew: &str| format!("mutation {{ updateReport(key: {{ id: 2 }}, set: {{ {crew} }}) {{ count }} }}");
    let create = |who: &str| {
        format!("mutation {{ createReport(input: {{ id: 90, crew: [{{ who: \"{who}\" }}] }}) {{ count }} }}")
    };
    for (hidden, missing) in [
        (update("crew: [{ who: \"C1\" }]"), update("crew: [{ who: \"C7\" }]")),
        (update("crew: [{ who: \"C2\" }, { who: \"C1\" }]"), update("crew: [{ who: \"C2\" }, { who: \"C7\" }]")),
        (update("push: { crew: [{ who: \"C1\" }] }"), update("push: { crew: [{ who: \"C7\" }] }")),
        (create("C1"), create("C7")),
    ] {
        let refused = [hidden, missing].map(|document| served.ask_as("writer", &json!({}), &document));
        assert_eq!(code(&refused[0]), "REFERENCE_BROKEN", "{}", refused[0]);
        assert_eq!(refused[0], refused[1], "what is hidden is as what is not there");
    }
    let fine = served.ask_as("writer", &json!({}), &update("crew: [{ who: \"C2\" }, { role: \"none\" }]"));
    assert_eq!(fine["data"]["updateReport"]["count"], 1, "{fine}");
    let blind = served.ask_as("blind", &json!({}), &update("crew: [{ who: \"C2\" }]"));
    assert_eq!(code(&blind), "REFERENCE_BROKEN", "whoever reads no member links to none: {blind}");
}

#[test]
fn a_link_that_cannot_be_followed_is_a_mistake() {
    let mistakes = |edit: &str| {
        let database = super::filled(&collections());
        let folder = puente_testkit::leftovers::folder();
        let text = |edit: &str| format!("[source.test]\nurl = \"{}\"\n{edit}", database.url);
        std::fs::write(folder.path().join("puente.toml"), text("")).unwrap();
        let open = || puente_service::ProjectFolder::open(folder.path()).unwrap();
        puente_service::survey(&open(), None).unwrap();
        std::fs::write(folder.path().join("puente.toml"), text(edit)).unwrap();
        format!("{:?}", open().model().unwrap_err())
    };
    let link = |columns: &str, references: &str, rest: &str| {
        format!(
            "[[link]]\ntable = \"reports\"\ncolumns = [\"{columns}\"]\nto = \"crew\"\nreferences = [\"{references}\"]\n{rest}"
        )
    };
    for (edit, text) in [
        (link("crew/nope", "_id", ""), "has no `nope` on the way `crew/nope`"),
        (link("crew/who", "secret", ""), "no value of `crew/who` is one of `secret`"),
        (link("crew/who", "name", ""), "`references` has to be a key of `crew`"),
        (link("crew/who", "_id", "name = \"role\"\n"), "`role` is a member of the items already"),
        (link("crew/who", "_id", "back = \"reports\"\n"), "no way back"),
    ] {
        let found = mistakes(&edit);
        assert!(found.contains(text), "{text}: {found}");
    }
}

#[test]
fn documents_and_rows_are_linked_both_ways() {
    let huts = Database::empty(Engine::Sqlite);
    huts.execute(
        "create table huts (id integer primary key, name text not null);
create table people (id integer primary key, member_no bigint unique, name text);
insert into huts values (1, 'Ridge'), (2, 'Lake');
insert into people values (1, 11, 'Ida Amsler');\n",
    );
    let documents = super::filled(&collections());
    let edits = format!(
        "{}
[[link]]
table = \"reports\"
columns = [\"hutId\"]
to = \"huts\"
references = [\"id\"]
name = \"hut\"
back = \"reports\"
[[link]]
table = \"crew\"
columns = [\"memberNo\"]
to = \"people\"
references = [\"member_no\"]
name = \"person\"
",
        MEMBERS
    );
    let project = TestProject::of_sources(&[("main", &huts), ("log", &documents)], &edits);
    let service = project.serve();
    let down = service.data(
        "{ huts { nodes { name reports(orderBy: [{ id: DESC }], first: 1) { totalCount nodes { id crew { member { person { name } } } } } } } }",
    );
    assert_eq!(
        down["huts"]["nodes"][0],
        json!({ "name": "Ridge", "reports": { "totalCount": 2, "nodes": [{ "id": 3, "crew": [{ "member": { "person": null } }, { "member": null }] }] } })
    );
    let up = service.data("{ report(key: { id: 1 }) { hut { name } crew(first: 1) { member { person { name } } } } }");
    assert_eq!(
        up["report"],
        json!({ "hut": { "name": "Ridge" }, "crew": [{ "member": { "person": { "name": "Ida Amsler" } } }] })
    );
    let filtered = service.data("{ reports(filter: { hut: { name: { eq: \"Ridge\" } } }) { nodes { id } } huts(filter: { reports: { none: {} } }) { nodes { id } } }");
    assert_eq!(filtered["reports"]["nodes"], json!([{ "id": 1 }, { "id": 3 }]));
    assert_eq!(filtered["huts"]["nodes"], json!([]));
}
