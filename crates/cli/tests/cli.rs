//! The command line as a process: what it prints, where it writes, and how it ends.

mod process;

use std::io::{BufRead as _, BufReader, Write as _};
use std::path::Path;
use std::process::{Command, Stdio};

use process::{puente, run, told};
use puente_core::catalog::Engine;
use puente_testkit::database::Database;
use puente_testkit::project::{OWNER_KEY, TestProject};
use rstest::rstest;
use serde_json::{Value as Json, json};

#[test]
fn from_a_database_to_a_nested_answer() {
    let made = TestProject::huts();
    let folder = puente_testkit::leftovers::folder();
    let project = folder.path().join("api");
    let source = format!("main=sqlite:{}", made.database().display());
    let (code, out, err) = run(&project, &["init", "--source", &source]);
    assert_eq!(code, 0, "{out}{err}");
    assert!(out.contains("survey/main.json") && out.contains("weather_readings"), "{out}");
    let ask = ["ask", "--json", "{ huts(first: 1) { nodes { name region { name } } } }"];
    let (code, out, err) = run(&project, &ask);
    assert_eq!(code, 0, "{out}{err}");
    let answer: Json = serde_json::from_str(&out).unwrap();
    assert_eq!(answer["data"]["huts"]["nodes"].as_array().unwrap().len(), 1);
    assert!(!out.contains('\u{1b}'), "no colours where it is not a terminal");
    let (code, _, err) = run(&project, &["init", "--source", &source]);
    assert_eq!(code, 2);
    assert!(err.contains("is there already"), "{err}");
}

#[rstest]
#[case::no_project(&["check"], 2, "puente init")]
#[case::unknown_command(&["srvey"], 2, "survey")]
#[case::no_source(&["init"], 2, "--source NAME=URL")]
#[case::wrong_source(&["init", "--source", "huts.db"], 2, "NAME=URL")]
#[case::unknown_scheme(&["init", "--source", "a=ftp://x"], 2, "sqlite:")]
#[case::missing_file(&["init", "--source", "a=sqlite:/nowhere/huts.db"], 3, "cannot be opened")]
#[case::a_password_in_the_open(&["init", "--source", "a=postgres://me:pw@localhost/huts"], 2, "${DATABASE_URL}")]
#[case::no_server(&["init", "--source", "a=postgres://me@127.0.0.1:1/huts"], 3, "cannot be reached")]
#[case::no_database_named(&["init", "--source", "a=mariadb://me@127.0.0.1:1"], 3, "names no database")]
#[case::demo_for_the_world(&["demo", "--listen", "0.0.0.0:0"], 2, "loopback")]
#[case::open_development(&["serve", "--development", "--listen", "0.0.0.0:0"], 2, "loopback")]
fn calls_that_cannot_work_say_why(#[case] arguments: &[&str], #[case] code: i32, #[case] text: &str) {
    let folder = puente_testkit::leftovers::folder();
    let (found, out, err) = run(folder.path(), arguments);
    assert_eq!(found, code, "{out}{err}");
    assert!(format!("{out}{err}").contains(text), "{out}{err}");
    assert!(!folder.path().join("puente.toml").exists(), "nothing is left behind");
}

#[rstest]
fn the_demo_goes_into_an_empty_database_and_into_no_other(#[values(Engine::Postgres, Engine::Mariadb)] engine: Engine) {
    let database = Database::empty(engine);
    let folder = puente_testkit::leftovers::folder();
    let dir = folder.path().join("demo");
    let arguments = ["demo", "--source", &database.url, "--listen", "127.0.0.1:0", "--dir", dir.to_str().unwrap()];
    let mut demo = puente(folder.path(), &arguments).stdout(Stdio::piped()).spawn().unwrap();
    let lines: Vec<String> = BufReader::new(demo.stdout.take().unwrap())
        .lines()
        .map_while(Result::ok)
        .take_while(|line| !line.contains("Ctrl-C"))
        .collect();
    demo.kill().unwrap();
    demo.wait().unwrap();
    assert!(lines.iter().any(|line| line.contains("/#key=")), "{lines:#?}");
    let ask = "{ bookings { totalCount } trails(first: 1) { nodes { huts { edges { position node { name } } } } } }";
    let (code, out, err) = run(&dir, &["ask", "--json", ask]);
    assert_eq!(code, 0, "{out}{err}");
    assert_eq!(serde_json::from_str::<Json>(&out).unwrap()["data"]["bookings"]["totalCount"], 20_000);
    let (code, out, _) = run(&dir, &["check"]);
    assert_eq!((code, out.trim()), (0, "all is well"));
    let again = folder.path().join("again");
    let arguments = ["demo", "--source", &database.url, "--dir", again.to_str().unwrap()];
    let (code, out, err) = run(folder.path(), &arguments);
    assert_eq!(code, 3, "{out}{err}");
    assert!(err.contains("only goes into an empty one"), "{err}");
}

