//! Documents that clients name by their hash: each is sent once, and by its hash alone from then on. Kept per role, so that no
//! caller makes those of another role forgotten, and none learns whether another role knows a document.

use std::sync::Arc;

use puente_core::error::{Code, Problem};
use puente_core::project::hash_of_digits;
use quick_cache::Weighter;
use quick_cache::sync::Cache;
use ring::digest;
use serde_json::{Map, Value as Json};

use crate::api::Ask;
use crate::roles::RoleApi;

/// The SHA-256 hash of a document's text.
pub type Hash = [u8; 32];

/// Bytes of documents that one role may hold.
const BYTES_PER_ROLE: u64 = 4 << 20;
/// About how many of them are expected.
const ITEMS: usize = 1_024;

/// The documents of one role.
#[derive(Debug)]
pub(crate) struct Persisted(Cache<Hash, Arc<str>, Bytes>);

#[derive(Debug, Clone)]
struct Bytes;

impl Weighter<Hash, Arc<str>> for Bytes {
    fn weight(&self, hash: &Hash, text: &Arc<str>) -> u64 {
        (hash.len() + text.len()) as u64
    }
}

impl Default for Persisted {
    fn default() -> Self {
        Persisted(Cache::with_weighter(ITEMS, BYTES_PER_ROLE, Bytes))
    }
}

impl Persisted {
    /// Bytes that it holds.
    pub(crate) fn weight(&self) -> u64 {
        self.0.weight()
    }

    /// Keeps a document whose hash was compared, and which fits the role's schema.
    pub(crate) fn keep(&self, hash: Hash, text: &str) {
        if self.0.peek(&hash).is_none() {
            self.0.insert(hash, text.into());
        }
    }
}

/// The hash in a request's extensions: `{"persistedQuery": {"version": 1, "sha256Hash": "…"}}`.
///
/// # Errors
/// What was expected of it.
pub(crate) fn hash_of(extensions: &Map<String, Json>) -> Result<Option<Hash>, String> {
    const EXPECTED: &str = "`extensions.persistedQuery` expects `version` 1 and `sha256Hash`, 64 hexadecimal digits";
    let Some(said) = extensions.get("persistedQuery").filter(|said| !said.is_null()) else { return Ok(None) };
    let said = said.as_object().ok_or(EXPECTED)?;
    if said.get("version").and_then(Json::as_u64) != Some(1) {
        return Err(EXPECTED.to_owned());
    }
    let hash = said.get("sha256Hash").and_then(Json::as_str).and_then(hash_of_digits).ok_or(EXPECTED)?;
    Ok(Some(hash))
}

/// Puts in the document that a request names by its hash, and compares the hash with a document that is there.
///
/// # Errors
/// The codes by which clients fall back, and send the document; `INVALID_REQUEST` for a hash of another document.
pub(crate) fn resolve(role: &RoleApi, is_kept: bool, ask: &mut Ask) -> Result<(), Problem> {
    let Some(hash) = ask.hash else { return Ok(()) };
    if ask.document.is_empty() {
        // Clients look for these texts, too, word for word.
        if !is_kept {
            return Err(Problem::new(Code::PersistedQueryNotSupported, "PersistedQueryNotSupported"));
        }
        let known = role.persisted.0.get(&hash);
        let known = known.ok_or_else(|| Problem::new(Code::PersistedQueryNotFound, "PersistedQueryNotFound"))?;
        ask.document = known.as_ref().to_owned();
        return Ok(());
    }
    if digest::digest(&digest::SHA256, ask.document.as_bytes()).as_ref() != hash {
        let text = "`extensions.persistedQuery.sha256Hash` is the hash of another document; send that of `query`";
        return Err(Problem::new(Code::InvalidRequest, text));
    }
    Ok(())
}
