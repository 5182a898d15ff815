//! The files of a project: several of them as one, what editors are told of them, and commands that need no secret.

mod process;

use process::{puente, run, told};
use puente_testkit::project::TestProject;
use rstest::rstest;
use serde_json::{Value as Json, json};

fn write(project: &TestProject, name: &str, text: &str) {
    let file = project.path().join(name);
    std::fs::create_dir_all(file.parent().unwrap()).unwrap();
    std::fs::write(file, text).unwrap();
}

const TABLES: &str =
    "create table regions (id integer primary key); create table huts (id integer primary key, name text);
create table nights (hut_id integer not null, night integer not null, primary key (hut_id, night));";

/// A project without anything but its source.
fn plain() -> TestProject {
    TestProject::of_sql(TABLES, "")
}

fn main_file(project: &TestProject) -> String {
    std::fs::read_to_string(project.path().join("puente.toml")).unwrap()
}

#[test]
fn a_project_is_split_over_files_and_told_of_as_one() {
    let project = plain();
    let main = main_file(&project);
    write(&project, "puente.toml", &format!("include = [\"roles/*.toml\", \"types.toml\", \"*.toml\"]\n{main}"));
    write(&project, "types.toml", "[[type]]\ntable = \"huts\"\nname = \"Lodge\"\n");
    write(&project, "roles/guest.toml", "[role.guest.Lodge.read]\nfields = [\"id\", \"name\"]\n");
    write(
        &project,
        "roles/clerk.toml",
        "[role.clerk]\ninclude = [\"guest\"]\n[role.guest.Region.read]\nfields = [\"id\"]\n",
    );
    let (code, out, err) = run(project.path(), &["schema", "--as", "guest"]);
    assert_eq!(code, 0, "{out}{err}");
    assert!(out.contains("type Lodge {") && out.contains("type Region {"), "{out}");
    assert_eq!(run(project.path(), &["schema", "--as", "clerk"]).1, out, "a role is made of several files");

    write(&project, "roles/guest.toml", "\n[role.guest.Lodge.read]\nfields = [\"id\", \"nam\"]\n");
    write(&project, "types.toml", "[[type]]\ntable = \"huts\"\nname = \"Lodge\"\ncolour = 7\n");
    let (code, out, _) = run(project.path(), &["check", "--offline"]);
    assert_eq!(code, 2);
    assert!(out.contains("types.toml:4:1: unknown key `colour`"), "{out}");
    write(&project, "types.toml", "[[type]]\ntable = \"huts\"\nname = \"Lodge\"\n");
    let (_, out, _) = run(project.path(), &["check", "--offline", "--json"]);
    let findings: Json = serde_json::from_str(&out).unwrap();
    let text = findings["findings"][0]["text"].as_str().unwrap();
    assert!(text.starts_with("roles/guest.toml:2:") && text.contains("did you mean `name`?"), "{text}");
}

#[rstest]
#[case::twice(
    "include = [\"b.toml\"]\n[limits]\npage = 9\n",
    "[limits]\npage = 7\n",
    "b.toml:2:1: `page` is said in another file, too: puente.toml line 3"
)]
#[case::two_types(
    "include = [\"b.toml\"]\n[[type]]\ntable = \"huts\"\n",
    "\n[[type]]\ntable = \"huts\"\n",
    "b.toml:2:1: a second `[[type]]` for table `huts`"
)]
#[case::no_toml("include = [\"b.toml\"]\n", "[role\n", "b.toml:1:")]
#[case::outside("include = [\"../b.toml\"]\n", "", "`../b.toml` is not a file of this folder")]
#[case::another_kind("include = [\"b.json\"]\n", "", "ends with `.toml`")]
#[case::not_there("include = [\"c.toml\"]\n", "", "puente.toml:1:1: `include` names `c.toml`, which is not there")]
fn what_does_not_fit_together_is_told_with_its_file(#[case] head: &str, #[case] other: &str, #[case] expected: &str) {
    let project = plain();
    let main = main_file(&project);
    // What is no table comes first.
    write(&project, "puente.toml", &format!("{head}{main}"));
    write(&project, "b.toml", other);
    let (code, out, _) = run(project.path(), &["check", "--offline"]);
    assert_eq!(code, 2, "{out}");
    assert!(out.contains(expected), "{out}");
}

