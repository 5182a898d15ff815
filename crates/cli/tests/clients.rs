//! Clients, generators and linters that people have already, as their packages come, driven against the demo. docs/clients.md says what to
//! set for each.

mod process;
#[path = "process/service.rs"]
mod service;

use std::path::{Path, PathBuf};
use std::process::Command;

use process::{puente, run};
use puente_testkit::project::TestProject;
use rstest::rstest;
use service::{OWNER_KEY, Service};

fn clients(of: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../clients").join(of)
}

/// The demo; with global ids it has no rules, since those name its `id` columns.
fn project(global_ids: bool) -> TestProject {
    let project = TestProject::demo();
    if global_ids {
        let text = "[source.huts]\nurl = \"sqlite:huts.db\"\n\n[service]\nglobal_ids = true\n";
        std::fs::write(project.path().join("puente.toml"), text).unwrap();
    }
    project
}

/// Runs a client to its end against a service of the project.
fn drive(project: &TestProject, mut client: Command) -> String {
    let service = Service::start(puente(project.path(), &["serve", "--development", "--listen", "127.0.0.1:0"]));
    let address = format!("http://127.0.0.1:{}/graphql", service.port());
    let output = client.env("PUENTE_URL", address).env("PUENTE_KEY", OWNER_KEY).output().expect("the client runs");
    let told = String::from_utf8_lossy(&[output.stdout, output.stderr].concat()).into_owned();
    assert!(output.status.success(), "{told}");
    told
}

#[rstest]
#[case::every_must_and_should_of_graphql_over_http("audit.mjs", "graphql-http")]
#[case::normalising_cache_in_two_majors("apollo.mjs", "@apollo/client")]
#[case::small_client_with_cache("urql.mjs", "@urql/core")]
#[case::one_function("request.mjs", "graphql-request")]
#[case::two_generators_a_linter_and_a_differ("types.mjs", "compiled under strict")]
fn javascript(#[case] script: &str, #[case] said: &str) {
    let project = project(false);
    let keys = project.path().join("keys.json");
    let (code, printed, complained) = run(project.path(), &["schema", "--cache-keys"]);
    assert_eq!(code, 0, "{complained}");
    std::fs::write(&keys, printed).unwrap();
    let mut client = Command::new("node");
    client.arg(clients("javascript").join(script)).env("PUENTE_CACHE_KEYS", keys);
    let told = drive(&project, client);
    assert!(told.contains(said), "{told}");
}

#[test]
fn relay_with_global_ids() {
    let mut client = Command::new("node");
    client.arg(clients("javascript").join("relay.mjs"));
    let told = drive(&project(true), client);
    assert!(told.contains("relay-runtime"), "{told}");
}

#[test]
#[ignore = "make test-clients runs it: it installs Python packages"]
fn python() {
    let mut client = Command::new(clients("python").join(".venv/bin/python"));
    client.arg(clients("python").join("ask.py"));
    let told = drive(&project(false), client);
    assert!(told.starts_with("gql "), "{told}");
}

#[test]
#[ignore = "make test-clients runs it: it builds a crate of its own"]
fn rust() {
    let project = project(false);
    // A copy is built, with the schema beside it, so that nothing is left among the sources.
    let copy = project.path().join("client");
    let copied = Command::new("cp").arg("-r").arg(clients("rust")).arg(&copy).status().unwrap();
    assert!(copied.success());
    let (code, sdl, complained) = run(project.path(), &["schema"]);
    assert_eq!(code, 0, "{complained}");
    std::fs::write(copy.join("schema.graphql"), sdl).unwrap();
    let mut client = Command::new(env!("CARGO"));
    client.args(["run", "--quiet", "--locked", "--manifest-path"]).arg(copy.join("Cargo.toml"));
    client.env("CARGO_TARGET_DIR", clients("rust").join("../../target/clients"));
    let told = drive(&project, client);
    assert!(told.contains("graphql_client") && told.contains("cynic"), "{told}");
}
