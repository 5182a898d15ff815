//! What the service listens on, and who is told of it: TLS with HTTP/2, sockets in the file system, sockets that a service manager
//! hands over, and how it stops.

mod process;
#[path = "process/service.rs"]
mod service;

use std::os::unix::net::UnixDatagram;
use std::path::Path;
use std::process::Command;
use std::time::{Duration, Instant};

use process::{puente, run};
use puente_testkit::project::TestProject;
use service::{OWNER_KEY, Service};

const SECRET: &str = "thirty-two bytes that nobody guesses";

/// Asks it to stop, and waits: the exit code.
fn stop(service: &mut Service) -> i32 {
    assert!(Command::new("kill").arg(service.child.id().to_string()).status().unwrap().success());
    service.child.wait().unwrap().code().unwrap_or(-1)
}

/// What a call comes to: the exit code, and what was printed.
fn curl(arguments: &[&str]) -> (i32, String) {
    let output = Command::new("curl").args(["-sS", "--max-time", "10"]).args(arguments).output().expect("curl runs");
    let told = [output.stdout, output.stderr].concat();
    (output.status.code().unwrap_or(-1), String::from_utf8_lossy(&told).into_owned())
}

fn project(service: &str) -> TestProject {
    let project = TestProject::of_sql("create table huts (id integer primary key)", "");
    let file = project.path().join("puente.toml");
    let text = std::fs::read_to_string(&file).unwrap();
    std::fs::write(&file, format!("{text}\n[service]\nsecret = \"${{TEST_SECRET}}\"\n{service}")).unwrap();
    project
}

fn serve(project: &TestProject, listen: &str) -> Service {
    let mut command = puente(project.path(), &["serve", "--listen", listen]);
    command.env("TEST_SECRET", SECRET);
    Service::start(command)
}

fn write_certificate(folder: &Path) -> String {
    let made = rcgen::generate_simple_self_signed(vec!["localhost".to_owned()]).unwrap();
    std::fs::write(folder.join("server.key"), made.signing_key.serialize_pem()).unwrap();
    std::fs::write(folder.join("server.crt"), made.cert.pem()).unwrap();
    let authority = folder.join("authority.crt");
    std::fs::write(&authority, made.cert.pem()).unwrap();
    authority.to_str().unwrap().to_owned()
}

const TLS: &str = "[service.tls]\ncertificate = \"server.crt\"\nkey = \"server.key\"\n";

#[test]
fn tls_speaks_http_2_and_takes_a_new_certificate_over() {
    let project = project(TLS);
    let authority = write_certificate(project.path());
    let service = serve(&project, "127.0.0.1:0");
    assert!(service.line.contains("https://"), "{}", service.line);
    let url = format!("https://localhost:{}/health/live", service.port());
    let ask = |authority: &str| curl(&["--cacert", authority, "--http2", "-w", "HTTP/%{http_version}", &url]);
    assert_eq!(ask(&authority), (0, "live\nHTTP/2".to_owned()));
    assert_eq!(curl(&["--cacert", &authority, "--http1.1", &url]), (0, "live\n".to_owned()));
    let (code, told) = curl(&[&format!("http://localhost:{}/health/live", service.port())]);
    assert_ne!(code, 0, "{told}");
    let key = format!("Authorization: Bearer {OWNER_KEY}");
    let graphql = format!("https://localhost:{}/graphql?query=%7B__typename%7D", service.port());
    assert_eq!(curl(&["--cacert", &authority, "-H", &key, &graphql]).1, "{\"data\":{\"__typename\":\"Query\"}}");

    // Half of a renewal is none.
    std::fs::write(project.path().join("server.crt"), "not a certificate").unwrap();
    std::thread::sleep(Duration::from_secs(3));
    assert_eq!(ask(&authority).0, 0, "the certificate that was read before stays");
    let renewed = write_certificate(project.path());
    let deadline = Instant::now() + Duration::from_secs(20);
    while ask(&renewed).0 != 0 {
        assert!(Instant::now() < deadline, "{:?}", ask(&renewed));
        std::thread::sleep(Duration::from_millis(200));
    }
}

#[test]
fn a_certificate_that_cannot_be_used_is_told_at_the_start() {
    let project = project(TLS);
    let start = |expected: &str| {
        let mut command = puente(project.path(), &["serve", "--listen", "127.0.0.1:0"]);
        let output = command.env("TEST_SECRET", SECRET).env("PUENTE_OWNER_KEY", OWNER_KEY).output().unwrap();
        let told = String::from_utf8_lossy(&output.stderr).into_owned();
        assert_eq!(output.status.code(), Some(2), "{told}");
        assert!(told.contains(expected), "{told}");
    };
    start("server.crt cannot be read");
    write_certificate(project.path());
    let other = rcgen::generate_simple_self_signed(vec!["localhost".to_owned()]).unwrap();
    std::fs::write(project.path().join("server.key"), other.signing_key.serialize_pem()).unwrap();
    start("do not fit");
    std::fs::write(project.path().join("server.key"), "no key").unwrap();
    start("server.key cannot be read");
}

