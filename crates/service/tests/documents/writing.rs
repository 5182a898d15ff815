//! What is written to documents, and what of it is all or nothing.

use bson::{Bson, DateTime, Document, doc};
use puente_testkit::database::Database;
use puente_testkit::project::TestProject;
use puente_testkit::servers;
use serde_json::json;

use super::{Served, code, served};

fn posts() -> Vec<Document> {
    vec![
        doc! { "_id": 1, "title": "a", "stars": 1, "at": DateTime::from_millis(0), "site": { "n": 1, "kind": "x" }, "tags": ["t"], "version": 1 },
        doc! { "_id": 2, "title": "b", "stars": 2, "site": { "n": 2 }, "tags": [], "version": 1 },
        doc! { "_id": 3, "title": "c", "stars": Bson::Null, "version": 1 },
    ]
}

fn with_key(edits: &str) -> Served {
    let database = super::filled(&[("posts", posts())]);
    let index = doc! { "key": { "title": 1 }, "name": "title", "unique": true };
    database.command(doc! { "createIndexes": "posts", "indexes": [index] });
    let project = TestProject::of(&database, "", edits);
    Served { service: project.serve(), database, _project: project }
}

#[test]
fn values_are_stored_in_the_types_of_documents() {
    let served = served(&[("posts", posts())], "");
    let input = "{ id: 4, title: \"d\", stars: 5, at: \"2026-01-31T10:00:00Z\", site: { n: 7, kind: \"y\" }, tags: [\"u\"], version: 1 }";
    served.service.data(&format!("mutation {{ createPost(input: {input}) {{ count }} }}"));
    let at = DateTime::parse_rfc3339_str("2026-01-31T10:00:00Z").unwrap();
    let made = served.stored("posts", 4);
    assert_eq!(made.get("at"), Some(&Bson::DateTime(at)));
    assert_eq!(
        (made.get("stars"), made.get("site")),
        (Some(&Bson::Int32(5)), Some(&Bson::Document(doc! { "n": 7, "kind": "y" })))
    );
    served.service.data("mutation { updatePost(key: { id: 1 }, set: { at: null, add: { stars: 3 }, site: { add: { n: 2 }, unset: { kind: true } }, push: { tags: [\"v\"] } }) { count } }");
    let changed = served.stored("posts", 1);
    assert_eq!(changed.get("at"), Some(&Bson::Null));
    assert_eq!((changed.get_i32("stars").unwrap(), changed.get_document("site").unwrap()), (4, &doc! { "n": 3 }));
    assert_eq!(changed.get_array("tags").unwrap(), &[Bson::from("t"), Bson::from("v")]);
    served.service.data("mutation { updatePosts(everyRow: true, set: { add: { stars: 1 } }) { count } }");
    assert_eq!(served.stored("posts", 3).get("stars"), Some(&Bson::Null), "nothing and one is nothing");
}

#[test]
fn a_document_without_a_key_is_given_one() {
    let served = served(&[("notes", vec![doc! { "text": "x" }])], "");
    let made = served
        .service
        .data("mutation { createNotes(inputs: [{ text: \"y\" }, { text: \"z\" }]) { count nodes { id text } } }");
    let nodes = made["createNotes"]["nodes"].as_array().unwrap();
    assert!(nodes.iter().all(|node| node["id"].as_str().is_some_and(|id| id.len() == 24)), "{made}");
    let id = nodes[0]["id"].as_str().unwrap();
    let found = served.service.data(&format!("{{ note(key: {{ id: \"{id}\" }}) {{ text }} }}"));
    assert_eq!(found["note"]["text"], "y");
}

