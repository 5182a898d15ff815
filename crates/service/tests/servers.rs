//! Database servers in trouble and under lock: away and back, slow, changed in the middle of a request, behind TLS.

use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use puente_core::catalog::Engine;
use puente_core::error::Code;
use puente_testkit::database::Database;
use puente_testkit::project::{OWNER_KEY, TestProject, TestService};
use puente_testkit::servers;
use rstest::rstest;
use serde_json::json;

/// A view that takes some seconds for its one row.
fn slow_view(engine: Engine, seconds: f64) -> String {
    match engine {
        Engine::Postgres => format!("create view slow as select 1 as id, pg_sleep({seconds})::text as slept;\n"),
        _ => format!("create view slow as select 1 as id, sleep({seconds}) as slept;\n"),
    }
}

/// How many statements on the slow view the database is busy with, as it says itself.
fn busy(database: &Database) -> usize {
    let text = match database.engine {
        Engine::Postgres => {
            "select pid::text from pg_stat_activity where state = 'active' and query like '%slow%' and pid <> pg_backend_pid()"
        }
        _ => "select id from information_schema.processlist where info like '%slow%' and id <> connection_id()",
    };
    database.query(text).len()
}

fn eventually(what: &str, mut holds: impl FnMut() -> bool) {
    let deadline = Instant::now() + Duration::from_secs(10);
    while !holds() {
        assert!(Instant::now() < deadline, "{what}");
        std::thread::sleep(Duration::from_millis(20));
    }
}

#[rstest]
fn a_slow_statement_is_cancelled_in_the_database_at_its_time(
    #[values(Engine::Postgres, Engine::Mariadb)] engine: Engine,
) {
    let database = Database::empty(engine);
    database.execute(&slow_view(engine, 30.0));
    let project = TestProject::of(&database, "", "[limits]\ntime_ms = 500\n");
    let service = project.serve();
    let start = Instant::now();
    let response = service.ask("{ slows { nodes { slept } } }");
    assert_eq!((response.status, response.code().as_str()), (504, "TIMED_OUT"), "{}", response.text());
    assert!(start.elapsed() < Duration::from_secs(5));
    eventually("the database is done with it", || busy(&database) == 0);
}

/// The server of the tests does not tell what it is busy with: that it answers others is what is seen.
#[test]
fn a_slow_command_on_documents_ends_at_its_time() {
    const READINGS: i32 = 40_000;
    let database = Database::empty(Engine::Mongodb);
    database.insert("readings", (0..READINGS).map(|id| bson::doc! { "_id": id, "level": id % 1_000 }).collect());
    let project = TestProject::of(&database, "", "[limits]\ntime_ms = 250\n");
    let service = project.serve();
    // No index serves the order.
    let response = service.ask("{ readings(orderBy: [{ level: DESC }]) { nodes { id } } }");
    assert_eq!((response.status, response.code().as_str()), (504, "TIMED_OUT"), "{}", response.text());
    let one = || service.ask("{ reading(key: { id: 7 }) { level } }").json()["data"]["reading"]["level"].clone();
    eventually("the service goes on", || one() == 7);
}

#[rstest]
fn an_ask_whose_client_left_is_cancelled_in_the_database(#[values(Engine::Postgres, Engine::Mariadb)] engine: Engine) {
    let database = Database::empty(engine);
    database.execute(&slow_view(engine, 30.0));
    let project = TestProject::of(&database, "connections = 2\n", "[limits]\ntime_ms = 60000\n");
    let service = project.serve();
    let authorization = format!("Bearer {OWNER_KEY}");
    let headers = [("Authorization", authorization.as_str()), ("Content-Type", "application/json")];
    let body = br#"{"query": "{ slows { nodes { slept } } }"}"#;
    let streams: Vec<_> = (0..2).map(|_| service.connect("POST", "/graphql", &headers, body)).collect();
    eventually("both are running", || busy(&database) == 2);
    // Every session is busy: the next request is told so instead of hanging.
    let refused = service.ask("{ slows { totalCount } }");
    assert_eq!((refused.status, refused.code().as_str()), (503, "SOURCE_UNAVAILABLE"), "{}", refused.text());
    drop(streams);
    eventually("the database is done with them", || busy(&database) == 0);
}