#[test]
fn proposals_are_accepted_into_the_project_file_which_keeps_its_comments() {
    let project = TestProject::huts();
    let (code, out, err) = run(project.path(), &["survey", "--accept", "occupancy.hutid"]);
    assert_eq!(code, 2, "{out}");
    let known = "proposals: incident_log, occupancy, huts.facilities, incident_log.report, occupancy.hut_id";
    assert!(err.contains(known), "{err}");
    let (code, out, err) = run(project.path(), &["survey", "--accept", "occupancy.hut_id", "occupancy"]);
    assert_eq!(code, 0, "{out}{err}");
    assert!(err.contains("accepted: occupancy.hut_id refers to huts.id"), "{err}");
    assert!(err.contains("accepted: rows of occupancy are told apart by hut_id and night"), "{err}");
    assert!(out.contains("Occupancy: hut → Hut") && !out.contains("occupancy.hut_id may refer"), "{out}");
    assert!(!out.contains("occupancy has no key; "), "{out}");
    let file = std::fs::read_to_string(project.path().join("puente.toml")).unwrap();
    assert!(file.contains("# The demo's project file.") && file.contains("table = \"occupancy\""), "{file}");
    let (code, out, err) = run(
        project.path(),
        &["ask", "--json", "{ occupancies(first: 1) { nodes { hut { name } } pageInfo { endCursor } } }"],
    );
    assert_eq!(code, 0, "{out}{err}");
}

#[test]
fn json_gets_types_where_they_are_accepted_and_its_drift_is_told() {
    let project = TestProject::huts();
    let (code, out, _) = run(project.path(), &["survey"]);
    assert_eq!(code, 0, "{out}");
    for line in [
        "incidents.report: object, 200 samples → IncidentReport",
        "    people: list of object",
        "      injuries: list of String, in ",
        "incident_log.report holds JSON, in 30 samples of one kind (object)",
    ] {
        assert!(out.contains(line), "{line}: {out}");
    }
    let (code, out, err) = run(project.path(), &["survey", "--accept", "incident_log.report"]);
    assert!(code == 0 && err.contains("accepted: the JSON in incident_log.report gets types"), "{out}{err}");
    assert!(out.contains("incident_log.report: object, 30 samples → IncidentLogReport"), "{out}");
    assert!(!out.contains("incident_log.report holds JSON"), "{out}");
    let file = std::fs::read_to_string(project.path().join("puente.toml")).unwrap();
    assert!(file.contains("# The demo's project file.") && file.contains("table = \"incident_log\""), "{file}");
    let document = "{ incidentLogs(first: 1) { nodes { report { kind helpers } } } }";
    let (code, out, err) = run(project.path(), &["ask", "--json", document]);
    assert_eq!(code, 0, "{out}{err}");
    let (_, out, _) = run(project.path(), &["survey", "--json"]);
    let told: Json = serde_json::from_str(&out).unwrap();
    assert_eq!((&told["shapes"][0]["table"], told["shapes"].as_array().unwrap().len()), (&Json::from("huts"), 1));
    assert_eq!(told["shapes"][0]["shape"]["shape"]["members"]["shower"]["type"], "Boolean");
    let connection = rusqlite::Connection::open(project.database()).unwrap();
    let changed = "update incident_log set report = '{\"kind\": 7, \"depth\": 1.5}'";
    connection.execute(changed, []).unwrap();
    let (code, out, _) = run(project.path(), &["check"]);
    assert_eq!(code, 0, "members that changed break no request: {out}");
    for line in [
        "member `kind` was String and is JSON (String 50 %, Int 50 %) in 30 samples",
        "member `depth` (Float) is new, in 99 % of 30 samples",
    ] {
        assert!(out.contains(line), "{line}: {out}");
    }
    assert!(!out.contains("helpers"), "what samples do not show any more is not gone for that: {out}");
    let (code, out, _) = run(project.path(), &["survey", "--afresh"]);
    assert_eq!(code, 0, "{out}");
    for line in [
        "`incident_log.report`: member `helpers` (list of Int) was in none of 30 samples",
        "member `kind` was String and is Int in 30 samples",
        "member `depth` (Float) is new, in 100 % of 30 samples",
    ] {
        assert!(out.contains(line), "{line}: {out}");
    }
}

