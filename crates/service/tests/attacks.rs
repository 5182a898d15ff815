//! Attacks on grants, each refused, on every engine: the tests behind docs/security.md. Two teams share the tables; a
//! member sees the own team, and of notes only the own.

use std::collections::HashMap;

use puente_core::catalog::Engine;
use puente_testkit::database::Database;
use puente_testkit::project::{OWNER_KEY, Response, TestProject, TestService};
use rstest::rstest;
use serde_json::{Value as Json, json};

const TABLES: &str = "
create table teams (id integer primary key, name varchar(40) not null);
create table people (id integer primary key, team_id integer not null references teams (id), name varchar(40) not null,
  phone varchar(40), email varchar(80) unique, wage integer);
create table notes (id integer primary key, person_id integer not null references people (id),
  reviewer_id integer references people (id), title varchar(80) not null, secret varchar(80), stars integer not null default 0);
create table labels (id integer primary key, word varchar(40) not null);
create table note_labels (note_id integer not null references notes (id), label_id integer not null references labels (id),
  weight integer, primary key (note_id, label_id));
insert into teams values (1, 'red'), (2, 'blue');
insert into people values (1, 1, 'Ada', '111', 'ada@example', 10), (2, 1, 'Ben', '222', 'ben@example', 20),
  (3, 2, 'Cleo', '333', 'cleo@example', 30);
insert into notes values (1, 1, 3, 'mine', 'alpha', 1), (2, 2, 1, 'hers', 'beta', 2), (3, 3, 2, 'theirs', 'gamma', 3),
  (4, 1, null, 'mine too', 'delta', 4);
insert into labels values (1, 'open'), (2, 'done');
insert into note_labels values (1, 1, 5), (2, 2, 6), (3, 1, 7), (3, 2, 8);
";

const ROLES: &str = r#"
[role.member.Team.read]
fields = ["id", "name", "people"]
rows = "row.people.exists(p, p.id == claims.sub)"
[role.member.Person.read]
fields = ["id", "name", "phone", "team", "notesAsPerson"]
rows = "row.team.people.exists(p, p.id == claims.sub)"
masks = { phone = "row.id == claims.sub" }
[role.member.Note.read]
fields = ["id", "title", "person", "reviewer", "noteLabels", "labels"]
rows = "row.personId == claims.sub"
[role.member.Note.create]
fields = ["id", "title", "person"]
fixed = { stars = "0" }
check = "row.personId == claims.sub"
[role.member.Note.update]
fields = ["title", "person", "reviewer"]
rows = "row.personId == claims.sub"
check = "row.personId == claims.sub && row.title != 'forbidden'"
[role.member.Note.delete]
rows = "row.personId == claims.sub && row.stars < 3"
[role.member.Label.read]
fields = ["id", "word", "notes"]
[role.member.NoteLabel.read]
fields = ["weight"]
rows = "row.note.personId == claims.sub"
[role.member.NoteLabel.create]
fields = "all"
check = "row.note.personId == claims.sub"
[role.member.NoteLabel.delete]
[role.clerk.Note.read]
fields = "all"
[role.clerk.Note.create]
fields = ["id", "title", "secret"]
fixed = { stars = "1", personId = "1" }
[role.clerk.Note.update]
fields = ["title"]
fixed = { stars = "9" }
[role.clerk.Label.read]
fields = "all"
[role.clerk.NoteLabel.read]
fields = "all"
[role.clerk.NoteLabel.create]
fields = "all"
[role.clerk.NoteLabel.update]
fields = ["noteId"]
[role.outsider.Note.read]
fields = ["id", "title", "personId"]
[role.outsider.Note.create]
fields = ["id", "title", "personId"]
[role.outsider.Note.update]
fields = ["title", "personId"]
[role.scribe.Note.read]
fields = ["id", "title"]
[role.scribe.Note.create]
fields = ["id", "title"]
[role.silent.Note.read]
fields = ["id", "title"]
count = false
max_page = 2
"#;

/// A database of an engine with a service over it, and members who ask.
struct Attack {
    database: Database,
    service: TestService,
    _project: TestProject,
}

