//! What clients, caches and browsers do beside asking: extensions of their own, documents by hash, lists of requests, tags, packing,
//! HEAD and OPTIONS, requests from other web sites.

use puente_testkit::project::{OWNER_KEY, Response, TestProject, TestService};
use ring::digest;
use rstest::rstest;
use serde_json::{Value as Json, json};

const JSON: (&str, &str) = ("Content-Type", "application/json");
const ANSWER: (&str, &str) = ("Accept", "application/graphql-response+json");

fn served(edits: &str) -> (TestProject, TestService) {
    let rows: String = (1..=400).map(|n| format!("insert into huts values ({n}, 'Hut {n}');")).collect();
    let project = TestProject::of_sql(&format!("create table huts (id integer primary key, name text); {rows}"), edits);
    let service = project.serve();
    (project, service)
}

fn send(service: &TestService, method: &str, path: &str, headers: &[(&str, &str)], body: &[u8]) -> Response {
    let authorization = format!("Bearer {OWNER_KEY}");
    let mut all = vec![("Authorization", authorization.as_str())];
    all.extend_from_slice(headers);
    service.send(method, path, &all, body)
}

fn post(service: &TestService, headers: &[(&str, &str)], body: &Json) -> Response {
    let all = [&[JSON], headers].concat();
    send(service, "POST", "/graphql", &all, body.to_string().as_bytes())
}

fn by_hash(document: &str, says: Option<&str>) -> Json {
    let hash = digest::digest(&digest::SHA256, document.as_bytes());
    let hash: String = hash.as_ref().iter().map(|byte| format!("{byte:02x}")).collect();
    let mut body = json!({ "extensions": { "persistedQuery": { "version": 1, "sha256Hash": hash } } });
    if let Some(says) = says {
        body["query"] = says.into();
    }
    body
}

#[test]
fn a_clients_own_extensions_are_passed_over_and_a_slip_that_would_write_is_not() {
    let (_project, service) = served("");
    let ask =
        |extensions: Json| post(&service, &[ANSWER], &json!({ "query": "{ __typename }", "extensions": extensions }));
    let long = "n".repeat(400_000);
    let foreign = [
        json!({ "clientLibrary": { "name": "made-up", "version": "4.0" } }),
        json!({ "tracing": true, "statement": 1, "a": null }),
        json!({ long: 1 }),
    ];
    for foreign in foreign {
        assert_eq!(ask(foreign).json(), json!({ "data": { "__typename": "Query" } }));
    }
    for slip in [json!({ "rehears": true }), json!({ "Rehearse": true })] {
        let response = ask(slip);
        assert_eq!((response.status, response.code().as_str()), (400, "INVALID_REQUEST"));
        assert!(response.text().contains("did you mean `rehearse`?"), "{}", response.text());
    }
}

#[rstest]
#[case::none(&[], 200)]
#[case::anything(&[("Accept", "*/*")], 200)]
#[case::browser(&[("Accept", "text/html, */*;q=0.1")], 200)]
#[case::json(&[("Accept", "application/json")], 200)]
#[case::both(&[("Accept", "application/graphql-response+json, application/json;q=0.9")], 400)]
fn whoever_takes_anything_is_answered_with_200(#[case] accept: &[(&str, &str)], #[case] status: u16) {
    let (_project, service) = served("");
    let response = post(&service, accept, &json!({ "query": "{ hats { totalCount } }" }));
    assert_eq!((response.status, response.code().as_str()), (status, "DOCUMENT_INVALID"));
    assert_eq!(response.header("content-type").unwrap().starts_with("application/json"), status == 200);
    let malformed = send(&service, "POST", "/graphql", &[&[JSON], accept].concat(), b"{");
    assert_eq!((malformed.status, malformed.code().as_str()), (400, "INVALID_REQUEST"), "what is no request is none");
}

const NAMES: &str = "query Names { huts(first: 2) { nodes { name } } }";

