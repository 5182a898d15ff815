//! Answers that nobody takes: what a process holds for callers that read nothing, or next to nothing, stays within what a container of
//! 400 MB has, and ends by itself.

#[allow(dead_code, reason = "other tests run it to its end")]
mod process;
#[path = "process/service.rs"]
mod service;

use std::io::{Read as _, Write as _};
use std::net::TcpStream;
use std::sync::Arc;
use std::time::{Duration, Instant};

use process::puente;
use puente_testkit::project::TestProject;
use service::{OWNER_KEY, Service};

/// What docs/serving.md advises to give a container, in megabytes.
const CONTAINER: u64 = 400;

/// A project whose one list is an answer of more than five megabytes.
fn project(tls: bool) -> TestProject {
    let project = TestProject::of_sql(
        "create table pages (id integer primary key, body text not null);
         insert into pages with recursive n(i) as (select 1 union all select i + 1 from n where i < 400)
           select i, printf('%.*c', 13000, 'x') from n;",
        "",
    );
    let file = project.path().join("puente.toml");
    let text = std::fs::read_to_string(&file).unwrap();
    let tls = if tls { "[service.tls]\ncertificate = \"server.crt\"\nkey = \"server.key\"\n" } else { "" };
    std::fs::write(&file, format!("{text}\n[service]\nsecret = \"${{TEST_SECRET}}\"\n{tls}")).unwrap();
    let made = rcgen::generate_simple_self_signed(vec!["localhost".to_owned()]).unwrap();
    std::fs::write(project.path().join("server.key"), made.signing_key.serialize_pem()).unwrap();
    std::fs::write(project.path().join("server.crt"), made.cert.pem()).unwrap();
    project
}

fn serve(project: &TestProject) -> Service {
    let mut command = puente(project.path(), &["serve", "--listen", "127.0.0.1:0"]);
    command.env("TEST_SECRET", "thirty-two bytes that nobody guesses").env("PUENTE_LOG", "info");
    Service::start(command)
}

/// The most that the process held so far, in megabytes.
fn peak(service: &Service) -> u64 {
    let status = std::fs::read_to_string(format!("/proc/{}/status", service.child.id())).expect("it runs");
    let line = status.lines().find(|line| line.starts_with("VmHWM")).expect("a figure");
    line.split_whitespace().nth(1).and_then(|number| number.parse::<u64>().ok()).expect("a number") / 1_024
}

const LARGE: &str = "{ pages(first: 400) { nodes { id body } } }";

fn body(document: &str) -> Vec<u8> {
    format!("{{\"query\": \"{document}\"}}").into_bytes()
}

fn runtime() -> tokio::runtime::Runtime {
    tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build().unwrap()
}

/// A connection in HTTP/2 that lets nothing of a body be sent.
async fn connect(
    project: &TestProject,
    port: u16,
) -> (h2::client::SendRequest<bytes::Bytes>, tokio::task::JoinHandle<()>) {
    let mut roots = rustls::RootCertStore::empty();
    let pem = std::fs::read(project.path().join("server.crt")).unwrap();
    use rustls::pki_types::pem::PemObject as _;
    roots.add(rustls::pki_types::CertificateDer::from_pem_slice(&pem).unwrap()).unwrap();
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let config = rustls::ClientConfig::builder_with_provider(provider).with_safe_default_protocol_versions().unwrap();
    let mut config = config.with_root_certificates(roots).with_no_client_auth();
    config.alpn_protocols = vec![b"h2".to_vec()];
    let stream = tokio::net::TcpStream::connect(("127.0.0.1", port)).await.unwrap();
    let name = rustls::pki_types::ServerName::try_from("localhost").unwrap();
    let stream = tokio_rustls::TlsConnector::from(Arc::new(config)).connect(name, stream).await.unwrap();
    let built = h2::client::Builder::new().initial_window_size(0).handshake::<_, bytes::Bytes>(stream).await;
    let (send, mut connection) = built.unwrap();
    // It goes on answering pings as long as the connection is there.
    let mut ping = connection.ping_pong().unwrap();
    tokio::spawn(async move {
        while ping.ping(h2::Ping::opaque()).await.is_ok() {
            tokio::time::sleep(Duration::from_millis(500)).await;
        }
    });
    (send, tokio::spawn(async move { drop(connection.await) }))
}