impl Attack {
    fn on(engine: Engine) -> Self {
        let database = Database::empty(engine);
        database.execute(TABLES);
        let project = TestProject::of(&database, "", ROLES);
        Attack { service: project.serve(), database, _project: project }
    }

    /// Asks as a role with claims.
    fn ask_as(&self, role: &str, claims: Json, document: &str, variables: Json) -> Response {
        let extensions = json!({ "as": { "role": role, "claims": claims } });
        self.service.post(&json!({ "query": document, "variables": variables, "extensions": extensions }))
    }

    /// Asks as the member of this number.
    fn ask(&self, member: i64, document: &str) -> Response {
        self.ask_as("member", json!({ "sub": member }), document, json!({}))
    }

    /// The answer's data; nothing may be wrong.
    fn data(&self, member: i64, document: &str) -> Json {
        let answer = self.ask(member, document).json();
        assert!(answer.get("errors").is_none(), "{document}: {answer}");
        answer["data"].clone()
    }

    fn notes(&self) -> Vec<Vec<Option<String>>> {
        self.database.query("select id, person_id, reviewer_id, title, secret, stars from notes order by id")
    }
}

#[rstest]
fn lists_links_and_keys_show_what_was_granted(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
) {
    let attack = Attack::on(engine);
    let all = "{ teams { nodes { name people { nodes { name phone notesAsPerson { nodes { title } } } } } } }";
    let expected = json!({ "teams": { "nodes": [{ "name": "red", "people": { "nodes": [
        { "name": "Ada", "phone": "111", "notesAsPerson": { "nodes": [{ "title": "mine" }, { "title": "mine too" }] } },
        { "name": "Ben", "phone": null, "notesAsPerson": { "nodes": [] } },
    ] } }] } });
    assert_eq!(attack.data(1, all), expected);
    // A hidden row is a row that is not there: by key, over a link to one, over many to many.
    let hidden = "{ a: note(key: { id: 2 }) { title } b: note(key: { id: 99 }) { title }
        c: person(key: { id: 3 }) { name } notes { nodes { reviewer { name } } }
        labels { nodes { word notes { totalCount edges { weight node { title } } } } } }";
    let found = attack.data(1, hidden);
    assert_eq!((&found["a"], &found["b"], &found["c"]), (&Json::Null, &Json::Null, &Json::Null));
    assert_eq!(found["notes"]["nodes"], json!([{ "reviewer": null }, { "reviewer": null }]));
    let labels = json!([
        { "word": "open", "notes": { "totalCount": 1, "edges": [{ "weight": 5, "node": { "title": "mine" } }] } },
        { "word": "done", "notes": { "totalCount": 0, "edges": [] } },
    ]);
    assert_eq!(found["labels"]["nodes"], labels);
}

#[rstest]
fn filters_and_orders_through_links_range_over_visible_rows(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
) {
    let attack = Attack::on(engine);
    let count = |filter: &str| {
        attack.data(1, &format!("{{ people(filter: {filter}) {{ totalCount }} }}"))["people"]["totalCount"].clone()
    };
    // Ben has a note, which Ada does not see; nor is it there in a negation.
    assert_eq!(count("{ notesAsPerson: { exists: { title: { contains: \"e\" } } } }"), 1);
    assert_eq!(count("{ notesAsPerson: { none: { title: { eq: \"hers\" } } } }"), 2);
    assert_eq!(count("{ not: { notesAsPerson: { exists: { title: { eq: \"hers\" } } } } }"), 2);
    assert_eq!(count("{ team: { people: { exists: { name: { eq: \"Cleo\" } } } } }"), 0);
    // Cleo reviews a note of Ada's, and cannot be told from nobody.
    let notes = |arguments: &str| {
        attack.data(1, &format!("{{ notes({arguments}) {{ nodes {{ id }} }} }}"))["notes"]["nodes"].clone()
    };
    assert_eq!(notes("filter: { reviewer: { name: { eq: \"Cleo\" } } }"), json!([]));
    assert_eq!(notes("filter: { reviewer: { id: { isNull: true } } }"), json!([{ "id": 1 }, { "id": 4 }]));
    assert_eq!(notes("orderBy: [{ reviewer: { name: DESC } }]"), json!([{ "id": 1 }, { "id": 4 }]));
}