#[test]
fn without_a_cache_a_hash_alone_is_answered_so_that_clients_send_the_document() {
    let (_project, service) = served("");
    let response = post(&service, &[], &by_hash(NAMES, None));
    assert_eq!((response.status, response.code().as_str()), (200, "PERSISTED_QUERY_NOT_SUPPORTED"));
    assert_eq!(response.json()["errors"][0]["message"], "PersistedQueryNotSupported");
    assert!(response.json().get("data").is_none());
    let response = post(&service, &[], &by_hash(NAMES, Some(NAMES)));
    assert_eq!(response.json()["data"]["huts"]["nodes"][1]["name"], "Hut 2");
    assert_eq!(post(&service, &[], &by_hash(NAMES, None)).code(), "PERSISTED_QUERY_NOT_SUPPORTED");
}

#[test]
fn a_document_that_was_sent_once_is_known_by_its_hash_to_its_role_alone() {
    let grants = "[service]\npersisted = true\n[role.reader.Hut.read]\nfields = [\"name\"]\n";
    let (_project, service) = served(grants);
    assert_eq!(post(&service, &[ANSWER], &by_hash(NAMES, None)).status, 400);
    assert_eq!(post(&service, &[], &by_hash(NAMES, None)).code(), "PERSISTED_QUERY_NOT_FOUND");
    assert_eq!(post(&service, &[], &by_hash(NAMES, Some(NAMES))).code(), "");
    let known = post(&service, &[], &by_hash(NAMES, None));
    assert_eq!(known.json()["data"]["huts"]["nodes"][0]["name"], "Hut 1");
    let empty = post(&service, &[], &by_hash(NAMES, Some("")));
    assert_eq!(empty.json(), known.json(), "an empty document is none");
    let mut as_reader = by_hash(NAMES, None);
    as_reader["extensions"]["as"] = "reader".into();
    assert_eq!(post(&service, &[], &as_reader).code(), "PERSISTED_QUERY_NOT_FOUND");

    let wrong = post(&service, &[], &by_hash(NAMES, Some("{ huts { totalCount } }")));
    assert_eq!(wrong.code(), "INVALID_REQUEST");
    assert!(wrong.text().contains("the hash of another document"), "{}", wrong.text());
    let invalid = "{ hats { name } }";
    assert_eq!(post(&service, &[], &by_hash(invalid, Some(invalid))).code(), "DOCUMENT_INVALID");
    assert_eq!(
        post(&service, &[], &by_hash(invalid, None)).code(),
        "PERSISTED_QUERY_NOT_FOUND",
        "only what fits is kept"
    );
    for said in ["é", "+0"]
        .map(|pair| json!({ "version": 1, "sha256Hash": pair.repeat(32) }))
        .into_iter()
        .chain([json!(1), json!({ "version": 2, "sha256Hash": "00" })])
    {
        let response = post(&service, &[], &json!({ "query": NAMES, "extensions": { "persistedQuery": said } }));
        assert_eq!((response.status, response.code().as_str()), (400, "INVALID_REQUEST"));
        assert!(response.text().contains("64 hexadecimal digits"), "{}", response.text());
    }
}

#[test]
fn a_mutation_that_is_known_by_its_hash_is_not_run_by_get() {
    let (_project, service) = served("[service]\npersisted = true\n");
    let change = "mutation { deleteHut(key: { id: 1 }) { count } }";
    let mut rehearsed = by_hash(change, Some(change));
    rehearsed["extensions"]["rehearse"] = true.into();
    assert_eq!(post(&service, &[], &rehearsed).json()["data"]["deleteHut"]["count"], 1);
    let extensions = by_hash(change, None)["extensions"].to_string();
    let path: String = url::form_urlencoded::Serializer::new(String::from("/graphql?"))
        .append_pair("extensions", &extensions)
        .finish();
    for method in ["GET", "HEAD"] {
        let response = send(&service, method, &path, &[ANSWER], b"");
        assert_eq!((response.status, response.header("allow")), (405, Some("POST")), "{method}");
    }
    assert_eq!(service.data("{ huts { totalCount } }")["huts"]["totalCount"], 400);
}

