//! A database in which every name, every comment and every row is hostile, and a service whose every text is: whatever a command says
//! of them does nothing on a terminal, forges no line, and turns no text around.

#[allow(dead_code, reason = "other tests start services with it")]
mod process;
#[path = "process/service.rs"]
mod service;

use std::io::{Read as _, Write as _};
use std::net::TcpListener;

use process::{puente, run};
use puente_core::catalog::Engine;
use puente_core::visible::is_hidden;
use puente_testkit::database::Database;
use puente_testkit::project::TestProject;
use rstest::rstest;
use service::{OWNER_KEY, Service};

/// A title is set, the screen cleared, a line forged, text turned around.
const HOSTILE: &str = "\u{1b}]0;owned\u{7}\u{1b}[2J\u{9b}31m\r\nFORGED all is well\u{202e}\u{2066}\u{200f}";

/// Does nothing of it do something?
fn assert_harmless(what: &str, text: &str) {
    let found = text.chars().find(|c| is_hidden(*c) && *c != '\n');
    assert!(found.is_none(), "{what} prints {found:?}: {text:?}");
    let forged = text.lines().find(|line| line.starts_with("FORGED"));
    assert!(forged.is_none(), "{what} prints a line that is not its own: {text:?}");
}

fn hostile(engine: Engine, name: &str) -> String {
    let quote = if engine == Engine::Mariadb { '`' } else { '"' };
    // Names of MariaDB have 64 characters.
    format!("{quote}{name}{HOSTILE}{quote}")
}

fn filled(engine: Engine) -> Database {
    let database = Database::empty(engine);
    let [table, id, text, other, refers] = ["t", "id", "w", "o", "t_id"].map(|name| hostile(engine, name));
    let value = HOSTILE.replace('\\', "\\\\");
    let mut sql = format!(
        "create table {table} ({id} integer primary key, {text} varchar(200), amount integer);\n\
         create table {other} ({id} integer primary key, {refers} integer, day varchar(200));\n\
         insert into {table} values (1, '{value}', 5), (2, 'plain', 6);\n\
         insert into {other} values (1, 1, '{value}'), (2, 2, 'x');\n"
    );
    if engine == Engine::Postgres {
        sql.push_str(&format!(
            "comment on table {table} is '{value}'; comment on column {table}.{text} is '{value}';\n"
        ));
    }
    database.execute(&sql);
    database
}

#[rstest]
fn no_command_prints_what_does_something(#[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb)] engine: Engine) {
    let database = filled(engine);
    let project = TestProject::of(&database, "", "");
    let path = project.path();
    let said = |arguments: &[&str]| {
        let (code, out, err) = run(path, arguments);
        let what = arguments.join(" ");
        assert_harmless(&what, &out);
        assert_harmless(&what, &err);
        (code, out + &err)
    };
    let (_, told) = said(&["survey"]);
    assert!(told.contains("\\u{1b}]0;owned"), "it is seen as what it is: {told}");
    said(&["survey", "--json"]);
    said(&["survey", "--accept"]);
    said(&["survey", "--accept", HOSTILE.trim_end()]);
    said(&["check"]);
    said(&["check", "--json"]);
    said(&["schema"]);
    said(&["access"]);
    let folder = project.open();
    let model = folder.model().expect("a model");
    let (_, t) =
        model.tables().find(|(_, t)| t.columns.iter().any(|column| column.name == "amount")).expect("the table");
    let fields: Vec<&str> = t.columns.iter().filter_map(|column| column.field.as_deref()).collect();
    let rows = format!("{{ {} {{ nodes {{ {} }} }} }}", t.list, fields.join(" "));
    let (code, told) = said(&["ask", "--table", "--statements", "--plan", &rows]);
    assert!(code == 0 && told.contains("FORGED"), "{told}");
    said(&["ask", "--explain", &rows]);
    let insert = format!("mutation {{ create{}(input: {{ }}) {{ count }} }}", t.name);
    said(&["ask", &insert]);
    // What drifts is named.
    let table = hostile(engine, "t");
    let column = hostile(engine, "w");
    database.execute(&format!("alter table {table} drop column {column};"));
    let (code, told) = said(&["check"]);
    assert!(code == 1, "{told}");
    said(&["ask", &rows]);
    let mut command = puente(path, &["serve", "--development", "--listen", "127.0.0.1:0"]);
    command.env("PUENTE_LOG", "debug");
    let service = Service::start(command);
    let url = format!("http://127.0.0.1:{}", service.port());
    for arguments in [&["check", "--url", &url][..], &["ask", "--url", &url, "--table", &rows]] {
        let mut command = puente(path, arguments);
        let output = command.env("PUENTE_OWNER_KEY", OWNER_KEY).output().unwrap();
        let (_, out, err) = process::told(&output);
        assert_harmless(&arguments.join(" "), &(out + &err));
    }
}

#[test]
fn what_a_service_says_is_not_believed_either() {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let url = format!("http://{}", listener.local_addr().unwrap());
    std::thread::spawn(move || {
        for stream in listener.incoming() {
            let Ok(mut stream) = stream else { break };
            let mut request = [0; 4_096];
            let count = stream.read(&mut request).unwrap_or_default();
            let is_check = String::from_utf8_lossy(&request[..count]).contains("/project");
            let body = match is_check {
                true => {
                    serde_json::json!({ "message": HOSTILE, "findings": [{ "kind": HOSTILE, "text": HOSTILE, "breaking": true }] })
                }
                false => serde_json::json!({
                    "data": { "a": { "nodes": [{ HOSTILE: HOSTILE }] } },
                    "errors": [{ "message": HOSTILE, "extensions": { "code": HOSTILE } }],
                    "extensions": { "statements": [{ "text": HOSTILE, "plan": [HOSTILE], "advice": [HOSTILE], "source": HOSTILE }], "plan": HOSTILE },
                }),
            };
            let body = body.to_string();
            let head = format!(
                "HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nContent-Length: {}\r\nConnection: close\r\n\r\n",
                body.len()
            );
            let _ = stream.write_all(head.as_bytes()).and_then(|()| stream.write_all(body.as_bytes()));
        }
    });
    let folder = puente_testkit::leftovers::folder();
    let calls: [&[&str]; 4] = [
        &["ask", "--url", &url, "--table", "--statements", "--plan", "{ a }"],
        &["ask", "--url", &url, "--statements", "{ a }"],
        &["check", "--url", &url],
        &["check", "--url", &url, "--json"],
    ];
    for arguments in calls {
        let output = puente(folder.path(), arguments).env("PUENTE_OWNER_KEY", OWNER_KEY).output().unwrap();
        let (_, out, err) = process::told(&output);
        assert_harmless(&arguments.join(" "), &out);
        assert_harmless(&arguments.join(" "), &err);
    }
}
