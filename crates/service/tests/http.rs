//! GraphQL over HTTP, over a socket: media types, statuses, who is let in, and what browsers may do.

use puente_service::NewKey;
use puente_testkit::project::{OWNER_KEY, Response, TestProject, TestService};
use serde_json::json;

const JSON: (&str, &str) = ("Content-Type", "application/json");

fn huts() -> (TestProject, TestService) {
    let project = TestProject::huts();
    let service = project.serve();
    (project, service)
}

fn authorization() -> String {
    format!("Bearer {OWNER_KEY}")
}

fn post(service: &TestService, headers: &[(&str, &str)], body: &str) -> Response {
    let authorization = authorization();
    let mut all = vec![("Authorization", authorization.as_str())];
    if !headers.iter().any(|(name, _)| *name == "Accept") {
        all.push(("Accept", "application/graphql-response+json"));
    }
    all.extend_from_slice(headers);
    service.send("POST", "/graphql", &all, body.as_bytes())
}

#[test]
fn the_media_type_decides_the_status_of_a_refusal() {
    let (_project, service) = huts();
    let wrong = r#"{"query": "{ trials { nodes { name } } }"}"#;
    let response = post(&service, &[JSON, ("Accept", "application/graphql-response+json")], wrong);
    assert_eq!((response.status, response.code().as_str()), (400, "DOCUMENT_INVALID"));
    assert!(response.header("content-type").unwrap().starts_with("application/graphql-response+json"));
    assert!(response.json().get("data").is_none());
    assert!(response.text().contains("did you mean `trails`?"), "{}", response.text());
    let response = post(&service, &[JSON, ("Accept", "application/json")], wrong);
    assert_eq!((response.status, response.code().as_str()), (200, "DOCUMENT_INVALID"));
    let response = post(&service, &[JSON, ("Accept", "text/html")], wrong);
    assert_eq!(response.status, 406);
}

#[test]
fn get_asks_and_refuses_to_change() {
    let (_project, service) = huts();
    let authorization = authorization();
    let headers = [("Authorization", authorization.as_str())];
    let asked = service.send(
        "GET",
        "/graphql?query=query($n:Int)%7Bhuts(first:$n)%7Bnodes%7Bid%7D%7D%7D&variables=%7B%22n%22:2%7D",
        &headers,
        b"",
    );
    assert_eq!(asked.json(), json!({"data": {"huts": {"nodes": [{"id": 1}, {"id": 2}]}}}));
    let change = service.send("GET", "/graphql?query=mutation%7Bx%7D", &headers, b"");
    assert_eq!((change.status, change.header("allow")), (405, Some("POST")));
    assert_eq!(service.send("PUT", "/graphql", &headers, b"").status, 405);
}

