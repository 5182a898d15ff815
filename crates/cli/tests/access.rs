//! Roles from the command line: what a role may do, what it answers, who it is let in as, and what is wrong with grants.

mod process;

use std::io::{BufRead as _, BufReader};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use process::{puente, run, told};
use puente_testkit::project::TestProject;
use rstest::rstest;
use serde_json::{Value as Json, json};

const QUESTION: &str = "{ bookings(first: 2) { totalCount nodes { hut { name } hiker { name phone } } } }";

fn json_of(project: &Path, arguments: &[&str]) -> Json {
    let (code, out, err) = run(project, arguments);
    assert_eq!(code, 0, "{arguments:?}: {out}{err}");
    serde_json::from_str(&out).unwrap_or_else(|error| panic!("{error}: {out}"))
}

#[test]
fn the_same_question_is_answered_differently_for_each_role_of_the_demo() {
    let project = TestProject::huts();
    let ask = |who: &[&str]| run(project.path(), &[&["ask", "--json"], who, &[QUESTION]].concat());
    let (code, _, err) = {
        let (code, out, err) = run(project.path(), &["ask", "--as", "visitor", QUESTION]);
        assert!(!out.contains("phone"), "{out}");
        (code, out, err)
    };
    assert_eq!(code, 1);
    assert!(err.contains("DOCUMENT_INVALID"), "for a visitor there are no bookings: {err}");
    let total = |who: &[&str]| {
        let (code, out, err) = ask(who);
        assert_eq!(code, 0, "{out}{err}");
        let answer: Json = serde_json::from_str(&out).unwrap();
        answer["data"]["bookings"]["totalCount"].as_i64().unwrap()
    };
    let connection = rusqlite::Connection::open(project.database()).unwrap();
    let count = |sql: &str| connection.query_row(sql, [], |row| row.get::<_, i64>(0)).unwrap();
    let hiker = total(&["--as", "hiker", "--claim", "sub=7"]);
    assert_eq!(hiker, count("select count(*) from bookings where hiker_id = 7 or guide_id = 7"));
    let warden = total(&["--as", "warden", "--claim", "sub=14"]);
    assert_eq!(warden, count("select count(*) from bookings join huts on huts.id = hut_id where warden_id = 14"));
    assert!(hiker > 0 && warden > hiker);
    assert_eq!(total(&["--as", "coordinator"]), 20_000);
    assert_eq!(total(&["--as", "hiker"]), 0, "without a claim");
}

#[test]
fn what_a_role_may_do_is_shown_as_a_matrix_for_one_type_and_for_one_field() {
    let project = TestProject::huts();
    let (code, out, err) = run(project.path(), &["access"]);
    assert_eq!(code, 0, "{err}");
    for text in ["visitor", "coordinator", "create 5 check fixed", "read 3/12 rows masks"] {
        assert!(out.contains(text), "{text}: {out}");
    }
    let (_, out, _) = run(project.path(), &["access", "Booking", "--as", "hiker", "--claim", "sub=7"]);
    assert!(out.contains("rows      row.hikerId == claims.sub || row.guideId == claims.sub"), "{out}");
    assert!(out.contains("sees 15 of 20000 rows with these claims"), "{out}");
    let (_, out, _) = run(project.path(), &["access", "Booking", "--as", "hiker"]);
    assert!(out.contains("sees 0 of 20000 rows"), "{out}");
    let (_, out, _) = run(project.path(), &["access", "Hiker.phone"]);
    assert!(out.contains("[role.warden.Hiker.read], line") && out.contains("value only where"), "{out}");
    assert!(!out.contains("visitor"), "{out}");
    let (_, out, _) = run(project.path(), &["access", "Warden.email"]);
    assert!(out.contains("nobody but owner"), "{out}");
    let told = json_of(project.path(), &["access", "Booking", "--as", "hiker", "--claim", "sub=7", "--json"]);
    assert_eq!(told[0]["rows"], json!({ "visible": 15, "of": 20_000 }));
    let all = json_of(project.path(), &["access", "--json"]);
    assert_eq!(all.as_array().unwrap().len(), 4);
    let included = all[1]["grants"].as_array().unwrap().iter().find(|grant| grant["type"] == "Region").unwrap();
    assert_eq!(included["from"], "visitor");
}