/// The same of a service, over HTTP: its files, its databases, and what is said where that is not allowed.
#[test]
fn a_service_is_checked_from_elsewhere() {
    let project = TestProject::huts();
    let service = project.serve();
    let url = format!("http://{}", service.address);
    let checked = |key: &str| {
        let mut command = puente(Path::new("/"), &["check", "--url", &url]);
        told(&command.env("PUENTE_OWNER_KEY", key).output().expect("it runs"))
    };
    let (code, out, err) = checked(OWNER_KEY);
    assert_eq!((code, out.trim()), (0, "all is well"), "{err}");
    let connection = rusqlite::Connection::open(project.database()).unwrap();
    connection.execute_batch("alter table badges rename column title to label").unwrap();
    let (code, out, _) = checked(OWNER_KEY);
    assert!(code == 1 && out.contains("drift") && out.contains("title"), "{code} {out}");
    let (code, _, err) = checked("no-such-key");
    assert!(code == 1 && err.contains("not known here"), "{code} {err}");
    let (code, _, err) = checked("");
    assert!(code == 2 && err.contains("PUENTE_OWNER_KEY"), "{code} {err}");
}

#[test]
fn explanations_point_at_scans_that_an_index_would_avoid() {
    let project = TestProject::huts();
    let ask = ["ask", "--statements", "--explain", "{ bookings(filter: { nights: { eq: 3 } }) { nodes { id } } }"];
    let (code, out, err) = run(project.path(), &ask);
    assert_eq!(code, 0, "{out}{err}");
    assert!(out.contains("SCAN t0") && out.contains("→ rows are found by `bookings.nights`"), "{out}");
    let (code, _, err) = run(project.path(), &["ask", "--explain", "{ __typename }"]);
    assert_eq!(code, 2);
    assert!(err.contains("--statements"), "{err}");
}

#[test]
fn every_mistake_in_a_project_file_is_told_at_once_with_its_place() {
    let project = TestProject::huts();
    let text = "[source.huts]\nurl = \"sqlite:huts.db\"\nport = 7\n[limit]\npage = 10\n[limits]\npage = \"many\"\n\
                [[type]]\nname = \"X\"\n[service]\nsecret = \"short\"\n";
    std::fs::write(project.path().join("puente.toml"), text).unwrap();
    let (code, out, _) = run(project.path(), &["check"]);
    assert_eq!(code, 2);
    for line in ["puente.toml:3:1", "puente.toml:4:", "puente.toml:7:1", "puente.toml:8:", "puente.toml:11:1"] {
        assert!(out.contains(line), "{line} in {out}");
    }
    assert!(out.contains("did you mean `limits`?"), "{out}");
}

#[test]
fn survey_and_check_tell_what_changed() {
    let project = TestProject::huts();
    assert_eq!(run(project.path(), &["check"]).0, 0);
    let connection = rusqlite::Connection::open(project.database()).unwrap();
    connection.execute_batch("alter table badges add column colour text; drop view occupancy").unwrap();
    let (code, out, _) = run(project.path(), &["check", "--json"]);
    assert_eq!(code, 1, "{out}");
    let findings: Json = serde_json::from_str(&out).unwrap();
    let texts: Vec<_> = findings["findings"].as_array().unwrap().iter().map(|f| f["text"].as_str().unwrap()).collect();
    assert!(texts.contains(&"`badges.colour` is new") && texts.contains(&"`occupancy` is gone"), "{texts:?}");
    let (code, out, _) = run(project.path(), &["survey"]);
    assert_eq!(code, 0);
    assert!(out.contains("`badges.colour` is new"), "{out}");
    assert_eq!(run(project.path(), &["check"]).0, 0);
    std::fs::remove_file(project.database()).unwrap();
    assert_eq!(run(project.path(), &["check"]).0, 3);
    assert_eq!(run(project.path(), &["check", "--offline"]).0, 0);
    std::fs::write(project.survey_file(), "{").unwrap();
    let (code, out, _) = run(project.path(), &["check", "--offline"]);
    assert_eq!(code, 2);
    assert!(out.contains("version control"), "{out}");
}