#[rstest]
fn what_was_not_granted_has_no_name(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
) {
    let attack = Attack::on(engine);
    let asks = [
        "{ notes { nodes { secret } } }",
        "{ notes(filter: { secret: { eq: \"alpha\" } }) { totalCount } }",
        "{ notes(orderBy: [{ secret: ASC }]) { nodes { id } } }",
        "{ notes(filter: { reviewer: { email: { eq: \"x\" } } }) { totalCount } }",
        "{ notes { summary { stars { sum } } } }",
        "{ notes { groups(by: [{ stars: VALUE }]) { summary { count } } } }",
        "{ person(key: { email: \"ada@example\" }) { id } }",
        "{ people { nodes { notesAsReviewer { totalCount } } } }",
        "mutation { updateNote(key: { id: 1 }, set: { stars: 5 }) { count } }",
        "mutation { updateNote(key: { id: 1 }, set: { add: { stars: 5 } }) { count } }",
        "mutation { createPerson(input: { id: 9, name: \"x\" }) { count } }",
        "mutation { createNote(input: { id: 9, title: \"x\", secret: \"x\", personId: 1 }) { count } }",
    ];
    for ask in asks {
        let response = attack.ask(1, ask);
        assert_eq!(response.code(), "DOCUMENT_INVALID", "{ask}: {}", response.text());
        // What was typed comes back, but no hint at what is there.
        for name in ["secret", "wage", "email", "stars", "notesAsReviewer"] {
            let said = ask.contains(name);
            assert!(said || !response.text().contains(name), "{ask}: {}", response.text());
        }
        assert!(!response.text().contains("did you mean"), "{ask}: {}", response.text());
    }
    let near = attack.ask(1, "{ notes { nodes { secre } } }");
    assert!(!near.text().contains("secret"), "{}", near.text());
}

#[rstest]
fn introspection_shows_the_role_its_own_schema(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
) {
    let attack = Attack::on(engine);
    let ask = "{ __schema { types { name fields { name } inputFields { name } enumValues { name } } } \
               person: __type(name: \"PersonFilter\") { inputFields { name } } gone: __type(name: \"LabelCreate\") { name } }";
    let found = attack.data(1, ask);
    let text = found.to_string();
    for hidden in ["secret", "wage", "email", "stars", "PersonCreate", "TeamCreate", "LabelCreate"] {
        assert!(!text.contains(&format!("\"{hidden}\"")), "{hidden}");
    }
    assert_eq!(found["gone"], Json::Null);
    let silent = attack.ask_as("silent", json!({}), ask, json!({})).json().to_string();
    for hidden in ["totalCount", "summary", "groups", "Person", "Mutation", "labels"] {
        assert!(!silent.contains(&format!("\"{hidden}\"")), "{hidden}");
    }
}

#[rstest]
fn what_may_not_be_counted_is_not(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
) {
    let attack = Attack::on(engine);
    let ask = |document: &str| attack.ask_as("silent", json!({}), document, json!({}));
    for counting in ["totalCount", "summary { count }", "groups(by: [{ title: VALUE }]) { summary { count } }"] {
        assert_eq!(ask(&format!("{{ notes {{ {counting} }} }}")).code(), "DOCUMENT_INVALID", "{counting}");
    }
    assert_eq!(ask("{ notes(first: 3) { nodes { id } } }").code(), "INVALID_ARGUMENT", "over its own page");
    let page = ask("{ notes { nodes { id } } }").json();
    assert_eq!(page["data"]["notes"]["nodes"], json!([{ "id": 1 }, { "id": 2 }]), "its own page where none is asked");
    // Passing over rows tells no more than the rows themselves would.
    let beyond = attack.data(1, "{ notes(skip: 2) { nodes { id } pageInfo { hasNextPage } } }");
    assert_eq!(beyond["notes"], json!({ "nodes": [], "pageInfo": { "hasNextPage": false } }));
}