#[test]
fn what_fails_leaves_nothing_behind() {
    let served = with_key("");
    let before = served.database.documents("posts");
    let ask = |document: &str| served.service.ask(document).json();
    let conflict = ask(
        "mutation { a: updatePost(key: { id: 1 }, set: { stars: 9 }) { count } b: createPosts(inputs: [{ id: 7, title: \"new\" }, { id: 8, title: \"b\" }]) { count } }",
    );
    assert_eq!(code(&conflict), "CONFLICT");
    assert!(conflict.to_string().contains("`title` already"), "{conflict}");
    assert_eq!(served.database.documents("posts"), before);
    let rehearsed = served.service.post(&json!({
        "query": "mutation { deletePosts(everyRow: true) { count } createPost(input: { id: 9, title: \"z\" }) { node { id } } }",
        "extensions": { "rehearse": true },
    }));
    assert_eq!(rehearsed.json()["data"]["deletePosts"]["count"], 3, "{}", rehearsed.text());
    assert_eq!(served.database.documents("posts"), before);
    let change = |by: &str, id: i64| {
        ask(&format!(
            "mutation {{ createPost(input: {{ id: {id}, title: \"a\", stars: 8 }}, ifExists: {{ by: {by}, act: CHANGE }}) {{ node {{ id stars }} }} }}"
        ))
    };
    assert_eq!(code(&change("TITLE", 7)), "NOT_PERMITTED", "a document keeps its key");
    assert_eq!(served.database.documents("posts"), before);
    let changed = change("ID", 1);
    assert_eq!(changed["data"]["createPost"]["node"], json!({ "id": 1, "stars": 8 }), "{changed}");
}

#[test]
fn what_was_changed_meanwhile_is_not_changed_again() {
    let served = with_key("[[type]]\ntable = \"posts\"\nversion = \"version\"\n");
    let revision = served.service.data("{ post(key: { id: 1 }) { revision } }")["post"]["revision"].clone();
    let change = |title: &str| {
        let document = format!(
            "mutation {{ updatePost(key: {{ id: 1 }}, set: {{ title: \"{title}\", add: {{ version: 1 }} }}, ifUnchanged: {revision}) {{ count }} }}"
        );
        served.service.ask(&document).json()
    };
    assert_eq!(change("first")["data"]["updatePost"]["count"], 1);
    assert_eq!(code(&change("second")), "STALE_REVISION");
    assert_eq!(served.stored("posts", 1).get_str("title").unwrap(), "first");
}