#[test]
fn bodies_that_are_no_request_are_refused_with_the_reason() {
    let (_project, service) = huts();
    type Headers<'a> = &'a [(&'a str, &'a str)];
    let cases: &[(Headers<'_>, &str, u16, &str)] = &[
        (&[JSON], "{", 400, "not a GraphQL request"),
        (&[JSON], "[]", 400, "one request at a time"),
        (&[JSON], "{}", 400, "lacks `query`"),
        (&[JSON], r#"{"query": "{__typename}", "variables": [1]}"#, 400, "not a GraphQL request"),
        (&[("Content-Type", "text/plain")], r#"{"query": "{__typename}"}"#, 415, "not JSON"),
        (&[], r#"{"query": "{__typename}"}"#, 415, "not JSON"),
    ];
    for (headers, body, status, text) in cases {
        let response = post(&service, headers, body);
        assert_eq!(response.status, *status, "{body}: {}", response.text());
        assert!(response.text().contains(text), "{body}: {}", response.text());
    }
    let huge = post(&service, &[JSON], &format!(r#"{{"query": "{}"}}"#, "x".repeat(10 << 20)));
    assert_eq!(huge.status, 413, "{}", huge.text());
    assert_eq!(service.ask("{ __typename }").status, 200, "the service is still up");
}

#[test]
fn only_a_key_in_force_is_let_in() {
    let project = TestProject::of_sql("create table huts (id integer primary key)", "");
    let service = project.serve();
    let body = br#"{"query": "{ __typename }"}"#;
    let none = service.send("POST", "/graphql", &[JSON], body);
    assert_eq!((none.status, none.code().as_str()), (401, "UNAUTHENTICATED"));
    assert_eq!(none.header("www-authenticate"), Some("Bearer"));
    for wrong in ["Bearer wrong", "Basic dXNlcg==", "Bearer", ""] {
        let response = service.send("POST", "/graphql", &[JSON, ("Authorization", wrong)], body);
        assert_eq!(response.status, 401, "{wrong}");
    }
    let access_keys = puente_service::AccessKeys::open(&project.path().join(".puente/records.db")).unwrap();
    let new = NewKey { name: "test", role: "owner", ..NewKey::default() };
    let key = format!("Bearer {}", access_keys.create_key(&new).unwrap());
    assert_eq!(service.send("POST", "/graphql", &[JSON, ("Authorization", &key)], body).status, 200);
    access_keys.revoke_key("test").unwrap();
    std::thread::sleep(std::time::Duration::from_millis(1_200));
    assert_eq!(service.send("POST", "/graphql", &[JSON, ("Authorization", &key)], body).status, 401);
    assert_eq!(service.send("GET", "/metrics", &[], b"").status, 401);
}

#[test]
fn unlisted_hosts_and_foreign_origins_are_turned_away() {
    let project = TestProject::of_sql(
        "create table huts (id integer primary key)",
        "[service]\norigins = [\"https://app.huts.example\"]\nhosts = [\"api.huts.example\"]\n",
    );
    let service = project.serve();
    let authorization = authorization();
    let send = |headers: &[(&str, &str)]| {
        let mut all = vec![JSON, ("Authorization", authorization.as_str())];
        all.extend_from_slice(headers);
        service.send("POST", "/graphql", &all, br#"{"query": "{ __typename }"}"#)
    };
    assert_eq!(send(&[("Host", "evil.example")]).status, 421);
    assert_eq!(send(&[("Host", "api.huts.example")]).status, 200);
    assert_eq!(send(&[("Origin", "https://evil.example")]).status, 403);
    let own = format!("http://{}", service.address);
    let response = send(&[("Origin", &own)]);
    assert_eq!((response.status, response.header("access-control-allow-origin")), (200, None));
    let response = send(&[("Origin", "https://app.huts.example")]);
    assert_eq!(response.header("access-control-allow-origin"), Some("https://app.huts.example"));
    assert_eq!(service.send("OPTIONS", "/graphql", &[("Origin", "https://evil.example")], b"").status, 403);
}

#[test]
fn health_tells_whether_the_source_answers_and_asks_say_so_too() {
    let (project, service) = huts();
    assert_eq!(service.send("GET", "/health/live", &[("Host", "10.0.0.1")], b"").status, 200);
    assert_eq!(service.send("GET", "/health/ready", &[], b"").status, 200);
    let file = project.database();
    let kept = std::fs::read(&file).unwrap();
    assert_eq!(service.ask("{ huts { totalCount } }").status, 200);
    std::fs::remove_file(&file).unwrap();
    assert_eq!(service.send("GET", "/health/ready", &[], b"").status, 503);
    std::thread::sleep(std::time::Duration::from_millis(1_200));
    for _ in 0..4 {
        let response = service.ask("{ huts { totalCount } }");
        assert_eq!((response.status, response.code().as_str()), (503, "SOURCE_UNAVAILABLE"));
    }
    std::fs::write(
        &file,
        b"this is not a database, it is a text of some length that goes on for a while, for 100 bytes and more...",
    )
    .unwrap();
    assert_eq!(service.ask("{ huts { totalCount } }").code(), "SOURCE_UNAVAILABLE");
    std::fs::write(&file, kept).unwrap();
    std::thread::sleep(std::time::Duration::from_millis(1_200));
    assert_eq!(service.ask("{ huts { totalCount } }").status, 200, "service resumes by itself");
}

#[test]
fn tables_that_changed_are_a_drift_and_not_a_crash() {
    let project = TestProject::of_sql(
        "create table huts (id integer primary key, name text); insert into huts values (1, 'a')",
        "",
    );
    let service = project.serve();
    assert_eq!(service.ask("{ huts { nodes { name } } }").status, 200);
    let connection = rusqlite::Connection::open(project.database()).unwrap();
    connection.execute_batch("alter table huts rename column name to title").unwrap();
    let response = service.ask("{ huts { nodes { name } } }");
    assert_eq!((response.status, response.code().as_str()), (503, "SOURCE_DRIFTED"));
    assert!(!response.text().contains("no such column"), "the database's text stays in the log");
}

#[test]
fn the_console_comes_with_a_strict_policy_and_a_fresh_nonce() {
    let (_project, service) = huts();
    let page = service.send("GET", "/", &[], b"");
    assert_eq!(page.status, 200);
    let policy = page.header("content-security-policy").unwrap().to_owned();
    assert!(policy.contains("default-src 'none'") && policy.contains("frame-ancestors 'none'"));
    let nonce = policy.split("'nonce-").nth(1).and_then(|rest| rest.split('\'').next()).unwrap().to_owned();
    assert!(page.text().contains(&format!("content=\"{nonce}\"")));
    let again = service.send("GET", "/", &[], b"");
    assert_ne!(again.header("content-security-policy"), Some(policy.as_str()));
    assert_eq!(page.header("x-content-type-options"), Some("nosniff"));
    assert_eq!(page.header("referrer-policy"), Some("no-referrer"));
    assert_eq!(service.send("GET", "/assets/../index.html", &[], b"").status, 404);
    assert_eq!(service.send("GET", "/assets/none.js", &[], b"").status, 404);
    assert_eq!(service.send("GET", "/console", &[], b"").status, 404, "it has no path of its own");
}
