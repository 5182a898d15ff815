//! What a caller, or whoever reads the log, could learn of rows beside what was granted: words that calculate from what is there,
//! texts that a collation takes for the same, and what databases say when they refuse something.

use std::io::Write;
use std::sync::{Arc, Mutex, OnceLock};

use puente_core::catalog::Engine;
use puente_testkit::database::Database;
use puente_testkit::project::{Response, TestProject, TestService};
use rstest::rstest;
use serde_json::{Value as Json, json};

const ENGINES: [Engine; 4] = [Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb];

/// A database of an engine with a service over it, asked as a role.
struct Asked {
    database: Database,
    _project: TestProject,
    service: TestService,
}

impl Asked {
    fn on(engine: Engine, sql: &str, edits: &str) -> Self {
        let (database, project, service) = TestProject::served(engine, sql, edits);
        Asked { database, _project: project, service }
    }

    fn ask(&self, role: &str, claims: &Json, document: &str, rehearse: bool) -> Response {
        let extensions = json!({ "as": { "role": role, "claims": claims }, "rehearse": rehearse });
        self.service.post(&json!({ "query": document, "extensions": extensions }))
    }
}

/// Two rows that differ in what may be written and not read: a number beside its limit and one far from it, lists, members.
fn stock(engine: Engine) -> String {
    let json = if engine == Engine::Postgres { "jsonb" } else { "json" };
    let row = |id: u32, guests: u32, snow: u32, tags: &str, people: &str| {
        let report = format!("{{\"snow\": {snow}, \"tags\": [{tags}], \"people\": [{people}], \"note\": \"n\"}}");
        format!("insert into stays values ({id}, 'stay {id}', {guests}, '{report}');\n")
    };
    let limit = if engine == Engine::Mongodb { "" } else { " check (guests <= 2000000000)" };
    format!(
        "create table stays (id integer primary key, title varchar(40) not null, guests integer{limit}, report {json});\n{}{}",
        row(1, 1_999_999_990, 2_147_483_640, "\"ice\", \"fog\"", "{\"name\": \"Ana\", \"age\": 17}"),
        row(2, 5, 5, "\"sun\"", "{\"name\": \"Bo\", \"age\": 70}")
    )
}

/// Roles that may write what they do not read, or see masked, or read as it is.
const WRITERS: &str = r#"
[[type]]
table = "stays"
[type.fields.report]
shape = true
[role.blind.Stay.read]
fields = ["id", "title"]
[role.blind.Stay.update]
fields = ["guests", "report"]
[role.veiled.Stay.read]
fields = ["id", "title", "guests", "report"]
masks = { guests = "row.id == 99", report = "row.id == 99" }
[role.veiled.Stay.update]
fields = ["guests", "report"]
[role.partly.Stay.read]
fields = ["id", "title", "report.note", "guests"]
[role.partly.Stay.update]
fields = ["guests", "report"]
[role.seeing.Stay.read]
fields = ["id", "title", "guests", "report"]
[role.seeing.Stay.update]
fields = ["guests", "report"]
"#;

/// Every word that an update takes, each with whether its outcome would tell what is there.
const WORDS: &[(&str, bool)] = &[
    ("add: { guests: 11 }", true),
    ("add: { guests: -3 }", true),
    ("report: { add: { snow: 20 } }", true),
    ("report: { push: { tags: [\"new\"] } }", true),
    ("report: { push: { people: [{ name: \"Cy\" }] } }", true),
    ("report: { pull: { tags: [\"ice\"] } }", true),
    ("report: { pull: { people: { name: { eq: \"Ana\" } } } }", true),
    ("report: { unset: { snow: true } }", false),
    ("report: { snow: 4 }", false),
    ("report: { tags: [\"x\"] }", false),
    ("guests: 7", false),
    ("guests: null", false),
];