/// Sends a request; its status, once the head of the answer is there.
async fn ask(
    send: &mut h2::client::SendRequest<bytes::Bytes>,
    port: u16,
    document: &str,
) -> Option<h2::client::ResponseFuture> {
    let request = http::Request::builder()
        .method("POST")
        .uri(format!("https://localhost:{port}/graphql"))
        .header("authorization", format!("Bearer {OWNER_KEY}"))
        .header("content-type", "application/json")
        .header("accept", "application/graphql-response+json")
        .body(())
        .unwrap();
    let mut ready = send.clone().ready().await.ok()?;
    let (answer, mut stream) = ready.send_request(request, false).ok()?;
    stream.send_data(body(document).into(), true).ok()?;
    Some(answer)
}

#[test]
fn answers_that_one_connection_does_not_take_are_few_and_end_by_themselves() {
    let project = project(true);
    let service = serve(&project);
    let port: u16 = service.port();
    runtime().block_on(async {
        let (mut send, connection) = connect(&project, port).await;
        let began = Instant::now();
        let mut statuses = Vec::new();
        let mut held = Vec::new();
        for _ in 0..60 {
            let Some(answer) = ask(&mut send, port, LARGE).await else { break };
            let Ok(answer) = answer.await else { break };
            statuses.push(answer.status().as_u16());
            held.push(answer);
        }
        let refused = statuses.iter().filter(|status| **status == 429).count();
        assert!(statuses[0] == 200 && refused >= 40, "{statuses:?}");
        let closed = tokio::time::timeout(Duration::from_secs(40), connection).await;
        assert!(closed.is_ok(), "after {:?} the connection is still there", began.elapsed());
        assert!(began.elapsed() > Duration::from_secs(9), "whoever is slow has some seconds");
    });
    let most = peak(&service);
    assert!(most < CONTAINER / 2, "one connection took it to {most} MB");
}

#[test]
fn a_connection_has_a_hundred_requests_under_way_and_no_more() {
    let project = project(true);
    let service = serve(&project);
    let port: u16 = service.port();
    runtime().block_on(async {
        let (mut send, connection) = connect(&project, port).await;
        let mut statuses = Vec::new();
        let mut held = Vec::new();
        for _ in 0..150 {
            let Some(answer) = ask(&mut send, port, "{ __typename }").await else { break };
            let Ok(answer) = answer.await else { break };
            statuses.push(answer.status().as_u16());
            held.push(answer);
        }
        assert_eq!(statuses.len(), 150);
        assert!(statuses[..100].iter().all(|status| *status == 200), "{statuses:?}");
        assert!(statuses[100..].iter().all(|status| *status == 429), "{statuses:?}");
        // Whoever goes on is not waited for.
        while let Some(answer) = ask(&mut send, port, "{ __typename }").await {
            let Ok(answer) = answer.await else { break };
            held.push(answer);
            assert!(held.len() < 250, "it is closed by now");
        }
        drop(connection);
    });
}

#[test]
fn forty_connections_that_sip_hold_what_one_caller_may_hold() {
    let project = project(false);
    let service = serve(&project);
    let address = format!("127.0.0.1:{}", service.port());
    let request = body(LARGE);
    let head = format!(
        "POST /graphql HTTP/1.1\r\nHost: {address}\r\nAuthorization: Bearer {OWNER_KEY}\r\nContent-Type: application/json\r\n\
         Accept: application/graphql-response+json\r\nContent-Length: {}\r\n\r\n",
        request.len()
    );
    let ask = || {
        let mut stream = TcpStream::connect(&address).expect("it listens");
        socket2::SockRef::from(&stream).set_recv_buffer_size(8 << 10).unwrap();
        stream.write_all(head.as_bytes()).unwrap();
        stream.write_all(&request).unwrap();
        stream
    };
    let mut streams: Vec<TcpStream> = (0..40).map(|_| ask()).collect();
    for _ in 0..3 {
        std::thread::sleep(Duration::from_secs(2));
        let mut sip = vec![0; 150_000];
        for stream in &mut streams {
            stream.set_read_timeout(Some(Duration::from_millis(20))).unwrap();
            let _ = stream.read(&mut sip);
        }
    }
    let most = peak(&service);
    assert!(most < CONTAINER / 2, "forty connections took it to {most} MB");
    // Whoever reads what it asks for is answered.
    drop(streams);
    let began = Instant::now();
    loop {
        let mut stream = ask();
        stream.set_read_timeout(Some(Duration::from_secs(10))).unwrap();
        let mut start = [0; 12];
        stream.read_exact(&mut start).expect("an answer");
        if start.ends_with(b"200") {
            break;
        }
        assert!(began.elapsed() < Duration::from_secs(10), "what nobody waits for any more is forgotten");
        std::thread::sleep(Duration::from_millis(200));
    }
}