#[rstest]
fn cursors_cannot_be_made_changed_or_carried_elsewhere(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
) {
    let attack = Attack::on(engine);
    let own = attack.data(1, "{ notes(first: 1, orderBy: [{ title: ASC }]) { edges { cursor } } }");
    let cursor = own["notes"]["edges"][0]["cursor"].as_str().unwrap().to_owned();
    let after = |role: &str, order: &str, cursor: &str| {
        let document =
            format!("query($c: String) {{ notes(first: 1, after: $c, orderBy: [{order}]) {{ nodes {{ id }} }} }}");
        attack.ask_as(role, json!({ "sub": 1 }), &document, json!({ "c": cursor }))
    };
    assert_eq!(after("member", "{ title: ASC }", &cursor).json()["data"]["notes"]["nodes"], json!([{ "id": 4 }]));
    assert_eq!(after("member", "{ title: DESC }", &cursor).code(), "INVALID_CURSOR", "another order");
    assert_eq!(after("member", "{ id: ASC }", &cursor).code(), "INVALID_CURSOR", "another field");
    assert_eq!(after("silent", "{ title: ASC }", &cursor).code(), "INVALID_CURSOR", "another role");
    for at in [0, cursor.len() / 2, cursor.len() - 2] {
        let mut changed = cursor.clone().into_bytes();
        changed[at] = if changed[at] == b'A' { b'B' } else { b'A' };
        let changed = String::from_utf8(changed).unwrap();
        assert_eq!(after("member", "{ title: ASC }", &changed).code(), "INVALID_CURSOR", "{changed}");
    }
    for made in ["", "AAAA", "1", "eyJpZCI6MX0"] {
        assert_eq!(after("member", "{ title: ASC }", made).code(), "INVALID_CURSOR", "{made}");
    }
    // Another member in the same role may use it, and still sees the own rows only.
    let document = "query($c: String) { notes(after: $c, orderBy: [{ title: ASC }]) { nodes { id } } }";
    let other = attack.ask_as("member", json!({ "sub": 2 }), document, json!({ "c": cursor }));
    assert_eq!(other.json()["data"]["notes"]["nodes"], json!([]));
}

#[rstest]
fn a_masked_value_cannot_be_found_out(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
) {
    let attack = Attack::on(engine);
    let people = |arguments: &str| {
        let nodes =
            attack.data(1, &format!("{{ people({arguments}) {{ nodes {{ name }} }} }}"))["people"]["nodes"].clone();
        nodes.as_array().unwrap().iter().map(|node| node["name"].as_str().unwrap().to_owned()).collect::<Vec<_>>()
    };
    assert_eq!(people("filter: { phone: { eq: \"222\" } }"), [""; 0]);
    assert_eq!(people("filter: { phone: { eq: \"111\" } }"), ["Ada"]);
    assert_eq!(people("filter: { phone: { isNull: true } }"), ["Ben"]);
    assert_eq!(people("filter: { not: { phone: { eq: \"111\" } } }"), [""; 0], "unknown is not other");
    assert_eq!(people("orderBy: [{ phone: DESC_NULLS_FIRST }]"), ["Ben", "Ada"]);
    let summed =
        attack.data(1, "{ people { summary { phone { min max } } groups(by: [{ phone: VALUE }]) { key { phone } } } }");
    assert_eq!(summed["people"]["summary"]["phone"], json!({ "min": "111", "max": "111" }));
    let mut keys: Vec<String> =
        summed["people"]["groups"].as_array().unwrap().iter().map(|group| group["key"]["phone"].to_string()).collect();
    keys.sort();
    assert_eq!(keys, ["\"111\"", "null"]);
    // Nor by an order of what is not even asked for.
    let ordered =
        "{ people { groups(by: [{ name: VALUE }], orderBy: [{ phone: { min: DESC_NULLS_LAST } }]) { key { name } } } }";
    let groups = attack.data(1, ordered)["people"]["groups"].clone();
    assert_eq!(groups, json!([{ "key": { "name": "Ada" } }, { "key": { "name": "Ben" } }]));
    let through =
        attack.data(1, "{ teams(filter: { people: { exists: { phone: { eq: \"222\" } } } }) { totalCount } }");
    assert_eq!(through["teams"]["totalCount"], 0);
}