#[rstest]
fn no_word_tells_what_is_hidden_or_masked(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
) {
    let asked = Asked::on(engine, &stock(engine), WRITERS);
    let outcome = |role: &str, id: u32, set: &str| {
        let document =
            format!("mutation {{ updateStay(key: {{ id: {id} }}, set: {{ {set} }}) {{ count node {{ id }} }} }}");
        let answer = asked.ask(role, &json!({}), &document, true);
        (answer.status, answer.text().replace(&format!("\"id\":{id}"), "\"id\":0"))
    };
    for role in ["blind", "veiled", "partly"] {
        for (set, tells) in WORDS {
            if role == "partly" && set.contains("guests") {
                // It reads those, and may learn of them.
                continue;
            }
            let outcomes = [outcome(role, 1, set), outcome(role, 2, set)];
            assert_eq!(outcomes[0], outcomes[1], "{role} learns from {set}");
            if *tells {
                assert!(outcomes[0].1.contains("DOCUMENT_INVALID"), "{role} may say {set}: {}", outcomes[0].1);
            } else {
                assert!(!outcomes[0].1.contains("errors"), "{role}, {set}: {}", outcomes[0].1);
            }
        }
    }
    for (set, _) in WORDS {
        let (_, text) = outcome("seeing", 2, set);
        assert!(!text.contains("errors"), "who reads it may {set}: {text}");
    }
}

/// Accounts whose owners a collation takes for the same: in case, in an accent, in a blank at the end.
fn accounts(engine: Engine) -> String {
    let (before, text) = match engine {
        Engine::Sqlite => ("", "varchar(20) collate nocase"),
        Engine::Postgres => (
            "create collation loose (provider = icu, locale = 'und-u-ks-level1', deterministic = false);\n",
            "varchar(20) collate loose",
        ),
        Engine::Mariadb => ("", "varchar(20) collate utf8mb4_general_ci"),
        Engine::Mongodb => ("", "varchar(20)"),
    };
    format!(
        "{before}create table accounts (id integer primary key, owner {text} not null, other {text}, sum integer not null);\n\
         create table entries (id integer primary key, account_id integer not null references accounts (id), words integer);\n\
         insert into accounts values (1, 'ann', 'ANN', 10), (2, 'bob', 'bob', 20);\n\
         insert into entries values (1, 1, 5), (2, 2, 6);\n"
    )
}

const HOLDERS: &str = r#"
[role.holder.Account.read]
fields = ["id", "sum", "entries"]
rows = "row.owner == claims.sub"
[role.holder.Account.update]
fields = ["sum"]
[role.holder.Entry.read]
fields = "all"
rows = "row.account.owner == claims.sub"
[role.listed.Account.read]
fields = ["id"]
rows = "row.owner in claims.subs"
[role.stated.Account.read]
fields = ["id"]
rows = "row.owner in ['ANN', 'BOB']"
[role.mirrored.Account.read]
fields = ["id"]
rows = "claims.sub == row.owner && !(row.owner != claims.sub)"
[role.beside.Account.read]
fields = ["id"]
rows = "row.owner == row.other"
[role.unlike.Account.read]
fields = ["id"]
rows = "row.owner != row.other"
[role.loose.Account.read]
fields = ["id"]
rows = "sameAs(row.owner, claims.sub)"
"#;

