//! What tests start is gone after them: also where they fail, and where somebody kills them.

use std::io::{BufRead as _, BufReader};
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use puente_testkit::browser::Browser;
use puente_testkit::leftovers::folder;
use puente_testkit::servers;
use rstest::rstest;

/// How the process that started everything ends.
#[derive(Debug, Clone, Copy)]
enum End {
    Well,
    Failed,
    Killed,
}

#[rstest]
#[case::it_went_well(End::Well)]
#[case::it_failed(End::Failed)]
#[case::it_was_killed(End::Killed)]
fn nothing_is_left(#[case] end: End) {
    // Another process of this test binary, which runs the test below alone.
    let mut child = Command::new(std::env::current_exe().expect("our own path"))
        .args(["--exact", "starts_everything", "--ignored", "--nocapture"])
        .env("PUENTE_LEFTOVERS", format!("{end:?}"))
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .expect("it starts");
    let lines = BufReader::new(child.stdout.take().expect("its output")).lines();
    let mut lines = lines.map_while(Result::ok);
    let root = lines.find_map(|line| Some(line.split_once("everything in ")?.1.to_owned())).expect("its folder");
    assert!(Path::new(&root).is_dir() && !processes(&root).is_empty(), "it started nothing in {root}");
    if matches!(end, End::Killed) {
        child.kill().expect("it dies");
    }
    child.wait().expect("it ends");
    let deadline = Instant::now() + Duration::from_secs(20);
    while (Path::new(&root).exists() || !processes(&root).is_empty()) && Instant::now() < deadline {
        std::thread::sleep(Duration::from_millis(100));
    }
    assert_eq!(processes(&root), Vec::<String>::new());
    assert!(!Path::new(&root).exists(), "{root} is still there");
}

/// A browser, a server, a process with a project, and a folder. Not a test of its own: the one above runs it.
#[test]
#[ignore = "the test above runs it in a process of its own"]
fn starts_everything() {
    let end = std::env::var("PUENTE_LEFTOVERS").unwrap_or_default();
    let mine = folder();
    let root = mine.path().parent().expect("the folder of all").display().to_string();
    let server = servers::start_postgres(&[]);
    let runtime = tokio::runtime::Runtime::new().expect("a runtime");
    let browser = runtime.block_on(Browser::start(false));
    let forgotten = Command::new("sleep").arg("600").env("PUENTE_PROJECT", mine.path()).spawn().expect("a process");
    std::mem::forget(forgotten);
    assert!(server.address.starts_with("postgres:"));
    println_of_a_test(&format!("everything in {root}"));
    match end.as_str() {
        "Well" => drop((browser, server, mine)),
        "Failed" => panic!("as it was to"),
        _ => std::thread::sleep(Duration::from_secs(60)),
    }
}

#[expect(clippy::print_stdout, reason = "the test that runs this one reads it")]
fn println_of_a_test(line: &str) {
    println!("{line}");
}

/// The processes that have something of a folder in their command or environment.
fn processes(root: &str) -> Vec<String> {
    let wanted = format!("{root}/");
    let mentions = |entry: &Path, file: &str| {
        std::fs::read(entry.join(file)).is_ok_and(|bytes| String::from_utf8_lossy(&bytes).contains(&wanted))
    };
    let entries = std::fs::read_dir("/proc").expect("processes").flatten().map(|entry| entry.path());
    let found = entries.filter(|entry| mentions(entry, "cmdline") || mentions(entry, "environ"));
    let told = found.map(|entry| {
        let words = std::fs::read(entry.join("cmdline")).unwrap_or_default();
        String::from_utf8_lossy(&words).replace('\0', " ")
    });
    told.filter(|words| !words.is_empty()).collect()
}