#[rstest]
#[case(&["access", "Huts"], "did you mean `Hut`?")]
#[case(&["access", "Hut.nam"], "did you mean `name`?")]
#[case(&["access", "--as", "wardens"], "did you mean `warden`?")]
#[case(&["ask", "--as", "wardens", "{ __typename }"], "did you mean `warden`?")]
#[case(&["ask", "--as", "warden", "--claim", "sub", "{ __typename }"], "NAME=VALUE")]
#[case(&["ask", "--claim", "sub=1", "{ __typename }"], "--as")]
#[case(&["token", "--as", "wardens"], "did you mean `warden`?")]
#[case(&["token", "--as", "warden", "--expires", "soon"], "8h")]
#[case(&["key", "create", "x", "--as", "nobody"], "is not a role of this project")]
#[case(&["schema", "--as", "nobody"], "is not a role of this project")]
fn calls_that_cannot_work_say_why(#[case] arguments: &[&str], #[case] expected: &str) {
    let project = TestProject::huts();
    let (code, out, err) = run(project.path(), arguments);
    assert_eq!(code, 2, "{out}{err}");
    assert!(err.contains(expected), "{err}");
}

#[test]
fn the_schema_of_a_role_has_nothing_else() {
    let project = TestProject::huts();
    let (code, out, err) = run(project.path(), &["schema", "--as", "visitor"]);
    assert_eq!(code, 0, "{err}");
    assert!(out.contains("type Hut {") && out.contains("region: Region"), "{out}");
    for hidden in ["Booking", "Hiker", "warden", "phone", "Mutation", "notes"] {
        assert!(!out.contains(hidden), "{hidden}");
    }
    let (_, owner, _) = run(project.path(), &["schema"]);
    assert!(owner.contains("type Booking {"));
}

#[test]
fn grants_that_are_wider_than_meant_are_warned_of_and_wrong_ones_refused() {
    let tables = "create table people (id integer primary key, name text, phone text);
        create table letters (id integer primary key, owner_id integer not null references people, body text);";
    let risky = "[identity]\nanonymous = \"open\"\n[role.open.Person.read]\nfields = \"all\"\n\
        [role.open.Letter.read]\nfields = [\"id\", \"body\"]\n[role.open.Letter.create]\nfields = [\"body\"]\n\
        [role.open.Letter.update]\nfields = [\"body\"]\n[role.open.Letter.delete]\n";
    let project = TestProject::of_sql(tables, risky);
    let (code, out, err) = run(project.path(), &["check"]);
    assert_eq!(code, 0, "{out}{err}");
    for expected in [
        "reads `phone` of every row of `Person`, which looks personal",
        "reads all fields of `Person`, also those that are added later",
        "column `owner_id` looks as if rows belonged to somebody",
        "updates `Letter` without `check`",
        "deletes any row of `Letter`",
        "cannot create a `Letter` by itself: `ownerId`",
        "anybody may",
    ] {
        assert!(out.contains(expected), "{expected}: {out}");
    }
    let file = project.path().join("puente.toml");
    let text = std::fs::read_to_string(&file).unwrap();
    let wrong = format!("{text}rows = \"row.ownr == claims.sub\"\n[role.next]\ninclude = [\"opn\"]\n");
    std::fs::write(&file, wrong).unwrap();
    let (code, out, _) = run(project.path(), &["check"]);
    assert_eq!(code, 2, "{out}");
    assert!(out.contains("includes `opn`, which is not a role; did you mean `open`?"), "{out}");
    std::fs::write(&file, format!("{text}rows = \"row.ownr == claims.sub\"\n")).unwrap();
    let (code, out, _) = run(project.path(), &["check"]);
    assert_eq!(code, 2, "{out}");
    let line = text.lines().count() + 1;
    assert!(out.contains(&format!("puente.toml:{line}:12: `Letter` has no field or link `ownr`")), "{out}");
}