#[test]
fn the_survey_file_is_the_same_twice_and_the_schema_needs_no_database() {
    let project = TestProject::huts();
    let file = project.survey_file();
    let before = std::fs::read_to_string(&file).unwrap();
    assert_eq!(run(project.path(), &["survey"]).0, 0);
    assert_eq!(std::fs::read_to_string(&file).unwrap(), before);
    std::fs::remove_file(project.database()).unwrap();
    let (code, out, _) = run(project.path(), &["schema"]);
    assert_eq!(code, 0);
    assert!(out.contains("type Query {") && out.contains("enum BookingStatus {"), "{out}");
}

#[test]
fn documents_come_from_a_file_or_from_standard_input_with_variables() {
    let project = TestProject::huts();
    let file = project.path().join("ask.graphql");
    std::fs::write(&file, "query A($n: Int!, $c: String) { huts(first: $n, filter: { code: { eq: $c } }) { totalCount } } query B { __typename }").unwrap();
    let file = file.display().to_string();
    let (code, out, err) =
        run(project.path(), &["ask", "--file", &file, "--operation", "A", "--var", "n=3", "--var", "c=none", "--json"]);
    assert_eq!(
        (code, serde_json::from_str::<Json>(&out).unwrap()),
        (0, json!({"data": {"huts": {"totalCount": 0}}})),
        "{err}"
    );
    let mut child = puente(project.path(), &["ask", "-", "--variables", "{\"n\": 2}", "--table", "--statements"])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    child.stdin.take().unwrap().write_all(b"query($n: Int) { huts(first: $n) { nodes { id name } } }").unwrap();
    let (code, out, _) = told(&child.wait_with_output().unwrap());
    assert_eq!(code, 0);
    assert!(out.contains("│ id") && out.contains("1 statements") && out.contains("select "), "{out}");
    let (code, _, err) = run(project.path(), &["ask", "{ huts { nam } }"]);
    assert_eq!(code, 1);
    assert!(err.contains("DOCUMENT_INVALID"), "{err}");
}