#[test]
fn a_list_of_requests_has_one_budget() {
    let (_project, service) = served("[limits]\nbatch = 3\ncost = 1000\nstatements = 4\n");
    let one = json!({ "query": NAMES });
    let response = post(&service, &[], &json!([one, { "query": 7 }, { "query": "{ huts { totalCount } }" }]));
    let answers = response.json();
    assert_eq!(response.status, 200);
    assert_eq!(answers[0]["data"]["huts"]["nodes"][0]["name"], "Hut 1");
    assert_eq!(answers[1]["errors"][0]["extensions"]["code"], "INVALID_REQUEST");
    assert_eq!(answers[2]["data"]["huts"]["totalCount"], 400);

    let costly = json!({ "query": "{ huts(first: 450) { nodes { id } } }" });
    let answers = post(&service, &[], &json!([costly, costly, costly])).json();
    assert_eq!(answers[1]["data"]["huts"]["nodes"].as_array().map(Vec::len), Some(400));
    assert_eq!(answers[2]["errors"][0]["extensions"]["code"], "TOO_COSTLY", "the budget was used up");
    for body in [json!([]), json!([one, one, one, one])] {
        let response = post(&service, &[], &body);
        assert_eq!((response.status, response.code().as_str()), (400, "INVALID_REQUEST"));
        assert!(response.text().contains("from 1 to 3 requests"), "{}", response.text());
    }
}

#[test]
fn a_list_of_changes_has_one_budget_too() {
    let (_project, service) = served("[limits]\nbatch = 3\ncost = 1500\n");
    let change = json!({
        "query": "mutation { updateHuts(filter: { id: { le: 300 } }, set: { name: \"n\" }) { count nodes { id } } }",
        "extensions": { "rehearse": true },
    });
    let change = json!({ "query": change["query"].as_str().unwrap().replace("le:", "lte:"), "extensions": change["extensions"] });
    let answers = post(&service, &[], &json!([change, change])).json();
    assert_eq!(answers[0]["data"]["updateHuts"]["count"], 300, "{answers}");
    assert_eq!(answers[1]["errors"][0]["extensions"]["code"], "TOO_COSTLY");
}

#[test]
fn an_answer_by_get_has_a_tag_of_who_is_told_what() {
    let grants = "[role.reader.Hut.read]\nfields = [\"name\"]\n";
    let (project, service) = served(grants);
    let path = |extensions: &str| {
        let mut pairs = url::form_urlencoded::Serializer::new(String::from("/graphql?"));
        pairs.append_pair("query", NAMES).append_pair("extensions", extensions).finish()
    };
    let get = |path: &str, known: Option<&str>| {
        let headers: Vec<(&str, &str)> = known.map(|known| ("If-None-Match", known)).into_iter().collect();
        send(&service, "GET", path, &headers, b"")
    };
    let first = get(&path(""), None);
    let tag = first.header("etag").expect("a tag").to_owned();
    assert_eq!(first.header("cache-control"), Some("private, no-cache"));
    let vary: Vec<&str> =
        first.headers.iter().filter(|(name, _)| name == "vary").map(|(_, value)| value.as_str()).collect();
    assert!(vary.join(", ").contains("Authorization"), "{vary:?}");
    let again = get(&path(""), Some(&format!("W/\"other\", {tag}")));
    assert_eq!((again.status, again.body.len(), again.header("etag")), (304, 0, Some(tag.as_str())));
    assert_eq!(get(&path(""), Some("*")).status, 304);
    let as_reader = get(&path("{\"as\": {\"role\": \"reader\", \"claims\": {\"sub\": \"7\"}}}"), Some(&tag));
    assert_eq!((as_reader.status, as_reader.json()), (200, first.json()), "the same rows, told to another");
    let head = send(&service, "HEAD", &path(""), &[], b"");
    assert_eq!((head.status, head.body.len(), head.header("etag")), (200, 0, Some(tag.as_str())));
    let connection = rusqlite::Connection::open(project.database()).unwrap();
    connection.execute("update huts set name = 'New' where id = 1", ()).unwrap();
    assert_eq!(get(&path(""), Some(&tag)).status, 200, "the rows changed");
    assert_eq!(get("/graphql?query=%7Bhats%7D", None).header("etag"), None, "errors are not kept");
}

