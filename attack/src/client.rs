//! The demo as a process, and callers who send it whatever they like.

use std::io::{BufRead as _, BufReader, Read as _, Write as _};
use std::net::TcpStream;
use std::process::{Child, Command, Stdio};
use std::time::Duration;

/// A running demo; stopped when dropped.
pub(crate) struct Service {
    child: Child,
    pub(crate) address: String,
    folder: String,
}

/// The owner's access key.
const OWNER: &str = "the-owners-key-of-the-attack-0123456789";
/// What an answer is waited for.
const PATIENCE: Duration = Duration::from_secs(60);

impl Service {
    pub(crate) fn start(binary: &str) -> Self {
        let folder = std::env::temp_dir().join(format!("puente-attack-{}", std::process::id()));
        let folder = folder.to_string_lossy().into_owned();
        let mut child = Command::new(binary)
            .args(["demo", "--dir", &folder, "--listen", "127.0.0.1:0"])
            .env("PUENTE_OWNER_KEY", OWNER)
            .env("PUENTE_LOG", "warn")
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .expect("the binary runs; `make build` makes it");
        let lines = BufReader::new(child.stdout.take().expect("its output")).lines();
        let mut lines = lines.map_while(Result::ok);
        let address = lines.find_map(|line| {
            let rest = line.split("http://").nth(1)?;
            Some(rest.split(['/', ' ']).next()?.to_owned())
        });
        std::thread::spawn(move || lines.count());
        Service { child, address: address.expect("it says where it listens"), folder }
    }

    /// Megabytes that it holds.
    pub(crate) fn megabytes(&self) -> u64 {
        let status = std::fs::read_to_string(format!("/proc/{}/status", self.child.id())).unwrap_or_default();
        let line = status.lines().find(|line| line.starts_with("VmRSS")).unwrap_or_default();
        line.split_whitespace().nth(1).and_then(|number| number.parse::<u64>().ok()).unwrap_or(0) / 1_024
    }

    /// Time of processors that it has used.
    pub(crate) fn processor(&self) -> Duration {
        const TICKS_PER_SECOND: f64 = 100.0;
        let stat = std::fs::read_to_string(format!("/proc/{}/stat", self.child.id())).unwrap_or_default();
        let fields: Vec<&str> = stat.rsplit(')').next().unwrap_or_default().split_whitespace().collect();
        let ticks = |at: usize| fields.get(at).and_then(|field| field.parse::<f64>().ok()).unwrap_or(0.0);
        Duration::from_secs_f64((ticks(11) + ticks(12)) / TICKS_PER_SECOND)
    }
}

impl Drop for Service {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
        let _ = std::fs::remove_dir_all(&self.folder);
    }
}

/// Somebody who sends requests.
pub(crate) struct Client<'s> {
    pub(crate) service: &'s Service,
    authorization: Option<String>,
    extensions: String,
}

impl<'s> Client<'s> {
    pub(crate) fn owner(service: &'s Service) -> Self {
        Client { service, authorization: Some(format!("Bearer {OWNER}")), extensions: String::new() }
    }

    /// The owner as a role with claims: the service asks with that role's grants and limits.
    pub(crate) fn role(service: &'s Service, role: &str, number: usize) -> Self {
        let extensions =
            format!(",\"extensions\":{{\"as\":{{\"role\":\"{role}\",\"claims\":{{\"sub\":\"{number}\"}}}}}}");
        Client { extensions, ..Client::owner(service) }
    }

    pub(crate) fn anonymous(service: &'s Service) -> Self {
        Client { service, authorization: None, extensions: String::new() }
    }

    /// Another caller than all the others: nobody else comes from its address.
    pub(crate) fn bystander(service: &'s Service) -> Self {
        Client::anonymous(service)
    }

    /// Asks a document with variables, as JSON text.
    pub(crate) fn ask(&self, document: &str, variables: &str) -> u16 {
        let query = serde_json::Value::from(document);
        let body = format!("{{\"query\":{query},\"variables\":{variables}{}}}", self.extensions);
        self.post(body.as_bytes(), &[])
    }

    /// Posts a body; the status of the answer, 0 where there is none.
    pub(crate) fn post(&self, body: &[u8], headers: &[&str]) -> u16 {
        let mut head = format!(
            "POST /graphql HTTP/1.1\r\nHost: {}\r\nContent-Type: application/json\r\nConnection: close\r\n\
             Accept: application/graphql-response+json\r\nContent-Length: {}\r\n",
            self.service.address,
            body.len()
        );
        if let Some(authorization) = &self.authorization {
            head.push_str(&format!("Authorization: {authorization}\r\n"));
        }
        headers.iter().for_each(|header| head.push_str(&format!("{header}\r\n")));
        head.push_str("\r\n");
        self.send(&[head.as_bytes(), body].concat())
    }

    /// Sends bytes as they are; the status of the answer, 0 where there is none.
    pub(crate) fn send(&self, bytes: &[u8]) -> u16 {
        let Some(mut stream) = self.connect() else { return 0 };
        let _ = stream.write_all(bytes);
        let mut answer = Vec::new();
        let _ = stream.read_to_end(&mut answer);
        let head = String::from_utf8_lossy(&answer[..answer.len().min(40)]).into_owned();
        head.split(' ').nth(1).and_then(|status| status.parse().ok()).unwrap_or(0)
    }

    pub(crate) fn connect(&self) -> Option<TcpStream> {
        let stream = TcpStream::connect(&self.service.address).ok()?;
        stream.set_read_timeout(Some(PATIENCE)).ok()?;
        stream.set_write_timeout(Some(PATIENCE)).ok()?;
        Some(stream)
    }
}