#[rstest]
fn rows_cannot_be_moved_out_of_a_rule_nor_into_it(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
) {
    let attack = Attack::on(engine);
    let before = attack.notes();
    let refused = [
        ("updateNote(key: { id: 1 }, set: { personId: 2 }) { count }", "NOT_PERMITTED"),
        ("updateNote(key: { id: 1 }, set: { person: { key: { id: 2 } } }) { count }", "NOT_PERMITTED"),
        ("updateNote(key: { id: 1 }, set: { person: { key: { id: 3 } } }) { count }", "REFERENCE_BROKEN"),
        ("updateNote(key: { id: 1 }, set: { reviewerId: 3 }) { count }", "REFERENCE_BROKEN"),
        ("updateNote(key: { id: 1 }, set: { reviewerId: 99 }) { count }", "REFERENCE_BROKEN"),
        ("updateNote(key: { id: 1 }, set: { title: \"forbidden\" }) { count }", "NOT_PERMITTED"),
        ("updateNote(key: { id: 2 }, set: { personId: 1 }) { count }", "ROW_MISSING"),
        ("updateNote(key: { id: 99 }, set: { personId: 1 }) { count }", "ROW_MISSING"),
        ("updateNotes(everyRow: true, set: { personId: 2 }) { count }", "NOT_PERMITTED"),
        ("deleteNote(key: { id: 2 }) { count }", "ROW_MISSING"),
        ("deleteNote(key: { id: 4 }) { count }", "NOT_PERMITTED"),
        ("createNote(input: { id: 9, title: \"x\", personId: 2 }) { count }", "NOT_PERMITTED"),
        ("createNote(input: { id: 9, title: \"x\", personId: 3 }) { count }", "REFERENCE_BROKEN"),
        (
            "createNote(input: { id: 9, title: \"x\", personId: 1, labels: [{ key: { id: 1 } }] }) { count }
          updateNote(key: { id: 9 }, set: { personId: 2 }) { count }",
            "NOT_PERMITTED",
        ),
    ];
    for (mutation, code) in refused {
        let response = attack.ask(1, &format!("mutation {{ {mutation} }}"));
        assert_eq!(response.code(), code, "{mutation}: {}", response.text());
        assert_eq!(attack.notes(), before, "{mutation}");
    }
    // Every row that may be reached, and no other.
    let changed =
        attack.data(1, "mutation { updateNotes(everyRow: true, set: { title: \"new\" }) { count nodes { id } } }");
    assert_eq!(changed["updateNotes"], json!({ "count": 2, "nodes": [{ "id": 1 }, { "id": 4 }] }));
    let deleted =
        attack.data(1, "mutation { deleteNotes(filter: { title: { eq: \"new\" }, labels: { none: { id: { isNull: false } } } }) { count } }");
    assert_eq!(deleted["deleteNotes"]["count"], 0, "the one without a label has too many stars");
}

#[rstest]
fn a_check_holds_for_rows_that_are_written_along(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
) {
    let attack = Attack::on(engine);
    let links = || attack.database.query("select note_id, label_id from note_labels order by 1, 2");
    let before = links();
    // The label is there for everybody; linking it to another's note is what must not be.
    let refused = [
        "createNote(input: { id: 9, title: \"x\", personId: 2, labels: [{ key: { id: 1 } }] }) { count }",
        "updateNote(key: { id: 3 }, set: { labels: { link: [{ key: { id: 1 } }] } }) { count }",
        "createNoteLabel(input: { noteId: 2, labelId: 1 }) { count }",
        "createNoteLabel(input: { noteId: 3, labelId: 1, weight: 1 }, ifExists: { by: NOTE_ID_LABEL_ID, act: KEEP }) { count }",
    ];
    for mutation in refused {
        let response = attack.ask(1, &format!("mutation {{ {mutation} }}"));
        let code = response.code();
        assert!(
            ["NOT_PERMITTED", "REFERENCE_BROKEN", "ROW_MISSING", "CONFLICT", "DOCUMENT_INVALID"]
                .contains(&code.as_str()),
            "{mutation}: {}",
            response.text()
        );
        assert!(response.json()["data"].is_null(), "{mutation}: {}", response.text());
        assert_eq!(links(), before, "{mutation}");
    }
    let linked = attack.data(1, "mutation { updateNote(key: { id: 1 }, set: { labels: { link: [{ key: { id: 2 } }], unlink: [{ id: 1 }] } }) { node { labels { nodes { word } } } } }");
    assert_eq!(linked["updateNote"]["node"]["labels"]["nodes"], json!([{ "word": "done" }]));
}

