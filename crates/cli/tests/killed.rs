//! The service as a process that is killed in the middle of changes: the file holds whole operations only.

use std::io::{BufRead as _, BufReader, Read as _, Write as _};
use std::net::TcpStream;
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use puente_testkit::project::{OWNER_KEY, TestProject};

const STOPS: i64 = 200;

fn serve(project: &TestProject) -> (Child, String) {
    let mut service = Command::new(env!("CARGO_BIN_EXE_puente"))
        .args(["serve", "--development", "--listen", "127.0.0.1:0"])
        .env("PUENTE_PROJECT", project.path())
        .env("PUENTE_OWNER_KEY", OWNER_KEY)
        .env("PUENTE_LOG", "info")
        .stdout(Stdio::null())
        .stderr(Stdio::piped())
        .spawn()
        .expect("the binary runs");
    let mut lines = BufReader::new(service.stderr.take().expect("its log")).lines();
    let address = lines.by_ref().map_while(Result::ok).find_map(|line| {
        let (_, rest) = line.split_once("\"address\":\"")?;
        rest.split_once('"').map(|(address, _)| address.to_owned())
    });
    std::thread::spawn(move || lines.count());
    (service, address.expect("it says where it listens"))
}

/// Sends a mutation; whether it was answered well. Where the service dies, it is not.
fn create(address: &str, title: &str) -> bool {
    let stops: Vec<String> = (0..STOPS).map(|at| format!("{{ name: \"{at}\" }}")).collect();
    let document = format!(
        "mutation {{ createWalk(input: {{ title: \"{title}\", stops: [{}] }}) {{ count }} }}",
        stops.join(", ")
    );
    let body = serde_json::json!({ "query": document }).to_string();
    let head = format!(
        "POST /graphql HTTP/1.1\r\nHost: {address}\r\nAuthorization: Bearer {OWNER_KEY}\r\nConnection: close\r\n\
         Content-Type: application/json\r\nContent-Length: {}\r\n\r\n{body}",
        body.len()
    );
    let Ok(mut stream) = TcpStream::connect(address) else { return false };
    let mut answer = String::new();
    stream.write_all(head.as_bytes()).is_ok()
        && stream.read_to_string(&mut answer).is_ok()
        && answer.contains("\"createWalk\":{\"count\":1}")
}

#[test]
fn a_service_that_is_killed_leaves_whole_operations_behind() {
    let project = TestProject::of_sql(
        "create table walks (id integer primary key, title text not null unique);
         create table stops (id integer primary key, walk_id integer not null references walks, name text);
         create index stops_walk on stops (walk_id);",
        "",
    );
    let mut answered = 0;
    for round in 0..4 {
        let (mut service, address) = serve(&project);
        let count: usize = std::thread::scope(|scope| {
            let askers: Vec<_> = (0..3)
                .map(|asker| {
                    let address = &address;
                    scope.spawn(move || (0..).take_while(|n| create(address, &format!("{round} {asker} {n}"))).count())
                })
                .collect();
            std::thread::sleep(Duration::from_millis(350 + 70 * round));
            service.kill().expect("it is killed");
            service.wait().expect("it ends");
            askers.into_iter().map(|asker| asker.join().expect("an asker")).sum()
        });
        answered += count;
    }
    let connection = rusqlite::Connection::open(project.database()).expect("the file");
    let (walks, whole): (i64, i64) = connection
        .query_row(
            "select count(*), coalesce(sum(n = ?), 0) from
               (select (select count(*) from stops where walk_id = walks.id) as n from walks)",
            [STOPS],
            |row| Ok((row.get(0)?, row.get(1)?)),
        )
        .expect("counts");
    assert_eq!(walks, whole, "half of an operation is left");
    assert!(answered > 10 && walks >= i64::try_from(answered).unwrap(), "{answered} answered, {walks} there");
    let intact: String = connection.query_row("pragma integrity_check", [], |row| row.get(0)).expect("a check");
    assert_eq!(intact, "ok");
}