#[test]
fn keys_of_roles_are_made_with_claims_and_an_end() {
    let project = TestProject::huts();
    let made =
        ["key", "create", "app", "--as", "hiker", "--claim", "sub=7", "--claim", "team=[1,2]", "--expires", "30d"];
    let (code, out, err) = run(project.path(), &made);
    assert_eq!(code, 0, "{err}");
    assert!(out.starts_with("puente_") && err.contains("asks as hiker"), "{out}{err}");
    let listed = json_of(project.path(), &["key", "list", "--json"]);
    assert_eq!(listed[0]["claims"], json!({ "sub": "7", "team": [1, 2] }));
    assert!(listed[0]["expiresAt"].as_str().unwrap() > listed[0]["createdAt"].as_str().unwrap());
    let (_, table, _) = run(project.path(), &["key", "list"]);
    assert!(table.contains("hiker") && !table.contains(out.trim()), "{table}");
}

/// The owner's key, long enough for production.
const OWNER: &str = "the-owners-key-long-enough-for-production";

/// A service as a process; stopped when dropped.
struct Served {
    child: Child,
    url: String,
    log: std::sync::mpsc::Receiver<String>,
}

impl Served {
    fn start(project: &Path, arguments: &[&str]) -> Self {
        let all = [&["serve", "--listen", "127.0.0.1:0"], arguments].concat();
        let mut child = puente(project, &all)
            .env("PUENTE_SECRET", "0123456789abcdef0123456789abcdef")
            .env("PUENTE_OWNER_KEY", OWNER)
            .env("PUENTE_LOG", "info")
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        let (tell, log) = std::sync::mpsc::channel();
        let lines = BufReader::new(child.stderr.take().unwrap()).lines();
        std::thread::spawn(move || lines.map_while(Result::ok).for_each(|line| drop(tell.send(line))));
        let line = log.iter().find(|line| line.starts_with("console ")).expect("it starts");
        let url = line.split("http://").nth(1).and_then(|rest| rest.split('/').next()).expect("an address");
        Served { child, url: format!("http://{url}"), log }
    }

    fn wait_for(&self, text: &str) -> String {
        let until = Instant::now() + Duration::from_secs(20);
        while let Ok(line) = self.log.recv_timeout(until.saturating_duration_since(Instant::now())) {
            if line.contains(text) {
                return line;
            }
        }
        panic!("the log never said {text}")
    }

    /// Asks with a key or a token.
    fn ask(&self, project: &Path, credential: &str, arguments: &[&str]) -> (i32, String, String) {
        let all = [&["ask", "--json", "--url", &self.url], arguments].concat();
        told(&puente(project, &all).env("PUENTE_OWNER_KEY", credential).output().unwrap())
    }

    fn signal(&self, name: &str) {
        assert!(Command::new("kill").args([name, &self.child.id().to_string()]).status().unwrap().success());
    }
}