/// Sessions that the database ended while nobody asked: a change is not tried again on another, and must not meet one of them.
#[rstest]
fn sessions_that_ended_meanwhile_cost_nobody_a_change(#[values(Engine::Postgres, Engine::Mariadb)] engine: Engine) {
    let database = Database::empty(engine);
    database
        .execute("create table peaks (id integer primary key, height integer);\ninsert into peaks values (1, 100);\n");
    let project = TestProject::of(&database, "", "");
    let service = project.serve();
    let change = "mutation { updatePeak(key: { id: 1 }, set: { add: { height: 1 } }) { node { height } } }";
    let height = || service.ask(change).json()["data"]["updatePeak"]["node"]["height"].clone();
    assert_eq!(height(), 101);
    let others = match engine {
        Engine::Postgres => {
            "select pid::text from pg_stat_activity where datname = current_database() and pid <> pg_backend_pid()"
        }
        _ => "select id from information_schema.processlist where db = database() and id <> connection_id()",
    };
    let ended: Vec<String> = database.query(others).into_iter().filter_map(|row| row[0].clone()).collect();
    assert!(!ended.is_empty(), "sessions are kept");
    for id in ended {
        database.execute(&match engine {
            Engine::Postgres => format!("select pg_terminate_backend({id});\n"),
            _ => format!("kill {id};\n"),
        });
    }
    std::thread::sleep(Duration::from_millis(1_500));
    assert_eq!(height(), 102);
}

/// Rows change between the levels of a request that is running: it sees none of it.
#[rstest]
fn one_ask_sees_one_snapshot(#[values(Engine::Postgres, Engine::Mariadb)] engine: Engine) {
    let database = Database::empty(engine);
    let sleep = if engine == Engine::Postgres { "pg_sleep(0.7)::text" } else { "sleep(0.7)" };
    // Rows are counted as many, and no index finds the children: levels are read one after the other.
    database.execute(&format!(
        "create table peaks (id integer primary key);\ncreate table paths (id integer primary key, peak_id integer);\n\
         create table stones (id integer primary key, path_id integer);\n\
         create view slow as select id, peak_id, {sleep} as slept from paths where id < 2;\n\
         insert into peaks values (1);\ninsert into paths values (1, 1);\ninsert into stones values (1, 1);\n"
    ));
    let many = if engine == Engine::Postgres {
        "insert into stones select n, 0 from generate_series(2, 3000) n; analyze stones"
    } else {
        "insert into stones select seq, 0 from seq_2_to_3000;\nanalyze table stones;\n"
    };
    database.execute(many);
    let links = "[[link]]\ntable = \"slow\"\ncolumns = [\"peak_id\"]\nto = \"peaks\"\nreferences = [\"id\"]\nback = \"slows\"\n\
                 [[link]]\ntable = \"stones\"\ncolumns = [\"path_id\"]\nto = \"slow\"\nreferences = [\"id\"]\nback = \"stones\"\n";
    let project = TestProject::of(&database, "", links);
    let service = project.serve();
    let document = "{ peaks { nodes { id slows { nodes { id slept stones { nodes { id } } } } } } }";
    let statements = json!({ "query": document, "extensions": { "statements": true } });
    let told = service.post(&statements).json();
    assert_eq!(told["extensions"]["statements"].as_array().map(Vec::len), Some(3), "a statement per level: {told:#}");
    let answer = std::thread::scope(|scope| {
        let asking = scope.spawn(|| service.ask(document).json());
        eventually("it is running", || busy(&database) > 0);
        database.execute("delete from stones;\n");
        asking.join().expect("an answer")
    });
    let stones = |answer: &serde_json::Value| {
        answer["data"]["peaks"]["nodes"][0]["slows"]["nodes"][0]["stones"]["nodes"].clone()
    };
    assert_eq!(stones(&answer), json!([{ "id": 1 }]), "{answer:#}");
    assert_eq!(stones(&service.ask(document).json()), json!([]));
}

#[test]
fn the_database_goes_away_and_comes_back_under_load() {
    let mut server = servers::start_postgres(&[]);
    let database = Database::on(&server);
    database.execute("create table walks (id integer primary key, title text); insert into walks select n, 'w' || n from generate_series(1, 20) n");
    let project = TestProject::of(&database, "connections = 4\nwait_ms = 500\n", "");
    let service = project.serve();
    let expected = service.ask("{ walks { nodes { id title } } }").text();
    let stopping = AtomicBool::new(false);
    let (mut fine, mut refused) = (0, 0);
    std::thread::scope(|scope| {
        let askers: Vec<_> = (0..4).map(|_| scope.spawn(|| keep_asking(&service, &expected, &stopping))).collect();
        std::thread::sleep(Duration::from_millis(500));
        server.kill();
        std::thread::sleep(Duration::from_millis(1_500));
        server.start_again();
        eventually("it answers again by itself", || service.ask("{ walks { nodes { id title } } }").status == 200);
        std::thread::sleep(Duration::from_millis(500));
        stopping.store(true, Ordering::Relaxed);
        for asker in askers {
            let (f, r) = asker.join().expect("an asker");
            fine += f;
            refused += r;
        }
    });
    assert!(fine > 0 && refused > 0, "{fine} answered, {refused} refused");
}

