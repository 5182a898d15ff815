//! Who is asking, over a socket: tokens of every algorithm, forged and expired ones, key sets that rotate, access keys,
//! nobody, and asking as another. The keys in `data/` are made up for these tests.

use std::io::{Read as _, Write as _};
use std::net::TcpListener;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{SystemTime, UNIX_EPOCH};

use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use jsonwebtoken::{Algorithm, EncodingKey, Header};
use puente_service::{AccessKeys, DevelopmentKey, NewKey};
use puente_testkit::project::{OWNER_KEY, Response, TestProject, TestService};
use rstest::rstest;
use serde_json::{Value as Json, json};

const SECRET: &str = "a secret of the tests, longer than 32 bytes";
const RSA: &str = include_str!("data/rsa.pem");
const RSA_PUBLIC: &str = include_str!("data/rsa.public.pem");
const EC: &str = include_str!("data/ec.pem");
const EC_PUBLIC: &str = include_str!("data/ec.public.pem");
const EC384: &str = include_str!("data/ec384.pem");
const EC384_PUBLIC: &str = include_str!("data/ec384.public.pem");
const ED: &str = include_str!("data/ed.pem");
const ED_PUBLIC: &str = include_str!("data/ed.public.pem");

const TABLES: &str = "
create table notes (id integer primary key, owner_id integer not null, title text);
insert into notes values (1, 7, 'mine'), (2, 8, 'hers'), (3, 7, 'mine too');";