#[test]
fn every_answer_says_whether_it_may_be_kept() {
    let (_project, service) = served("");
    for (method, path) in
        [("GET", "/health/live"), ("GET", "/"), ("GET", "/metrics"), ("GET", "/nowhere"), ("POST", "/graphql")]
    {
        let response = send(&service, method, path, &[JSON], b"{\"query\": \"{ __typename }\"}");
        assert_eq!(response.header("cache-control"), Some("no-store"), "{path}");
    }
}

#[rstest]
#[case::zstd("gzip, deflate, br, zstd", "zstd", &[0x28, 0xb5, 0x2f, 0xfd])]
#[case::gzip("gzip", "gzip", &[0x1f, 0x8b])]
#[case::brotli("br;q=1.0, gzip;q=0.5", "br", &[])]
fn answers_are_packed_as_the_client_takes_them(#[case] takes: &str, #[case] packed: &str, #[case] begins: &[u8]) {
    let (_project, service) = served("");
    let large = post(
        &service,
        &[("Accept-Encoding", takes)],
        &json!({ "query": "{ huts(first: 400) { nodes { id name } } }" }),
    );
    assert_eq!(large.header("content-encoding"), Some(packed));
    assert!(large.body.starts_with(begins) && large.body.len() < 6_000, "{} bytes", large.body.len());
    let little = post(&service, &[("Accept-Encoding", takes)], &json!({ "query": NAMES }));
    assert_eq!((little.header("content-encoding"), little.json().is_object()), (None, true));
    let plain = post(&service, &[], &json!({ "query": "{ huts(first: 400) { nodes { id name } } }" }));
    assert_eq!(plain.header("content-encoding"), None);
    assert!(plain.header("vary").is_some_and(|vary| vary.eq_ignore_ascii_case("accept-encoding")));
}

#[test]
fn methods_are_told_and_the_path_may_end_in_a_slash() {
    let (_project, service) = served("");
    let options = send(&service, "OPTIONS", "/graphql", &[], b"");
    assert_eq!((options.status, options.header("allow")), (204, Some("GET, HEAD, POST, OPTIONS")));
    assert_eq!(send(&service, "PUT", "/graphql", &[], b"").header("allow"), Some("GET, HEAD, POST, OPTIONS"));
    for path in ["/health/live", "/health/ready", "/", "/metrics"] {
        let head = send(&service, "HEAD", path, &[], b"");
        assert_eq!((head.status, head.body.len()), (200, 0), "{path}");
    }
    let slash = send(&service, "POST", "/graphql/", &[JSON], b"{\"query\": \"{ __typename }\"}");
    assert_eq!(slash.json(), json!({ "data": { "__typename": "Query" } }));
}

#[test]
fn a_listed_origin_may_send_the_headers_of_its_client_and_read_ours() {
    let (_project, service) = served("[service]\norigins = [\"https://app.huts.example\"]\n");
    let origin = ("Origin", "https://app.huts.example");
    let wanted = "authorization,content-type,x-client-name";
    let asks = [origin, ("Access-Control-Request-Method", "POST"), ("Access-Control-Request-Headers", wanted)];
    let preflight = service.send("OPTIONS", "/graphql", &asks, b"");
    assert_eq!((preflight.status, preflight.header("access-control-allow-headers")), (204, Some(wanted)));
    assert_eq!(preflight.header("access-control-allow-methods"), Some("GET, HEAD, POST"));
    let foreign = [("Origin", "https://evil.example"), asks[1], asks[2]];
    let refused = service.send("OPTIONS", "/graphql", &foreign, b"");
    assert_eq!((refused.status, refused.header("access-control-allow-headers")), (403, None));

    let large = json!({ "query": "{ huts(first: 400) { nodes { id name } } }" });
    let response = post(&service, &[origin, ("Accept-Encoding", "gzip")], &large);
    let exposed = response.header("access-control-expose-headers").unwrap_or_default();
    assert!(exposed.contains("X-Request-Id") && exposed.contains("Retry-After"), "{exposed}");
    let vary: Vec<String> =
        response.headers.iter().filter(|(name, _)| name == "vary").map(|(_, value)| value.to_lowercase()).collect();
    assert!(vary.contains(&"origin".to_owned()) && vary.contains(&"accept-encoding".to_owned()), "{vary:?}");
}