#[rstest]
fn errors_and_revisions_tell_nothing_of_what_is_hidden(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
) {
    let attack = Attack::on(engine);
    // The row of another is there; whoever may not see it learns that the key is taken, and nothing else.
    let response = attack.ask(1, "mutation { createNote(input: { id: 2, title: \"probe\", personId: 1 }) { count } }");
    assert_eq!(response.code(), "CONFLICT");
    for hidden in ["hers", "beta", "person_id", "notes", "PRIMARY", "pkey", "UNIQUE"] {
        assert!(!response.text().contains(hidden), "{hidden}: {}", response.text());
    }
    let revision = || attack.data(1, "{ note(key: { id: 1 }) { revision } }")["note"]["revision"].clone();
    let before = revision();
    attack.database.execute("update notes set secret = 'changed', stars = 9 where id = 1");
    assert_eq!(revision(), before, "a hidden column does not show in the revision");
    attack.database.execute("update notes set title = 'changed' where id = 1");
    assert_ne!(revision(), before);
    let response = attack.ask(1, "{ note(key: { id: \"1 or 1=1\" }) { title } }");
    assert_eq!(response.status, 400, "{}", response.text());
}

#[test]
fn the_same_ask_of_two_callers_is_planned_once_and_answered_by_their_claims() {
    let attack = Attack::on(Engine::Sqlite);
    let mut found = HashMap::new();
    for sub in [1, 2, 3, 1, 2, 99] {
        let ids = attack.data(sub, "{ notes { nodes { id } } }")["notes"]["nodes"].to_string();
        assert_eq!(*found.entry(sub).or_insert_with(|| ids.clone()), ids);
    }
    assert_eq!(found[&1], r#"[{"id":1},{"id":4}]"#);
    assert_eq!(found[&2], r#"[{"id":2}]"#);
    assert_eq!(found[&99], "[]");
    let unknown = attack.ask_as("member", json!({}), "{ notes { nodes { id } } }", json!({})).json();
    assert_eq!(unknown["data"]["notes"]["nodes"], json!([]), "no claim, no rows");
    let metrics =
        attack.service.send("GET", "/metrics", &[("Authorization", &format!("Bearer {OWNER_KEY}"))], b"").text();
    assert!(metrics.contains("puente_plans_built_total 2"), "one for known claims, one for unknown: {metrics}");
}

#[test]
fn floods_are_refused_by_what_they_would_cost() {
    let attack = Attack::on(Engine::Sqlite);
    let aliases: Vec<String> = (0..1_000).map(|at| format!("a{at}: notes {{ totalCount }}")).collect();
    assert_eq!(attack.ask(1, &format!("{{ {} }}", aliases.join(" "))).code(), "TOO_COSTLY");
    let writes: Vec<String> =
        (0..1_000).map(|at| format!("a{at}: deleteNote(key: {{ id: {at} }}) {{ count }}")).collect();
    assert_eq!(attack.ask(1, &format!("mutation {{ {} }}", writes.join(" "))).code(), "TOO_COSTLY");
    let deep = format!("{}{{ id }}{}", "{ not: ".repeat(60), " }".repeat(60));
    let filter = format!("{{ notes(filter: {deep}) {{ totalCount }} }}");
    assert_ne!(attack.ask(1, &filter).status, 200, "a filter that is nested too deeply");
    let batched = attack.service.post(&json!([{ "query": "{ __typename }" }, { "query": "{ __typename }" }]));
    assert_eq!(batched.status, 400, "operations come one at a time");
    let two = attack.ask(1, "query a { notes { totalCount } } mutation b { deleteNotes(everyRow: true) { count } }");
    assert_eq!(two.status, 400, "which of them must be said");
}

#[test]
fn a_deletion_that_takes_others_along_has_to_be_granted_as_such() {
    let tables = "create table huts (id integer primary key, name text);
        create table beds (id integer primary key, hut_id integer references huts on delete cascade);
        create table tags (id integer primary key, bed_id integer references beds on delete set null);";
    let grants = |more: &str| {
        format!(
            "[role.host.Hut.read]\nfields = [\"id\"]\n[role.host.Hut.delete]\n{more}[role.host.Bed.read]\nfields = [\"id\"]\n"
        )
    };
    let wrong = |edits: &str| {
        let project = TestProject::of_sql(tables, edits);
        let folder = project.open();
        folder.roles(&folder.model().unwrap()).map(|_| ()).map_err(|error| error.to_string())
    };
    let text = wrong(&grants("")).unwrap_err();
    assert!(text.contains("also deletes rows of `Bed`") && text.contains("also changes rows of `Tag`"), "{text}");
    let text = wrong(&format!("{}[role.host.Bed.delete]\n", grants(""))).unwrap_err();
    assert!(!text.contains("of `Bed`") && text.contains("say `cascade = true`"), "{text}");
    assert_eq!(wrong(&grants("cascade = true\n")), Ok(()));
}

#[rstest]
fn what_is_there_already_is_changed_by_the_grant_to_update_whatever_may_be_created(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
) {
    let attack = Attack::on(engine);
    let clerk = |document: &str| attack.ask_as("clerk", json!({}), document, json!({}));
    let before = attack.notes();
    let change = "mutation { createNote(input: { id: 1, title: \"new\", secret: \"stolen\" }, ifExists: { by: ID, act: CHANGE }) { count } }";
    let answer = clerk(change);
    assert_eq!(answer.code(), "NOT_PERMITTED", "{}", answer.text());
    assert!(answer.text().contains("`secret`"), "{}", answer.text());
    assert_eq!(attack.notes(), before);
    let allowed =
        "mutation { createNote(input: { id: 1, title: \"new\" }, ifExists: { by: ID, act: CHANGE }) { count } }";
    assert_eq!(clerk(allowed).code(), "");
    let now = &attack.notes()[0];
    let text = |at: usize| now[at].as_deref().unwrap_or_default();
    assert_eq!((text(3), text(4), text(5)), ("new", "alpha", "9"), "what the grant to update fixes, and nothing else");
    assert_eq!((now[1].as_deref(), now[2].as_deref()), (Some("1"), Some("3")));
    let weights = || attack.database.query("select note_id, label_id, weight from note_labels order by 1, 2");
    let before = weights();
    let link = |weight: &str| {
        let edge = format!("{{ key: {{ id: 1 }} {weight} }}");
        clerk(&format!(
            "mutation {{ updateNote(key: {{ id: 1 }}, set: {{ labels: {{ link: [{edge}] }} }}) {{ count }} }}"
        ))
    };
    assert_eq!(link("weight: 999").code(), "NOT_PERMITTED", "an edge that is there");
    assert_eq!(weights(), before);
    assert_eq!(link("").code(), "", "to link what is linked changes nothing of it");
    assert_eq!(weights(), before);
}

#[rstest]
fn a_reference_into_what_was_not_granted_tells_nothing(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
) {
    let attack = Attack::on(engine);
    let before = attack.notes();
    let outsider = |document: &str| attack.ask_as("outsider", json!({}), document, json!({}));
    let create = "createNote(input: { id: 50, title: \"x\", personId: PERSON }) { count }";
    let update = "updateNote(key: { id: 1 }, set: { personId: PERSON }) { count }";
    // Documents have no defaults: there a note needs more than this role may give.
    let writes = if engine == Engine::Mongodb { &[update][..] } else { &[create, update] };
    for write in writes {
        let [there, missing] =
            ["1", "99"].map(|person| outsider(&format!("mutation {{ {} }}", write.replace("PERSON", person))));
        assert_eq!(there.code(), "REFERENCE_BROKEN", "{}", there.text());
        assert_eq!(there.text(), missing.text(), "a row that is there and one that is not look the same");
        assert!(!there.text().contains("Person`"), "{}", there.text());
    }
    assert_eq!(attack.notes(), before);
    // What a row needs and a role may not give is not named.
    let scribe = attack.ask_as(
        "scribe",
        json!({}),
        "mutation { createNote(input: { id: 60, title: \"x\" }) { count } }",
        json!({}),
    );
    assert_eq!(scribe.code(), "VALUE_REFUSED", "{}", scribe.text());
    assert!(!scribe.text().contains("erson"), "{}", scribe.text());
}