const ROLES: &str = "
[role.member.Note.read]
fields = [\"id\", \"title\"]
rows = \"row.ownerId == claims.sub\"
[role.reader.Note.read]
fields = [\"id\"]
";

fn project(identity: &str) -> TestProject {
    TestProject::of_sql(TABLES, &format!("{ROLES}{identity}"))
}

fn tokens(lines: &str) -> String {
    format!("[identity.tokens]\nissuer = \"https://login.example\"\naudience = \"notes\"\n{lines}\n")
}

fn with_key(algorithm: &str, key: &str) -> String {
    tokens(&format!("algorithm = \"{algorithm}\"\nkey = '''{key}'''"))
}

fn now() -> u64 {
    SystemTime::now().duration_since(UNIX_EPOCH).unwrap().as_secs()
}

fn claims() -> Json {
    json!({ "iss": "https://login.example", "aud": "notes", "exp": now() + 600, "sub": "7", "roles": ["member", "reader"] })
}

fn sign(algorithm: Algorithm, key: &EncodingKey, claims: &Json) -> String {
    jsonwebtoken::encode(&Header::new(algorithm), claims, key).unwrap()
}

fn by_secret(claims: &Json) -> String {
    sign(Algorithm::HS256, &EncodingKey::from_secret(SECRET.as_bytes()), claims)
}

/// Asks for the ids of all notes, and who asks says so.
fn ask(service: &TestService, credential: Option<&str>, extensions: Json) -> Response {
    let body = json!({ "query": "{ notes { nodes { id } } }", "extensions": extensions }).to_string();
    let authorization = credential.map(|credential| format!("Bearer {credential}"));
    let mut headers = vec![("Content-Type", "application/json"), ("Accept", "application/graphql-response+json")];
    headers.extend(authorization.as_deref().map(|value| ("Authorization", value)));
    service.send("POST", "/graphql", &headers, body.as_bytes())
}

fn ids(response: &Response) -> Vec<i64> {
    let answer = response.json();
    let nodes = answer["data"]["notes"]["nodes"].as_array().unwrap_or_else(|| panic!("{answer}"));
    nodes.iter().map(|node| node["id"].as_i64().unwrap()).collect()
}

#[rstest]
#[case::hs256("HS256", SECRET, Algorithm::HS256, EncodingKey::from_secret(SECRET.as_bytes()))]
#[case::hs384("HS384", SECRET, Algorithm::HS384, EncodingKey::from_secret(SECRET.as_bytes()))]
#[case::hs512("HS512", SECRET, Algorithm::HS512, EncodingKey::from_secret(SECRET.as_bytes()))]
#[case::rs256("RS256", RSA_PUBLIC, Algorithm::RS256, EncodingKey::from_rsa_pem(RSA.as_bytes()).unwrap())]
#[case::rs512("RS512", RSA_PUBLIC, Algorithm::RS512, EncodingKey::from_rsa_pem(RSA.as_bytes()).unwrap())]
#[case::ps256("PS256", RSA_PUBLIC, Algorithm::PS256, EncodingKey::from_rsa_pem(RSA.as_bytes()).unwrap())]
#[case::es256("ES256", EC_PUBLIC, Algorithm::ES256, EncodingKey::from_ec_pem(EC.as_bytes()).unwrap())]
#[case::es384("ES384", EC384_PUBLIC, Algorithm::ES384, EncodingKey::from_ec_pem(EC384.as_bytes()).unwrap())]
#[case::eddsa("EdDSA", ED_PUBLIC, Algorithm::EdDSA, EncodingKey::from_ed_pem(ED.as_bytes()).unwrap())]
fn tokens_of_every_algorithm_say_who_asks(
    #[case] name: &str,
    #[case] public: &str,
    #[case] algorithm: Algorithm,
    #[case] private: EncodingKey,
) {
    let project = project(&with_key(name, public));
    let service = project.serve();
    let token = sign(algorithm, &private, &claims());
    assert_eq!(ids(&ask(&service, Some(&token), json!({}))), [1, 3]);
    let (head, signature) = token.rsplit_once('.').unwrap();
    let mut bytes = URL_SAFE_NO_PAD.decode(signature).unwrap();
    bytes[10] ^= 1;
    let forged = format!("{head}.{}", URL_SAFE_NO_PAD.encode(bytes));
    let response = ask(&service, Some(&forged), json!({}));
    assert_eq!((response.status, response.code().as_str()), (401, "UNAUTHENTICATED"));
    assert!(response.text().contains("signature"), "{}", response.text());
    assert_eq!(response.header("www-authenticate"), Some("Bearer error=\"invalid_token\""));
}

#[rstest]
#[case::expired(json!({ "exp": 1_000 }), "expired")]
#[case::not_yet(json!({ "nbf": 99_999_999_999_u64 }), "not valid yet")]
#[case::of_another_issuer(json!({ "iss": "https://evil.example" }), "another issuer")]
#[case::of_a_list_of_issuers(json!({ "iss": ["https://evil.example", "https://login.example"] }), "`iss`")]
#[case::of_a_list_of_ours(json!({ "iss": ["https://login.example"] }), "`iss`")]
#[case::of_no_issuer(json!({ "iss": null }), "`iss`")]
#[case::until_long_after_us(json!({ "exp": 253_402_300_800_u64 }), "`exp`")]
#[case::for_another_audience(json!({ "aud": "other" }), "another audience")]
#[case::without_an_end(json!({ "exp": null }), "cannot be read")]
#[case::without_an_audience(json!({ "aud": null }), "")]
fn a_token_whose_claims_do_not_fit_is_refused(#[case] change: Json, #[case] expected: &str) {
    let project = project(&with_key("HS256", SECRET));
    let service = project.serve();
    let mut claims = claims();
    for (name, value) in change.as_object().unwrap() {
        claims[name] = value.clone();
    }
    if claims["exp"].is_null() {
        claims.as_object_mut().unwrap().remove("exp");
    }
    if claims["aud"].is_null() {
        claims.as_object_mut().unwrap().remove("aud");
    }
    let response = ask(&service, Some(&by_secret(&claims)), json!({}));
    assert_eq!((response.status, response.code().as_str()), (401, "UNAUTHENTICATED"), "{}", response.text());
    let lacks = response.text().contains("lacks one of");
    assert!(response.text().contains(expected) || lacks, "{}", response.text());
}

/// A token with a header of one's own, signed with the secret.
fn with_header(header: &Json, claims: &Json, secret: &[u8]) -> String {
    let part = |value: &Json| URL_SAFE_NO_PAD.encode(value.to_string());
    let signed = format!("{}.{}", part(header), part(claims));
    let key = EncodingKey::from_secret(secret);
    let signature = jsonwebtoken::crypto::sign(signed.as_bytes(), &key, Algorithm::HS256).unwrap();
    format!("{signed}.{signature}")
}

#[rstest]
#[case::no_signature(json!({ "alg": "none" }))]
#[case::no_signature_in_capitals(json!({ "alg": "NONE" }))]
#[case::another_algorithm(json!({ "alg": "HS512" }))]
#[case::no_algorithm(json!({ "typ": "JWT" }))]
#[case::a_key_of_its_own(json!({ "alg": "HS256", "jwk": { "kty": "oct", "k": "AAAA" } }))]
#[case::an_address_of_keys(json!({ "alg": "HS256", "jku": "https://evil.example/keys" }))]
#[case::an_address_of_a_certificate(json!({ "alg": "HS256", "x5u": "https://evil.example/cert" }))]
#[case::what_must_be_understood(json!({ "alg": "HS256", "crit": ["exp"], "exp": 1 }))]
fn a_header_cannot_choose_how_it_is_checked(#[case] header: Json) {
    let project = project(&with_key("HS256", SECRET));
    let service = project.serve();
    let whole = with_header(&header, &claims(), SECRET.as_bytes());
    assert_eq!(ask(&service, Some(&whole), json!({})).status, 401);
    let bare = format!("{}.", whole.rsplit_once('.').unwrap().0);
    assert_eq!(ask(&service, Some(&bare), json!({})).status, 401, "without a signature");
    let fine = with_header(&json!({ "alg": "HS256", "typ": "JWT" }), &claims(), SECRET.as_bytes());
    assert_eq!(ask(&service, Some(&fine), json!({})).status, 200, "the way of making them is right");
}

#[test]
fn a_public_key_is_no_secret_to_sign_with() {
    let project = project(&with_key("RS256", RSA_PUBLIC));
    let service = project.serve();
    for algorithm in ["HS256", "RS256"] {
        let forged = with_header(&json!({ "alg": algorithm }), &claims(), RSA_PUBLIC.as_bytes());
        assert_eq!(ask(&service, Some(&forged), json!({})).status, 401, "{algorithm}");
    }
}

#[test]
fn oversized_and_malformed_tokens_are_refused_before_they_are_checked() {
    let project = project(&with_key("HS256", SECRET));
    let service = project.serve();
    let mut large = claims();
    large["note"] = Json::from("x".repeat(9_000));
    let response = ask(&service, Some(&by_secret(&large)), json!({}));
    assert_eq!(response.status, 401);
    assert!(response.text().contains("the limit is 8192"), "{}", response.text());
    for text in ["a.b.c", "..", "e30.e30.e30", "\u{fc}.\u{fc}.\u{fc}"] {
        assert_eq!(ask(&service, Some(text), json!({})).status, 401, "{text}");
    }
}

#[test]
fn a_token_without_a_role_here_has_the_one_that_the_project_falls_back_on() {
    let extra = format!("{}fallback_role = \"member\"\n", with_key("HS256", SECRET));
    let project = project(&extra);
    let service = project.serve();
    let token = |roles: Json| {
        let mut claims = claims();
        claims["roles"] = roles;
        by_secret(&claims)
    };
    for roles in [json!([]), Json::Null, json!(["offline_access"])] {
        assert_eq!(ids(&ask(&service, Some(&token(roles.clone())), json!({}))), [1, 3], "{roles}");
        assert_eq!(ids(&ask(&service, Some(&token(roles)), json!({ "as": "member" }))), [1, 3]);
    }
    let reader = token(json!(["reader"]));
    assert_eq!(ids(&ask(&service, Some(&reader), json!({}))), [1, 2, 3], "whoever has a role keeps it");
    assert_eq!(ask(&service, Some(&reader), json!({ "as": "member" })).status, 403, "and gets no other");
    let none = std::fs::read_to_string(project.path().join("puente.toml")).unwrap().replace("\"member\"", "\"membre\"");
    let wrong = puente_core::project::read(&none, &|_| Some("x".repeat(40))).unwrap_err();
    assert!(wrong.iter().any(|wrong| wrong.text.contains("did you mean `member`?")), "{wrong:?}");
}

#[test]
fn a_role_is_chosen_among_those_of_the_token_and_no_others() {
    let extra =
        format!("{}roles = [\"app\", \"roles\"]\nmain_role = [\"app\", \"usual\"]\n", with_key("HS256", SECRET));
    let project = project(&extra);
    let service = project.serve();
    let token = |roles: Json, usual: Json| {
        let mut claims = claims();
        claims["app"] = json!({ "roles": roles, "usual": usual });
        by_secret(&claims)
    };
    let both = token(json!(["reader", "member"]), json!("member"));
    assert_eq!(ids(&ask(&service, Some(&both), json!({}))), [1, 3], "its usual role");
    assert_eq!(ids(&ask(&service, Some(&both), json!({ "as": "reader" }))), [1, 2, 3]);
    for wanted in ["owner", "nobody", "Member", ""] {
        let response = ask(&service, Some(&both), json!({ "as": wanted }));
        assert_eq!((response.status, response.code().as_str()), (403, "ROLE_REFUSED"), "{wanted}");
    }
    let with_claims = json!({ "as": { "role": "member", "claims": { "sub": "8" } } });
    let response = ask(&service, Some(&both), with_claims);
    assert_eq!((response.status, response.code().as_str()), (403, "ROLE_REFUSED"));
    let owner = token(json!(["owner"]), Json::Null);
    assert_eq!(ask(&service, Some(&owner), json!({})).status, 403, "the owner's role is not for tokens");
    let none = token(json!([]), Json::Null);
    assert_eq!(ask(&service, Some(&none), json!({})).status, 403);
    let unknown = token(json!(["no_such_role"]), Json::Null);
    assert_eq!(ask(&service, Some(&unknown), json!({})).status, 403);
    let elsewhere = token(json!(["offline_access", "owner", "member"]), Json::Null);
    assert_eq!(ids(&ask(&service, Some(&elsewhere), json!({}))), [1, 3], "roles of other services are passed over");
    let single = token(json!("member"), json!("owner"));
    assert_eq!(ids(&ask(&service, Some(&single), json!({}))), [1, 3], "one role may be a text");
}

#[test]
fn whoever_says_nothing_is_anonymous_or_refused() {
    let strict = project("");
    let service = strict.serve();
    let response = ask(&service, None, json!({}));
    assert_eq!((response.status, response.code().as_str()), (401, "UNAUTHENTICATED"));
    let open = project("[identity]\nanonymous = \"reader\"\n");
    let service = open.serve();
    assert_eq!(ids(&ask(&service, None, json!({}))), [1, 2, 3]);
    assert_eq!(ids(&ask(&service, None, json!({ "as": "reader" }))), [1, 2, 3]);
    assert_eq!(ask(&service, None, json!({ "as": "member" })).status, 403);
    assert_eq!(ask(&service, Some("wrong"), json!({})).status, 401, "what is wrong is not taken for nothing");
    assert_eq!(service.send("GET", "/metrics", &[], b"").status, 403);
}

#[test]
fn access_keys_ask_with_their_role_and_claims_until_they_end() {
    let project = project("");
    let service = project.serve();
    let access_keys = AccessKeys::open(&project.path().join(".puente/records.db")).unwrap();
    let claims = json!({ "sub": 8 }).as_object().cloned().unwrap();
    let key = access_keys.create_key(&NewKey { name: "app", role: "member", claims, ..NewKey::default() }).unwrap();
    assert_eq!(ids(&ask(&service, Some(&key), json!({}))), [2]);
    assert_eq!(ask(&service, Some(&key), json!({ "as": "reader" })).status, 403);
    assert_eq!(ask(&service, Some(&key), json!({ "as": { "role": "member" } })).status, 403);
    assert_eq!(ask(&service, Some(&key), json!({ "statements": true })).code(), "ROLE_REFUSED");
    let gone = NewKey { name: "gone", role: "no_such_role", ..NewKey::default() };
    let key = access_keys.create_key(&gone).unwrap();
    assert_eq!(ask(&service, Some(&key), json!({})).status, 403, "a role that is gone");
}

#[test]
fn the_owner_asks_as_anybody_and_sees_the_statements() {
    let project = project("");
    let service = project.serve();
    let as_member = |claims: Json| json!({ "as": { "role": "member", "claims": claims }, "statements": true });
    let response = ask(&service, Some(OWNER_KEY), as_member(json!({ "sub": "8" })));
    assert_eq!(ids(&response), [2]);
    assert!(response.json()["extensions"]["statements"][0]["text"].as_str().unwrap().contains("owner_id"));
    assert!(!response.text().contains("hers"), "values are bound, not written");
    assert_eq!(ids(&ask(&service, Some(OWNER_KEY), json!({ "as": "reader" }))), [1, 2, 3]);
    for odd in [json!(7), json!({ "rôle": "member" }), json!({ "role": "member", "claims": [] }), json!(["member"])] {
        let response = ask(&service, Some(OWNER_KEY), json!({ "as": odd }));
        assert_eq!((response.status, response.code().as_str()), (400, "INVALID_REQUEST"), "{odd}");
    }
    assert_eq!(ask(&service, Some(OWNER_KEY), json!({ "as": "nobody" })).status, 403);
}

#[rstest]
#[case::absent(json!({}))]
#[case::null(json!({ "sub": null }))]
#[case::of_another_form(json!({ "sub": "07" }))]
#[case::a_fraction(json!({ "sub": 7.5 }))]
#[case::a_list(json!({ "sub": [7] }))]
#[case::text_that_would_be_sql(json!({ "sub": "7 or 1=1" }))]
fn claims_that_do_not_fit_see_nothing(#[case] claims: Json) {
    let project = project("");
    let service = project.serve();
    let response = ask(&service, Some(OWNER_KEY), json!({ "as": { "role": "member", "claims": claims } }));
    assert_eq!(ids(&response), [0_i64; 0]);
}

#[test]
fn development_tokens_are_believed_in_development_only() {
    let project = project("");
    let folder = project.open();
    let key = DevelopmentKey::of(&folder.private_folder().unwrap()).unwrap();
    let claims = json!({ "sub": "7" }).as_object().cloned().unwrap();
    let minute = std::time::Duration::from_secs(60);
    let token = key.mint(&folder.identity(true).unwrap(), "member", &claims, minute).unwrap();
    assert_eq!(ids(&ask(&project.serve(), Some(&token), json!({}))), [1, 3]);
    let production = project.serve_in_production();
    let response = ask(&production, Some(&token), json!({}));
    assert_eq!((response.status, response.code().as_str()), (401, "UNAUTHENTICATED"), "{}", response.text());
}

/// Serves a key set, which can be changed, and counts how often it was asked for.
fn key_server(set: Arc<Mutex<String>>) -> (String, Arc<AtomicUsize>) {
    key_server_that_says("200 OK", set)
}

/// The same, with another status.
fn key_server_that_says(status: &'static str, set: Arc<Mutex<String>>) -> (String, Arc<AtomicUsize>) {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = format!("http://{}/keys", listener.local_addr().unwrap());
    let asked = Arc::new(AtomicUsize::new(0));
    let count = Arc::clone(&asked);
    std::thread::spawn(move || {
        for mut client in listener.incoming().flatten() {
            let _ = client.read(&mut [0; 4_096]);
            count.fetch_add(1, Ordering::SeqCst);
            let body = set.lock().unwrap().clone();
            let head = format!(
                "HTTP/1.1 {status}\r\nLocation: /elsewhere\r\nContent-Length: {}\r\nConnection: close\r\n\r\n",
                body.len()
            );
            let _ = client.write_all(format!("{head}{body}").as_bytes());
        }
    });
    (address, asked)
}

/// The key set of the EC key, under a name.
fn ec_set(id: &str) -> String {
    use jsonwebtoken::jwk::Jwk;
    let mut jwk = serde_json::to_value(ec_jwk()).unwrap();
    jwk["kid"] = Json::from(id);
    let _: Jwk = serde_json::from_value(jwk.clone()).unwrap();
    json!({ "keys": [jwk, { "kty": "oct", "kid": "secret", "k": "c2VjcmV0" }] }).to_string()
}

fn ec_jwk() -> Json {
    // The point of the public key is the last 64 bytes of its DER form.
    let lines: String = EC_PUBLIC.lines().filter(|line| !line.starts_with('-')).collect();
    let der = base64::engine::general_purpose::STANDARD.decode(lines).unwrap();
    let (x, y) = der[der.len() - 64..].split_at(32);
    json!({ "kty": "EC", "crv": "P-256", "alg": "ES256", "use": "sig",
        "x": URL_SAFE_NO_PAD.encode(x), "y": URL_SAFE_NO_PAD.encode(y) })
}

fn signed_with(id: Option<&str>) -> String {
    let mut header = Header::new(Algorithm::ES256);
    header.kid = id.map(str::to_owned);
    jsonwebtoken::encode(&header, &claims(), &EncodingKey::from_ec_pem(EC.as_bytes()).unwrap()).unwrap()
}

#[test]
fn a_key_set_is_fetched_once_and_again_at_most_once_a_minute() {
    let set = Arc::new(Mutex::new(ec_set("first")));
    let (address, asked) = key_server(Arc::clone(&set));
    let project = project(&tokens(&format!("key_set = \"{address}\"")));
    let service = project.serve();
    assert_eq!(asked.load(Ordering::SeqCst), 0, "not before a token comes");
    for _ in 0..5 {
        assert_eq!(ids(&ask(&service, Some(&signed_with(Some("first"))), json!({}))), [1, 3]);
    }
    assert_eq!(asked.load(Ordering::SeqCst), 1);
    *set.lock().unwrap() = ec_set("second");
    for _ in 0..5 {
        assert_eq!(ask(&service, Some(&signed_with(Some("second"))), json!({})).status, 401);
    }
    assert_eq!(asked.load(Ordering::SeqCst), 1, "unknown keys do not make it ask all the time");
    assert_eq!(ids(&ask(&service, Some(&signed_with(None)), json!({}))), [1, 3], "the only key needs no name");
    let by_secret = with_header(&json!({ "alg": "HS256", "kid": "secret" }), &claims(), b"secret");
    assert_eq!(ask(&service, Some(&by_secret), json!({})).status, 401, "a published secret is none");
}

/// What a page of a login, of an error, or on the way to somewhere else holds is no key set, however much it looks like one.
#[rstest]
#[case("302 Found")]
#[case("404 Not Found")]
#[case("500 Internal Server Error")]
fn a_key_set_comes_with_a_status_that_says_so(#[case] status: &'static str) {
    let (address, asked) = key_server_that_says(status, Arc::new(Mutex::new(ec_set("first"))));
    let project = project(&tokens(&format!("key_set = \"{address}\"")));
    let service = project.serve();
    let response = ask(&service, Some(&signed_with(Some("first"))), json!({}));
    assert_eq!((response.status, response.code().as_str()), (500, "INTERNAL"), "{}", response.text());
    assert_eq!(asked.load(Ordering::SeqCst), 1, "nobody is sent on");
}

#[test]
fn a_key_set_may_be_a_file_and_one_that_cannot_be_had_says_so() {
    let project = project("");
    std::fs::write(project.path().join("keys.json"), ec_set("filed")).unwrap();
    let file = project.path().join("puente.toml");
    let text = std::fs::read_to_string(&file).unwrap();
    std::fs::write(&file, format!("{text}{}", tokens("key_set = \"keys.json\""))).unwrap();
    let service = project.serve();
    assert_eq!(ids(&ask(&service, Some(&signed_with(Some("filed"))), json!({}))), [1, 3]);
    std::fs::write(project.path().join("keys.json"), "{\"keys\": []}").unwrap();
    let wrong = project.open().identity(false).unwrap_err().to_string();
    assert!(wrong.contains("no public key"), "{wrong}");
    let gone = format!("{text}{}", tokens("key_set = \"http://127.0.0.1:9/keys\""));
    std::fs::write(&file, gone).unwrap();
    let service = project.serve();
    let response = ask(&service, Some(&signed_with(Some("any"))), json!({}));
    assert_eq!((response.status, response.code().as_str()), (500, "INTERNAL"), "{}", response.text());
}

#[rstest]
#[case(json!({ "nbf": "2100-01-01" }), "`nbf` is not a time")]
#[case(json!({ "nbf": 1e300 }), "`nbf` is not a time")]
#[case(json!({ "nbf": -1 }), "`nbf` is not a time")]
#[case(json!({ "iat": [] }), "`iat` is not a time")]
#[case(json!({ "exp": 1e300 }), "token")]
fn times_that_are_none_are_not_passed_over(#[case] odd: Json, #[case] expected: &str) {
    let project = project(&with_key("HS256", SECRET));
    let service = project.serve();
    let mut told = claims();
    for (name, value) in odd.as_object().unwrap() {
        told[name] = value.clone();
    }
    let response = ask(&service, Some(&by_secret(&told)), json!({}));
    assert_eq!(response.status, 401, "{}", response.text());
    assert!(response.text().contains(expected), "{}", response.text());
}
