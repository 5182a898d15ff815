//! `[service]`: how the service is reached, and what it offers beside plain requests.

use super::Secret;
use super::reader::{Reader, Section};

/// `[service]`.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Service {
    /// The secret from which cursors are sealed.
    pub secret: Option<Secret>,
    /// Host names, beside the listening address, under which browsers and programs may reach the service.
    pub hosts: Vec<String>,
    /// Origins of other web sites that may call the service (CORS).
    pub origins: Vec<String>,
    /// Are documents remembered by their SHA-256 hash, so that clients need not send them again?
    pub persisted: bool,
    /// Has every row that has a key an `id` that is one of a kind in the whole API?
    pub global_ids: bool,
    /// Where counters and health are read without keys.
    pub metrics_listen: Option<std::net::SocketAddr>,
    /// Where spans are sent (OTLP over HTTP); absent, nowhere.
    pub traces: Option<String>,
    /// `[service.tls]`.
    pub tls: Option<Tls>,
    /// Seconds for which it serves on after it was told to stop, and says that it is not ready.
    pub drain_seconds: u64,
}

/// `[service.tls]`: files in PEM, relative to the project's folder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Tls {
    /// The certificate, with those of its authorities that clients may lack.
    pub certificate: String,
    /// The private key.
    pub key: String,
}

fn read_collector(reader: &mut Reader<'_>, section: &Section) -> Option<String> {
    let address = reader.text(section, "traces")?;
    let is_address = ["http://", "https://", super::UNSET].iter().any(|start| address.starts_with(start));
    if !is_address {
        let text =
            format!("`traces` expects the address of a collector, such as `http://localhost:4318`, found `{address}`");
        reader.mistake_at(section, "traces", text);
    }
    Some(address)
}

fn read_tls(reader: &mut Reader<'_>, section: &Section) -> Option<Tls> {
    reader.only(section, &["certificate", "key"]);
    for (key, what) in
        [("certificate", "the file of the certificate, in PEM"), ("key", "the file of its private key, in PEM")]
    {
        if !section.has(key) {
            reader.missing(section, key, what);
        }
    }
    Some(Tls { certificate: reader.text(section, "certificate")?, key: reader.text(section, "key")? })
}

/// An address to listen on.
fn address(reader: &mut Reader<'_>, section: &Section, key: &str) -> Option<std::net::SocketAddr> {
    let text = reader.text(section, key)?;
    let address = text.parse().ok();
    if address.is_none() && !text.starts_with(super::UNSET) {
        let text = format!("`{key}` expects an address and a port, such as `127.0.0.1:9464`, found `{text}`");
        reader.mistake_at(section, key, text);
    }
    address
}

pub(super) fn read_service(reader: &mut Reader<'_>, section: &Section) -> Service {
    reader.only(
        section,
        &["secret", "hosts", "origins", "persisted", "global_ids", "metrics_listen", "traces", "tls", "drain_seconds"],
    );
    let secret = reader.secret(section, "secret", super::address::is_stated);
    if secret.as_ref().is_some_and(|secret| secret.0.len() < 32 && !secret.0.starts_with(super::UNSET)) {
        reader.mistake_at(section, "secret", "the secret is shorter than 32 bytes; `openssl rand -hex 32` makes one");
    }
    let origins = reader.texts(section, "origins");
    for origin in &origins {
        if !(origin.starts_with("https://") || origin.starts_with("http://")) || origin.ends_with('/') {
            reader.mistake_at(
                section,
                "origins",
                format!("`{origin}` is not an origin: write scheme, host and port, such as `https://app.example`"),
            );
        }
    }
    Service {
        secret,
        hosts: reader.texts(section, "hosts"),
        origins,
        persisted: reader.flag(section, "persisted"),
        global_ids: reader.flag(section, "global_ids"),
        metrics_listen: address(reader, section, "metrics_listen"),
        traces: read_collector(reader, section),
        tls: reader.section(section, "tls").and_then(|section| read_tls(reader, &section)),
        drain_seconds: reader.number(section, "drain_seconds", 0, 3_600).unwrap_or(0),
    }
}