/// Asks until it is told to stop. Every answer is right, or a refusal that came quickly.
fn keep_asking(service: &TestService, expected: &str, stopping: &AtomicBool) -> (u32, u32) {
    let (mut fine, mut refused) = (0, 0);
    while !stopping.load(Ordering::Relaxed) {
        let start = Instant::now();
        let response = service.ask("{ walks { nodes { id title } } }");
        assert!(start.elapsed() < Duration::from_secs(6), "a request hung for {:?}", start.elapsed());
        if response.status == 200 {
            assert_eq!(response.text(), expected);
            fine += 1;
        } else {
            assert_eq!((response.status, response.code().as_str()), (503, "SOURCE_UNAVAILABLE"), "{}", response.text());
            refused += 1;
        }
    }
    (fine, refused)
}

#[test]
fn reads_run_in_sessions_that_cannot_write() {
    let database = Database::empty(Engine::Postgres);
    database.execute("create sequence s; create view taken as select nextval('s') as number");
    let service = TestProject::of(&database, "", "").serve();
    // The survey did not look into the view; a request that would move the sequence on is stopped by the database.
    let response = service.ask("{ takens { nodes { number } } }");
    assert_eq!((response.status, response.code().as_str()), (503, "SOURCE_REFUSED"), "{}", response.text());
    assert!(response.text().contains("would write"), "{}", response.text());
    assert_eq!(database.query("select last_value, is_called from s"), [[Some("1".to_owned()), Some("f".to_owned())]]);
}

#[rstest]
fn a_proxy_that_hands_out_connections_per_transaction_needs_no_prepared_statements(
    #[values("true", "false")] prepared: &str,
) {
    let database = Database::empty(Engine::Postgres);
    database.execute("create table walks (id integer primary key, title text); insert into walks values (1, 'Ridge')");
    let service = TestProject::of(&database, &format!("prepared = {prepared}\n"), "").serve();
    let answer = service.ask("{ walks(filter: { title: { in: [\"Ridge\"] } }) { nodes { id } } }").json();
    assert_eq!(answer["data"]["walks"]["nodes"], json!([{ "id": 1 }]), "{answer:#}");
}

#[rstest]
fn replicas_answer_the_reads_of_their_roles_and_are_not_missed(
    #[values(Engine::Postgres, Engine::Mariadb)] engine: Engine,
) {
    let (primary, replica) = (Database::empty(engine), Database::empty(engine));
    for (database, title) in [(&primary, "primary"), (&replica, "replica")] {
        database.execute(&format!(
            "create table walks (id integer primary key, title varchar(20));\ninsert into walks values (1, '{title}');\n"
        ));
    }
    let title = |replicas: &str| {
        let service = TestProject::of(&primary, &format!("replicas = [{replicas}]\n"), "").serve();
        let answer = service.ask("{ walk(key: { id: 1 }) { title } }").json();
        answer["data"]["walk"]["title"].as_str().unwrap_or_else(|| panic!("{answer}")).to_owned()
    };
    assert_eq!(title(&format!("{{ url = \"{}\" }}", replica.url)), "replica");
    assert_eq!(title(&format!("{{ url = \"{}\", roles = [\"owner\"] }}", replica.url)), "replica");
    assert_eq!(title(&format!("{{ url = \"{}\", roles = [\"visitor\"] }}", replica.url)), "primary");
    let nowhere = primary.url.replace("127.0.0.1:", "127.0.0.1:1");
    let nowhere = &nowhere[..nowhere.rfind(':').unwrap_or(0)];
    assert_eq!(title(&format!("{{ url = \"{nowhere}:1/nothing\" }}")), "primary");
}