#[test]
fn a_socket_in_the_file_system_is_for_who_may_reach_it() {
    use std::os::unix::fs::PermissionsExt as _;
    let project = project("");
    let socket = project.path().join("puente.sock");
    let listen = format!("unix:{}", socket.display());
    // What an instance that was killed left behind.
    drop(std::os::unix::net::UnixListener::bind(&socket).unwrap());
    let mut service = serve(&project, &listen);
    let mode = std::fs::metadata(&socket).unwrap().permissions().mode() & 0o777;
    assert_eq!(mode, 0o660);
    let key = format!("Authorization: Bearer {OWNER_KEY}");
    let path = socket.to_str().unwrap();
    let answer = curl(&["--unix-socket", path, "-H", &key, "http://localhost/graphql?query=%7B__typename%7D"]);
    assert_eq!(answer, (0, "{\"data\":{\"__typename\":\"Query\"}}".to_owned()));
    let mut command = puente(project.path(), &["serve", "--listen", &listen]);
    let second = command.env("TEST_SECRET", SECRET).env("PUENTE_OWNER_KEY", OWNER_KEY).output().unwrap();
    let told = String::from_utf8_lossy(&second.stderr).into_owned();
    assert!(!second.status.success() && told.contains("cannot listen on unix:"), "{told}");
    assert_eq!(stop(&mut service), 0);
    assert!(!socket.exists(), "it goes with the service");
}

/// Starts a program with a socket as its third file, as systemd.socket(5) does, and prints the port.
const HAND_OVER: &str = "
import os, socket, sys
listener = socket.socket(); listener.bind(('127.0.0.1', 0)); listener.listen()
os.dup2(listener.fileno(), 3); os.set_inheritable(3, True)
os.environ['LISTEN_FDS'] = '1'; os.environ['LISTEN_PID'] = str(os.getpid())
os.execv(sys.argv[1], sys.argv[1:])
";

#[test]
fn a_service_manager_hands_a_socket_over_and_is_told_when_it_is_ready_and_when_it_stops() {
    let project = project("");
    let told_at = project.path().join("notify.sock");
    let manager = UnixDatagram::bind(&told_at).unwrap();
    manager.set_read_timeout(Some(Duration::from_secs(20))).unwrap();
    let mut command = Command::new("python3");
    command.args(["-c", HAND_OVER, env!("CARGO_BIN_EXE_puente"), "serve", "--listen", "systemd"]);
    command.env("PUENTE_PROJECT", project.path()).env("NOTIFY_SOCKET", &told_at).env("TEST_SECRET", SECRET);
    let mut service = Service::start(command);
    let heard = || {
        let mut text = [0; 256];
        let length = manager.recv(&mut text).expect("word of how it is");
        String::from_utf8_lossy(&text[..length]).trim().to_owned()
    };
    assert_eq!(heard(), "READY=1");
    let (code, told) = curl(&[&format!("http://localhost:{}/health/live", service.port())]);
    assert_eq!((code, told.as_str()), (0, "live\n"));
    assert_eq!(stop(&mut service), 0);
    assert_eq!(heard(), "STOPPING=1");

    let mut command = puente(project.path(), &["serve", "--listen", "systemd"]);
    let output = command.env("TEST_SECRET", SECRET).env("PUENTE_OWNER_KEY", OWNER_KEY).output().unwrap();
    let told = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(told.contains("no socket was handed over"), "{told}");
}

#[test]
fn a_service_that_drains_is_not_ready_and_serves_on() {
    let project = project("drain_seconds = 2\n");
    let mut service = serve(&project, "localhost:0");
    let address = format!("http://127.0.0.1:{}", service.port());
    assert_eq!(curl(&[&format!("{address}/health/ready")]).1, "ready\n");
    assert!(Command::new("kill").arg(service.child.id().to_string()).status().unwrap().success());
    std::thread::sleep(Duration::from_millis(500));
    let ready = curl(&["-w", " %{http_code}", &format!("{address}/health/ready")]);
    assert_eq!(ready, (0, "not ready: stopping\n 503".to_owned()));
    let key = format!("Authorization: Bearer {OWNER_KEY}");
    let answer = curl(&["-H", &key, &format!("{address}/graphql?query=%7B__typename%7D")]);
    assert_eq!(answer.1, "{\"data\":{\"__typename\":\"Query\"}}", "who is still sent to it is served");
    assert_eq!(service.child.wait().unwrap().code(), Some(0));
}

#[test]
fn an_address_that_is_none_is_told_with_what_would_be_one() {
    let project = project("");
    let (code, _, err) = run(project.path(), &["serve", "--listen", "4810"]);
    assert_eq!(code, 2);
    assert!(err.contains("`127.0.0.1:4810`") && err.contains("`unix:PATH`") && err.contains("found `4810`"), "{err}");
}