#[rstest]
fn a_rule_compares_texts_exactly_and_a_filter_by_the_collation(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
) {
    let asked = Asked::on(engine, &accounts(engine), HOLDERS);
    let ids = |role: &str, claims: Json| {
        let answer = asked.ask(role, &claims, "{ accounts { nodes { id } } }", false).json();
        answer["data"]["accounts"]["nodes"].as_array().unwrap_or_else(|| panic!("{answer}")).len()
    };
    assert_eq!(ids("holder", json!({ "sub": "ann" })), 1);
    for other in ["ANN", "Ann", "ánn", "ann ", "ann\t", " ann"] {
        assert_eq!(ids("holder", json!({ "sub": other })), 0, "{other:?} is somebody else");
        assert_eq!(ids("listed", json!({ "subs": [other, "x"] })), 0, "{other:?} in a list");
        assert_eq!(ids("mirrored", json!({ "sub": other })), 0, "{other:?}, mirrored");
        let update = "mutation { updateAccount(key: { id: 1 }, set: { sum: 0 }) { count } }";
        assert_eq!(asked.ask("holder", &json!({ "sub": other }), update, false).code(), "ROW_MISSING", "{other:?}");
        let linked = asked.ask("holder", &json!({ "sub": other }), "{ entries { nodes { id } } }", false).json();
        assert_eq!(linked["data"]["entries"]["nodes"], json!([]), "{other:?} over a link");
    }
    assert_eq!(ids("listed", json!({ "subs": ["ann", "ANN"] })), 1);
    assert_eq!(ids("stated", json!({})), 0);
    assert_eq!((ids("beside", json!({})), ids("unlike", json!({}))), (1, 1), "column against column");
    let folds = engine != Engine::Mongodb;
    assert_eq!(ids("loose", json!({ "sub": "ANN" })), usize::from(folds), "whoever says so has the collation's own");
    let found = asked.service.data("{ accounts(filter: { owner: { eq: \"ANN\" } }) { nodes { id } } }");
    assert_eq!(
        found["accounts"]["nodes"].as_array().unwrap().len(),
        usize::from(folds),
        "a caller's filter has it, too"
    );
    assert_eq!(asked.database.query("select sum from accounts where id = 1"), [[Some("10".to_owned())]]);
}

/// What the service logged so far, in this process.
fn logged() -> String {
    String::from_utf8_lossy(&log().lock().unwrap()).into_owned()
}

fn log() -> &'static Arc<Mutex<Vec<u8>>> {
    static LOG: OnceLock<Arc<Mutex<Vec<u8>>>> = OnceLock::new();
    LOG.get_or_init(|| {
        #[derive(Clone)]
        struct Into(Arc<Mutex<Vec<u8>>>);
        impl Write for Into {
            fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
                self.0.lock().unwrap().extend_from_slice(bytes);
                Ok(bytes.len())
            }
            fn flush(&mut self) -> std::io::Result<()> {
                Ok(())
            }
        }
        let log = Arc::new(Mutex::new(Vec::new()));
        let into = Into(Arc::clone(&log));
        let subscriber =
            tracing_subscriber::fmt().with_max_level(tracing::Level::DEBUG).with_writer(move || into.clone());
        tracing::subscriber::set_global_default(subscriber.finish()).expect("the only one");
        log
    })
}

#[rstest]
fn the_log_has_codes_and_names_of_a_refusal_and_no_row(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
) {
    log();
    let mark = format!("hush{}", ENGINES.iter().position(|known| *known == engine).unwrap());
    let sql = format!(
        "create table mates (id integer primary key, email varchar(80) not null unique, secret varchar(80) not null,
           age integer check (age < 100), boss_id integer references mates (id));
         insert into mates values (1, '{mark}-a@example', '{mark}-secret', 30, null), (2, '{mark}-b@example', '{mark}-secret', 40, 1);\n"
    );
    let edits = "[role.clerk.Mate.read]\nfields = [\"id\"]\n[role.clerk.Mate.update]\nfields = [\"email\", \"age\", \"boss\", \"bossId\"]\n\
                 [role.clerk.Mate.delete]\n";
    let asked = Asked::on(engine, &sql, edits);
    let change = |set: &str| {
        let document = format!("mutation {{ updateMate(key: {{ id: 2 }}, set: {{ {set} }}) {{ count }} }}");
        asked.ask("clerk", &json!({}), &document, false).code()
    };
    assert_eq!(change(&format!("email: \"{mark}-a@example\"")), "CONFLICT");
    if engine != Engine::Mongodb {
        assert_eq!(change("age: 400"), "VALUE_REFUSED");
        let delete = asked.ask("clerk", &json!({}), "mutation { deleteMate(key: { id: 1 }) { count } }", false);
        assert_eq!(delete.code(), "REFERENCE_BROKEN");
    }
    let log = logged();
    assert!(log.contains("CONFLICT"), "refusals are logged: {log}");
    let line = log.lines().find(|line| line.contains(&mark));
    assert!(line.is_none(), "a row is in the log: {line:?}");
}