#[test]
fn a_check_is_asked_of_the_document_as_it_becomes() {
    let roles = "
[role.writer.Post.read]
fields = [\"id\", \"title\", \"stars\", \"site\"]
rows = \"row.title != 'c'\"
[role.writer.Post.create]
fields = [\"id\", \"title\", \"stars\", \"site\"]
check = \"row.stars <= 5\"
[role.writer.Post.update]
fields = [\"stars\", \"site.n\"]
check = \"row.stars <= 5 && row.site.n < 100\"
[role.writer.Post.delete]
rows = \"row.stars == 2\"
";
    let served = with_key(roles);
    let before = served.database.documents("posts");
    let ask = |document: &str| served.ask_as("writer", &json!({}), document);
    assert_eq!(code(&ask("mutation { updatePost(key: { id: 1 }, set: { stars: 6 }) { count } }")), "NOT_PERMITTED");
    assert_eq!(
        code(&ask("mutation { updatePost(key: { id: 1 }, set: { site: { n: 100 } }) { count } }")),
        "NOT_PERMITTED"
    );
    assert_eq!(code(&ask("mutation { updatePost(key: { id: 3 }, set: { stars: 1 }) { count } }")), "ROW_MISSING");
    assert_eq!(
        code(&ask("mutation { createPost(input: { id: 7, title: \"d\", stars: 6 }) { count } }")),
        "NOT_PERMITTED"
    );
    assert_eq!(code(&ask("mutation { deletePost(key: { id: 1 }) { count } }")), "NOT_PERMITTED");
    assert_eq!(served.database.documents("posts"), before);
    assert_eq!(ask("mutation { deletePost(key: { id: 2 }) { count } }")["data"]["deletePost"]["count"], 1);
    let schema = served.ask_as("writer", &json!({}), "{ __type(name: \"PostSet\") { inputFields { name } } }");
    assert!(!schema.to_string().contains("\"id\""), "a document keeps its key: {schema}");
}

/// A server that is no member of a replica set.
fn standalone(lines: &str, edits: &str) -> Served {
    let server = Box::leak(Box::new(servers::start_mongodb(&["--standalone"])));
    let database = Database::on(server);
    database.insert("posts", posts());
    let project = TestProject::of(&database, lines, edits);
    Served { service: project.serve(), database, _project: project }
}

#[test]
fn without_transactions_one_document_is_changed_at_a_time() {
    let served = standalone("", "");
    let ask = |document: &str| served.service.ask(document).json();
    assert_eq!(
        ask("mutation { updatePost(key: { id: 1 }, set: { stars: 4 }) { count } }")["data"]["updatePost"]["count"],
        1
    );
    assert_eq!(served.stored("posts", 1).get_i32("stars").unwrap(), 4);
    let several = ask("mutation { updatePosts(everyRow: true, set: { stars: 7 }) { count } }");
    assert_eq!(code(&several), "INVALID_ARGUMENT");
    assert!(several.to_string().contains("without transactions"), "{several}");
    let rehearsed = served.service.post(&json!({
        "query": "mutation { updatePost(key: { id: 1 }, set: { stars: 7 }) { count } }", "extensions": { "rehearse": true },
    }));
    assert_eq!(rehearsed.code(), "INVALID_ARGUMENT", "{}", rehearsed.text());
    assert_eq!(served.stored("posts", 1).get_i32("stars").unwrap(), 4);
    assert_eq!(
        served.service.data("{ posts { totalCount nodes { id } } }")["posts"]["totalCount"],
        3,
        "reads need none"
    );
}

#[test]
fn whoever_says_so_changes_several_without_a_transaction() {
    let roles = "
[role.writer.Post.read]
fields = [\"id\", \"stars\"]
[role.writer.Post.update]
fields = [\"stars\"]
check = \"row.stars < 5\"
";
    let served = standalone("without_transactions = true\n", roles);
    let changed = served.service.data("mutation { updatePosts(everyRow: true, set: { stars: 7 }) { count } }");
    assert_eq!(changed["updatePosts"]["count"], 3);
    let rehearsed = served.service.post(&json!({
        "query": "mutation { updatePost(key: { id: 1 }, set: { stars: 1 }) { count } }", "extensions": { "rehearse": true },
    }));
    assert_eq!(rehearsed.code(), "INVALID_ARGUMENT", "{}", rehearsed.text());
    // What a check refuses could not be taken back: nothing is written.
    let refused =
        served.ask_as("writer", &json!({}), "mutation { updatePost(key: { id: 1 }, set: { stars: 9 }) { count } }");
    assert_eq!(code(&refused), "INVALID_ARGUMENT", "{refused}");
    assert_eq!(served.stored("posts", 1).get_i32("stars").unwrap(), 7);
}

/// A caller chooses how many members are changed at once: the command grows with them, and not with their combinations.
#[test]
fn all_members_of_a_wide_object_are_changed_at_once() {
    const MEMBERS: usize = 90;
    let sums: Document = (0..MEMBERS).map(|at| (format!("m{at}"), Bson::Int32(1))).collect();
    let mut lacking = sums.clone();
    lacking.remove("m3");
    let days = vec![doc! { "_id": 1, "sums": sums }, doc! { "_id": 2, "sums": lacking }];
    let served = served(&[("days", days)], "");
    let add: Vec<String> = (0..MEMBERS).filter(|at| *at != 5).map(|at| format!("m{at}: 2")).collect();
    let change = format!("sums: {{ add: {{ {} }}, unset: {{ m5: true }} }}", add.join(", "));
    served.service.data(&format!("mutation {{ updateDays(everyRow: true, set: {{ {change} }}) {{ count }} }}"));
    for (id, is_there) in [(1, true), (2, false)] {
        let stored = served.stored("days", id);
        let sums = stored.get_document("sums").unwrap();
        assert_eq!(sums.get("m3").cloned(), is_there.then_some(Bson::Int32(3)), "what is not there is not made");
        assert_eq!((sums.get("m5"), sums.get("m17")), (None, Some(&Bson::Int32(3))));
    }
}