#[test]
fn tls_is_verified_by_default() {
    let certified = rcgen::generate_simple_self_signed(vec!["localhost".to_owned()]).expect("a certificate");
    let folder = puente_testkit::leftovers::folder();
    let (certificate, key) = (folder.path().join("server.crt"), folder.path().join("server.key"));
    std::fs::write(&certificate, certified.cert.pem()).expect("a file");
    std::fs::write(&key, certified.signing_key.serialize_pem()).expect("a file");
    give_to_servers(&[folder.path(), &certificate, &key]);
    let server = servers::start_postgres(&[
        "ssl=on",
        &format!("ssl_cert_file={}", certificate.display()),
        &format!("ssl_key_file={}", key.display()),
    ]);
    let database = Database::on(&server);
    database.execute("create table walks (id integer primary key); insert into walks values (1)");
    let root = folder.path().join("root.crt");
    std::fs::copy(&certificate, &root).expect("a copy");
    let reached = |host: &str, parameters: &str| {
        let url = database.url.replace("127.0.0.1", host);
        let text = format!("[source.test]\nurl = \"{url}?{parameters}\"\n");
        let settings = puente_core::project::read(&text, &|_| None).expect("a project").sources.remove(0);
        puente_sources::survey(&settings, folder.path())
            .map(|survey| survey.catalog.tables.len())
            .map_err(|problem| problem.told().to_owned())
    };
    assert_eq!(reached("localhost", "sslmode=verify-full&sslrootcert=root.crt"), Ok(1));
    assert_eq!(
        reached("127.0.0.1", "sslmode=verify-ca&sslrootcert=root.crt"),
        Ok(1),
        "another name, a trusted authority"
    );
    assert_eq!(reached("127.0.0.1", "sslmode=require"), Ok(1), "encrypted, whoever answers");
    assert!(
        reached("127.0.0.1", "sslmode=verify-full&sslrootcert=root.crt")
            .is_err_and(|told| told.contains("not valid for name"))
    );
    assert!(reached("localhost", "sslmode=verify-full").is_err_and(|told| told.contains("UnknownIssuer")));
    let told = not_reached(&format!("{}?sslmode=verify-full", database.url));
    assert!(told.contains("not one that is trusted for this host") && told.contains("`sslrootcert`"), "{told}");
}

/// What is told of a server that is not reached.
fn not_reached(url: &str) -> String {
    let text = format!("[source.test]\nurl = \"{url}\"\n");
    let settings = puente_core::project::read(&text, &|_| None).expect("a project").sources.remove(0);
    let problem = puente_sources::survey(&settings, std::path::Path::new(".")).expect_err("it is not reached");
    assert_eq!(problem.code, Code::SourceUnavailable, "{problem:?}");
    problem.message
}

#[rstest]
fn a_server_without_tls_is_told_where_tls_is_wanted(#[values(Engine::Postgres, Engine::Mariadb)] engine: Engine) {
    let told = not_reached(&format!("{}?sslmode=require", Database::empty(engine).url));
    assert!(told.contains("speaks no TLS") && told.contains("`sslmode=disable`"), "{told}");
}

#[test]
fn a_password_that_is_missing_is_told_from_one_that_is_wrong() {
    use std::io::{Read as _, Write as _};
    let missing = "asks for a password, and the source's `url` has none";
    // The servers of the tests let everybody in; this one asks, and hears no more.
    let listener = std::net::TcpListener::bind("127.0.0.1:0").expect("a port");
    let port = listener.local_addr().expect("an address").port();
    std::thread::spawn(move || {
        for mut stream in listener.incoming().filter_map(Result::ok) {
            let _ = stream.read(&mut [0; 1_024]);
            stream.write_all(b"R\0\0\0\x08\0\0\0\x03").expect("asked for the password");
            let _ = stream.read(&mut [0; 1_024]);
        }
    });
    let told = not_reached(&format!("postgres://somebody@127.0.0.1:{port}/huts"));
    assert!(told.contains(missing) && told.contains("${VARIABLE}"), "{told}");

    let database = Database::empty(Engine::Mariadb);
    let locked = format!("locked{}", std::process::id());
    database.execute(&format!("create user '{locked}'@'%' identified by 'right'"));
    let as_locked = |password: &str| {
        let (_, address) = database.url.split_once('@').expect("a user");
        not_reached(&format!("mysql://{locked}{password}@{address}"))
    };
    let (without, wrong) = (as_locked(""), as_locked(":wrong"));
    database.execute(&format!("drop user '{locked}'@'%'"));
    assert!(without.contains(missing), "{without}");
    assert!(wrong.contains("refuses the login"), "{wrong}");
}

/// Servers started by root run as nobody, and want their key to be their own.
fn give_to_servers(paths: &[&std::path::Path]) {
    use std::os::unix::fs::{PermissionsExt as _, chown};
    for path in paths {
        let mode = if path.is_dir() { 0o755 } else { 0o600 };
        std::fs::set_permissions(path, std::fs::Permissions::from_mode(mode)).expect("our own");
        // Not root: servers run as we do.
        let _ = chown(path, Some(65_534), Some(65_534));
    }
}
