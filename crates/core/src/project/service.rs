//! `[service]`: how the service is reached, and what it offers beside plain requests.

use super::Secret;
use super::reader::{self, Reader, Section};

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
}

pub(super) fn read_service(reader: &mut Reader<'_>, section: &Section) -> Service {
    reader.only(section, &["secret", "hosts", "origins", "persisted", "global_ids"]);
    let secret = reader.secret(section, "secret", reader::is_stated);
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
    }
}