const SECRETS: &str = "
[service]
secret = \"${PUENTE_TEST_SECRET}\"
[identity.tokens]
issuer = \"https://id.example\"
audience = \"huts\"
algorithm = \"HS256\"
key = \"${PUENTE_TEST_TOKEN_KEY}\"
[role.guest.Hut.read]
fields = [\"id\"]
";

#[test]
fn a_build_needs_no_secret_and_a_service_does() {
    let project = plain();
    let main = main_file(&project);
    let url = main.lines().find(|line| line.starts_with("url")).unwrap().to_owned();
    write(&project, "puente.toml", &format!("{}{SECRETS}", main.replace(&url, "url = \"${PUENTE_TEST_DATABASE}\"")));
    for arguments in [
        &["schema"][..],
        &["schema", "--as", "guest"],
        &["schema", "--cache-keys"],
        &["check", "--offline"],
        &["access"],
        &["access", "Hut"],
        &["access", "Hut.id", "--as", "guest"],
        &["key", "list"],
        &["key", "create", "app", "--as", "guest"],
    ] {
        let (code, out, err) = run(project.path(), arguments);
        assert_eq!(code, 0, "{arguments:?}: {out}{err}");
        assert!(!format!("{out}{err}").contains("not set"), "{arguments:?}: {out}{err}");
    }
    for arguments in
        [&["check"][..], &["serve"], &["ask", "{ __typename }"], &["survey"], &["access", "Hut", "--as", "guest"]]
    {
        let (code, out, err) = run(project.path(), arguments);
        assert_eq!(code, 2, "{arguments:?}: {out}{err}");
        let all = format!("{out}{err}");
        for name in ["PUENTE_TEST_DATABASE", "PUENTE_TEST_SECRET", "PUENTE_TEST_TOKEN_KEY"] {
            assert!(all.contains(&format!("`{name}` is not set; set it, or write a line `{name}=…`")), "{all}");
        }
    }
}

#[test]
fn keys_that_cannot_be_used_are_found_before_a_token_comes() {
    let project = plain();
    let main = main_file(&project);
    let tokens = |key: &str| format!("{main}\n[identity.tokens]\nissuer = \"i\"\naudience = \"a\"\n{key}\n");
    write(
        &project,
        "puente.toml",
        &tokens("algorithm = \"RS256\"\nkey = \"-----BEGIN PUBLIC KEY-----\\nnonsense\\n-----END PUBLIC KEY-----\""),
    );
    let (code, out, _) = run(project.path(), &["check", "--offline"]);
    assert_eq!(code, 1, "{out}");
    assert!(out.contains("identity"), "{out}");
    write(&project, "puente.toml", &tokens("key_set = \"http://127.0.0.1:1/keys.json\""));
    assert_eq!(run(project.path(), &["check"]).0, 0, "it is asked for online alone");
    let (code, out, _) = run(project.path(), &["check", "--online"]);
    assert_eq!(code, 1, "{out}");
    assert!(out.contains("the key set at http://127.0.0.1:1/keys.json"), "{out}");
    let (code, _, err) = told(&puente(project.path(), &["check", "--online", "--offline"]).output().unwrap());
    assert_eq!(code, 2, "{err}");
}

fn schema_of(format: &str) -> Json {
    let folder = puente_testkit::leftovers::folder();
    let (code, out, err) = run(folder.path(), &["schema", "--format", format]);
    assert_eq!(code, 0, "needs no project: {err}");
    serde_json::from_str(&out).unwrap()
}

#[test]
fn editors_are_told_what_the_files_may_say() {
    let project = TestProject::demo();
    let schema = jsonschema::validator_for(&schema_of("project-schema")).unwrap();
    let file: toml_edit::DocumentMut = main_file(&project).parse().unwrap();
    let file: Json = toml_edit::de::from_document(file).unwrap();
    let wrong: Vec<String> = schema.iter_errors(&file).map(|error| error.to_string()).collect();
    assert_eq!(wrong, Vec::<String>::new());
    for (place, value) in [
        ("/limits", json!({ "pages": 7 })),
        ("/limits", json!({ "page": "many" })),
        ("/type", json!([{ "name": "Hut" }])),
        ("/source", json!({ "main": {} })),
        ("/role/hiker", json!({ "Hut": { "reed": {} } })),
    ] {
        let mut broken = file.clone();
        match broken.pointer_mut(place) {
            Some(found) => *found = value.clone(),
            None => broken[place.trim_start_matches('/')] = value.clone(),
        }
        assert!(!schema.is_valid(&broken), "{place} = {value}");
    }
    let schema = jsonschema::validator_for(&schema_of("survey-schema")).unwrap();
    let surveys: Vec<_> =
        std::fs::read_dir(project.path().join("survey")).unwrap().map(|entry| entry.unwrap().path()).collect();
    assert!(!surveys.is_empty());
    for survey in surveys {
        let mut survey: Json = serde_json::from_str(&std::fs::read_to_string(survey).unwrap()).unwrap();
        let wrong: Vec<String> = schema.iter_errors(&survey).map(|error| error.to_string()).collect();
        assert_eq!(wrong, Vec::<String>::new());
        survey["tables"][0]["columns"][0]["colour"] = json!("red");
        assert!(!schema.is_valid(&survey), "the reader takes no unknown member, either");
    }
}

#[test]
fn caches_are_told_what_tells_rows_apart() {
    let project = plain();
    let keys = |project: &TestProject, arguments: &[&str]| -> Json {
        let (code, out, err) = run(project.path(), &[&["schema", "--cache-keys"], arguments].concat());
        assert_eq!(code, 0, "{err}");
        serde_json::from_str(&out).unwrap()
    };
    let own = keys(&project, &[]);
    assert_eq!((&own["Hut"], &own["HutConnection"]), (&json!(["id"]), &Json::Null));
    assert_eq!(own["Night"].as_array().map(Vec::len), Some(2), "{own}");
    assert!(own.get("Query").is_none() && own.get("__Type").is_none(), "{own}");
    let main = main_file(&project);
    write(&project, "puente.toml", &format!("{main}\n[role.guest.Hut.read]\nfields = [\"name\"]\n"));
    assert_eq!(keys(&project, &["--as", "guest"])["Hut"], Json::Null, "a key that is not granted is none");
    write(&project, "puente.toml", &format!("{main}\n[service]\nglobal_ids = true\n"));
    assert_eq!(keys(&project, &[])["Night"], json!(["id"]));
}

#[test]
fn a_key_is_printed_with_the_lines_that_make_it_known() {
    let project = plain();
    let main = main_file(&project);
    write(&project, "puente.toml", &format!("{main}\n[role.guest.Hut.read]\nfields = [\"id\"]\n"));
    let arguments = [
        "key",
        "create",
        "app",
        "--as",
        "guest",
        "--claim",
        "sub=7",
        "--claim",
        "huts=[1,2]",
        "--expires",
        "30d",
        "--print",
    ];
    let (code, out, err) = run(project.path(), &arguments);
    assert_eq!(code, 0, "{err}");
    let (key, lines) = out.split_once("\n\n").expect("the key, then the lines");
    assert!(key.starts_with("puente_") && !lines.contains(key), "{out}");
    assert!(!project.path().join(".puente/records.db").exists(), "nothing is kept");
    write(&project, "keys.toml", lines);
    write(&project, "puente.toml", &format!("include = [\"keys.toml\"]\n{}", main_file(&project)));
    let (code, out, err) = run(project.path(), &["key", "list"]);
    assert_eq!(code, 0, "{out}{err}");
    for told in ["app", "guest", "\"huts\":[1,2]", "in puente.toml"] {
        assert!(out.contains(told), "{told} in {out}");
    }
    let service = project.serve();
    let authorization = format!("Bearer {key}");
    let headers = [("Authorization", authorization.as_str()), ("Content-Type", "application/json")];
    let answer = service.send("POST", "/graphql", &headers, br#"{"query": "{ huts { nodes { id } } }"}"#);
    assert_eq!((answer.status, answer.json()["data"]["huts"]["nodes"].is_array()), (200, true));

    let (code, _, err) = run(project.path(), &["key", "create", "app"]);
    assert_eq!(code, 2);
    assert!(err.contains("the project file has a key named `app`; choose another name"), "{err}");
    let (code, out, _) = run(project.path(), &["key", "create", "scraper", "--metrics", "--print", "--json"]);
    let told: Json = serde_json::from_str(&out).unwrap();
    assert_eq!((code, &told["role"], &told["metrics"]), (0, &Json::Null, &json!(true)));
    assert_eq!(run(project.path(), &["key", "create", "x", "--metrics", "--as", "guest"]).0, 2);
}