#[test]
fn a_running_service_is_asked_by_its_address() {
    let project = TestProject::huts();
    let service = project.serve();
    let url = format!("http://{}", service.address);
    let ask = ["ask", "--url", &url, "--json", "{ huts(first: 1) { nodes { id } } }"];
    let (code, out, err) = told(&puente(project.path(), &ask).env("PUENTE_OWNER_KEY", OWNER_KEY).output().unwrap());
    assert_eq!((code, out.trim()), (0, r#"{"data":{"huts":{"nodes":[{"id":1}]}}}"#), "{err}");
    let (code, _, err) = run(project.path(), &ask);
    assert_eq!(code, 2);
    assert!(err.contains("PUENTE_OWNER_KEY"), "{err}");
    let nobody = ["ask", "--url", "http://127.0.0.1:9", "{ __typename }"];
    let (code, _, err) = told(&puente(project.path(), &nobody).env("PUENTE_OWNER_KEY", "x").output().unwrap());
    assert_eq!(code, 3, "{err}");
}

#[test]
fn keys_are_made_listed_and_revoked() {
    let project = TestProject::huts();
    let (code, out, err) = run(project.path(), &["key", "create", "ci"]);
    assert_eq!(code, 0);
    assert!(out.starts_with("puente_") && err.contains("cannot be shown again"));
    let (_, list, _) = run(project.path(), &["key", "list", "--json"]);
    assert_eq!(serde_json::from_str::<Json>(&list).unwrap()[0]["name"], "ci");
    assert!(!list.contains(out.trim()));
    assert_eq!(run(project.path(), &["key", "revoke", "ci"]).0, 0);
    assert_eq!(run(project.path(), &["key", "revoke", "ci"]).0, 1);
}

#[test]
fn production_wants_a_secret_and_a_signal_stops_the_service() {
    let project = TestProject::huts();
    let (code, _, err) = run(project.path(), &["serve", "--listen", "127.0.0.1:0"]);
    assert_eq!(code, 2);
    assert!(err.contains("PUENTE_SECRET"), "{err}");
    let mut child = puente(project.path(), &["serve", "--development", "--listen", "127.0.0.1:0"])
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let mut lines = BufReader::new(child.stderr.take().unwrap()).lines();
    let line = lines.find(|line| line.as_ref().is_ok_and(|line| line.starts_with("console "))).unwrap().unwrap();
    assert!(line.contains("http://127.0.0.1:"), "{line}");
    assert!(Command::new("kill").arg(child.id().to_string()).status().unwrap().success());
    assert_eq!(child.wait().unwrap().code(), Some(0));
}

#[test]
fn the_demo_starts_with_an_address_a_key_and_asks() {
    let folder = puente_testkit::leftovers::folder();
    let dir = folder.path().join("huts");
    let mut child = puente(folder.path(), &["demo", "--dir", dir.to_str().unwrap(), "--listen", "127.0.0.1:0"])
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let mut lines = BufReader::new(child.stdout.take().unwrap()).lines();
    let mut told = String::new();
    for line in lines.by_ref().map_while(Result::ok) {
        told.push_str(&line);
        told.push('\n');
        if line.contains("Ctrl-C") {
            break;
        }
    }
    assert!(told.contains("/#key=puente_") && told.contains("/graphql"), "{told}");
    assert_eq!(
        told.matches("puente ask --project").count(),
        puente_demo::ASKS.len() + puente_demo::ASKERS.len() + puente_demo::REPORTS.len(),
        "{told}"
    );
    assert!(Command::new("kill").arg(child.id().to_string()).status().unwrap().success());
    assert_eq!(child.wait().unwrap().code(), Some(0));
    for (_, document) in puente_demo::ASKS {
        let (code, out, err) = run(&dir, &["ask", "--json", document]);
        assert_eq!(code, 0, "{document}: {out}{err}");
    }
    for (what, who, document) in puente_demo::REPORTS {
        let mut arguments = vec!["ask", "--json"];
        arguments.extend(who.split(' '));
        arguments.push(document);
        let (code, out, err) = run(&dir, &arguments);
        assert!(code == 0 && out.contains("\"kind\""), "{what}: {out}{err}");
    }
}

#[test]
fn completions_are_printed_for_every_shell() {
    let folder = puente_testkit::leftovers::folder();
    for shell in ["bash", "zsh", "fish"] {
        let (code, out, _) = run(folder.path(), &["completions", shell]);
        assert!(code == 0 && out.contains("survey"), "{shell}");
    }
}

#[test]
fn a_mutation_is_rehearsed_and_then_done() {
    let project = TestProject::huts();
    let mutation = "mutation { createRegion(input: { name: \"Far North\" }) { count node { name } } }";
    let ask = "{ region(key: { name: \"Far North\" }) { name } }";
    let (code, out, err) = run(project.path(), &["ask", "--json", "--rehearse", mutation]);
    assert_eq!(code, 0, "{out}{err}");
    assert!(out.contains("Far North"), "{out}");
    assert!(run(project.path(), &["ask", "--json", ask]).1.contains("\"region\":null"));
    let (_, out, _) = run(project.path(), &["ask", "--rehearse", mutation]);
    assert!(out.contains("everything was rolled back"), "{out}");
    let (code, out, _) = run(project.path(), &["ask", "--statements", mutation]);
    assert_eq!(code, 0, "{out}");
    assert!(out.contains("insert into \"regions\""), "{out}");
    assert!(run(project.path(), &["ask", "--json", ask]).1.contains("Far North"));
    let (code, _, err) = run(project.path(), &["ask", mutation]);
    assert_eq!(code, 1);
    assert!(err.contains("CONFLICT: there is a `Region` with this `name` already"), "{err}");
}

#[test]
fn secrets_that_others_could_read_or_guess_are_not_for_production() {
    let project = TestProject::of_sql("create table notes (id integer primary key);", "");
    let file = project.path().join("puente.toml");
    let before = std::fs::read_to_string(&file).unwrap();
    let serve = |key: Option<&str>| {
        let mut command = puente(project.path(), &["serve", "--listen", "127.0.0.1:0"]);
        command.env("PUENTE_SECRET", "0123456789abcdef0123456789abcdef");
        key.map(|key| command.env("PUENTE_OWNER_KEY", key));
        told(&command.output().unwrap())
    };
    std::fs::write(&file, format!("{before}[service]\nsecret = \"${{PUENTE_SECRET}}\"\n")).unwrap();
    let (code, _, err) = serve(Some("abc"));
    assert_eq!(code, 2, "{err}");
    assert!(err.contains("PUENTE_OWNER_KEY has 3 characters and needs 32") && err.contains("openssl rand"), "{err}");
    let written = "[service]\nsecret = \"0123456789abcdef0123456789abcdef\"\n[identity.tokens]\nissuer = \"i\"\naudience = \"a\"\n\
                   algorithm = \"HS256\"\nkey = \"fedcba9876543210fedcba9876543210\"\n";
    std::fs::write(&file, format!("{before}{written}")).unwrap();
    let (code, _, err) = serve(None);
    assert_eq!(code, 2, "{err}");
    assert!(err.contains("`service.secret` has a secret") && err.contains("`identity.tokens.key`"), "{err}");
    assert!(!err.contains("0123456789abcdef") && !err.contains("fedcba"), "secrets are not printed: {err}");
    let (code, out, err) = run(project.path(), &["check", "--offline"]);
    assert_eq!(code, 0, "{out}{err}");
    assert!(out.contains("secret") && out.contains("${VARIABLE}"), "{out}");
}

#[test]
fn the_second_source_makes_lists_nullable_and_says_so() {
    let made = TestProject::demo();
    let folder = puente_testkit::leftovers::folder();
    let at = |name: &str, file: &str| format!("{name}=sqlite:{}", made.path().join(file).display());
    let (_, out, _) = run(folder.path(), &["init", "--source", &at("huts", "huts.db")]);
    assert!(!out.contains("can be null"), "{out}");
    let (code, schema, _) = run(folder.path(), &["schema"]);
    assert!(code == 0 && schema.contains("): HutConnection!"), "{schema}");
    let (code, out, _) = run(folder.path(), &["init", "--source", &at("rescue", "rescue.db")]);
    assert!(code == 0 && out.contains("Root lists can be null from now on"), "{out}");
    let (_, schema, _) = run(folder.path(), &["schema"]);
    assert!(schema.contains("): HutConnection\n"), "{schema}");
    // It is said once.
    let (_, out, _) = run(folder.path(), &["survey"]);
    assert!(!out.contains("can be null"), "{out}");
}

#[test]
fn a_project_has_as_many_sources_as_it_is_given() {
    let made = TestProject::demo();
    let folder = puente_testkit::leftovers::folder();
    let at = |name: &str, file: &str| format!("{name}=sqlite:{}", made.path().join(file).display());
    let (huts, rescue) = (at("huts", "huts.db"), at("rescue", "rescue.db"));
    let (code, out, err) = run(folder.path(), &["init", "--source", &huts, "--source", &rescue]);
    assert_eq!(code, 0, "{out}{err}");
    assert!(out.contains("Source huts (15 types)") && out.contains("Source rescue (3 types)"), "{out}");
    assert!(out.contains("callouts.hut_code may refer to huts.code"), "{out}");
    let (code, _, err) = run(folder.path(), &["survey", "--accept", "callouts.hut_code"]);
    assert!(code == 0 && err.contains("accepted: callouts.hut_code refers to huts.code"), "{err}");
    let document = "{ huts(first: 1) { nodes { callouts { totalCount } } } }";
    let (code, out, _) = run(folder.path(), &["ask", "--statements", document]);
    assert!(code == 0 && out.contains("huts: 1× 1 rows") && out.contains("rescue: 1× 1 rows"), "{out}");
    // One of them alone, as a program reads it.
    let (code, out, _) = run(folder.path(), &["survey", "--source", "rescue", "--json"]);
    let told: Json = serde_json::from_str(&out).unwrap();
    assert_eq!((code, told["tables"].as_array().unwrap().len()), (0, 3));
    assert_eq!(told["tables"][0]["source"], "rescue");
    let (code, _, err) = run(folder.path(), &["survey", "--source", "rescu"]);
    assert!(code == 2 && err.contains("did you mean `rescue`?"), "{err}");
    // What cannot be added leaves the project as it was.
    let file = folder.path().join("puente.toml");
    let before = std::fs::read_to_string(&file).unwrap();
    for (source, code, text) in [
        (huts.as_str(), 2, "a source `huts` is there already"),
        ("more=sqlite:/nowhere/x.db", 3, "source `more`"),
        ("More=sqlite:x.db", 2, "`More` is not a source name"),
    ] {
        let (found, out, err) = run(folder.path(), &["init", "--source", source]);
        assert!(found == code && format!("{out}{err}").contains(text), "{source}: {found} {out}{err}");
        assert_eq!(std::fs::read_to_string(&file).unwrap(), before);
    }
    let (code, _, err) = run(folder.path(), &["init"]);
    assert!(code == 2 && err.contains("`--source NAME=URL` adds a source"), "{err}");
    let (code, out, _) = run(folder.path(), &["init", "--source", &at("again", "rescue.db")]);
    assert!(code == 0 && out.contains("AgainCallout"), "{out}");
    std::fs::remove_file(made.path().join("rescue.db")).unwrap();
    let (code, out, _) = run(folder.path(), &["check"]);
    assert!(code == 3 && out.contains("source `rescue`: ") && out.contains("source `again`: "), "{out}");
}