impl Drop for Served {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

const NOTES: &str = "create table notes (id integer primary key, owner_id integer, title text);
insert into notes values (1, 7, 'mine'), (2, 8, 'hers');";
const MEMBER: &str = "[role.member.Note.read]\nfields = [\"id\"]\nrows = \"row.ownerId == claims.sub\"\n";
const SECRET: &str = "[service]\nsecret = \"${PUENTE_SECRET}\"\n";

/// A project that takes its secret from the environment, as one in production does.
fn for_production() -> TestProject {
    let project = TestProject::of_sql(NOTES, MEMBER);
    let file = project.path().join("puente.toml");
    let text = std::fs::read_to_string(&file).unwrap();
    std::fs::write(&file, format!("{text}{SECRET}")).unwrap();
    project
}

#[test]
fn development_tokens_open_development_and_never_production() {
    let project = for_production();
    let mint = puente(project.path(), &["token", "--as", "member", "--claim", "sub=7"])
        .env("PUENTE_SECRET", "0123456789abcdef0123456789abcdef")
        .output()
        .unwrap();
    let token = String::from_utf8(mint.stdout).unwrap().trim().to_owned();
    assert_eq!(token.split('.').count(), 3, "{token}");
    let ask = ["{ notes { nodes { id } } }"];
    let development = Served::start(project.path(), &["--development"]);
    let (code, out, err) = development.ask(project.path(), &token, &ask);
    assert_eq!((code, out.trim()), (0, r#"{"data":{"notes":{"nodes":[{"id":1}]}}}"#), "{err}");
    let as_member = ["--as", "member", "--claim", "sub=8", "{ notes { nodes { id } } }"];
    let (_, out, _) = development.ask(project.path(), OWNER, &as_member);
    assert!(out.contains(r#"[{"id":2}]"#), "{out}");
    assert!(development.wait_for("owner key, as another").contains("member"), "asking as another is logged");
    drop(development);
    let production = Served::start(project.path(), &[]);
    let (code, out, _) = production.ask(project.path(), &token, &ask);
    assert_eq!(code, 1);
    assert!(out.contains("UNAUTHENTICATED"), "{out}");
}

#[test]
fn a_changed_project_is_reloaded_and_a_broken_one_changes_nothing() {
    let project = for_production();
    let file = project.path().join("puente.toml");
    let before = std::fs::read_to_string(&file).unwrap();
    let ask = ["--as", "member", "--claim", "sub=7", "{ notes { nodes { title } } }"];
    for (arguments, reload) in [(&["--development"][..], None), (&[], Some("-HUP"))] {
        std::fs::write(&file, &before).unwrap();
        let served = Served::start(project.path(), arguments);
        let now = || served.ask(project.path(), OWNER, &ask);
        assert_eq!(now().0, 1, "no title was granted");
        std::fs::write(&file, before.replace("[\"id\"]", "[\"id\", \"titel\"]")).unwrap();
        reload.iter().for_each(|signal| served.signal(signal));
        let line = served.wait_for("stays in force");
        assert!(line.contains("did you mean `title`?"), "{line}");
        assert_eq!(now().0, 1, "still what was in force");
        std::fs::write(&file, before.replace("[\"id\"]", "[\"id\", \"title\"]")).unwrap();
        reload.iter().for_each(|signal| served.signal(signal));
        served.wait_for("reloaded");
        let (code, out, err) = now();
        assert_eq!((code, out.trim()), (0, r#"{"data":{"notes":{"nodes":[{"title":"mine"}]}}}"#), "{err}");
    }
}

#[test]
fn who_may_read_a_part_of_json_is_told() {
    let project = TestProject::huts();
    let (code, out, err) = run(project.path(), &["access", "Incident.report.people"]);
    assert_eq!(code, 0, "{out}{err}");
    assert!(out.contains("value only where row.hikerId == claims.sub") && !out.contains("visitor"), "{out}");
    let (_, out, _) = run(project.path(), &["access", "Incident.report.weather.snow"]);
    assert!(out.contains("visitor") && out.contains("coordinator"), "{out}");
    let (_, out, _) = run(project.path(), &["access", "Incident.report"]);
    assert!(out.contains("of it report.kind, report.severity, report.weather, report.tags"), "{out}");
    assert!(out.contains("report.people only where row.hikerId == claims.sub"), "{out}");
    let (_, out, _) = run(project.path(), &["access", "Incident", "--as", "visitor"]);
    assert!(out.contains("report.kind") && out.contains("not ") && out.contains("report.people"), "{out}");
    let (code, _, err) = run(project.path(), &["access", "Incident.report.wether"]);
    assert!(code == 2 && err.contains("did you mean `report.weather`?"), "{err}");
}
