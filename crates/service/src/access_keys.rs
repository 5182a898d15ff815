//! AccessKeys: what Puente itself remembers, in `.puente/records.db`. For now, access keys: only their hashes are kept.
//! Whoever asks is found among them in memory ([`known`](crate::known_keys)).

use std::fmt;
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use ring::digest;
use ring::rand::{SecureRandom as _, SystemRandom};
use rusqlite::{Connection, params};
use serde_json::{Map, Value as Json};

use crate::known_keys::KnownKeys;

/// An access key as the records know it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AccessKey {
    /// Its number.
    pub id: i64,
    /// What it is for.
    pub name: String,
    /// The role that it asks as.
    pub role: String,
    /// Is it for counters alone?
    pub metrics: bool,
    /// The claims that it asks with, as a JSON object.
    pub claims: String,
    /// When it expires, UTC; absent, never.
    pub expires_at: Option<String>,
    /// When it was made, UTC.
    pub created_at: String,
    /// When it was last used, UTC, to the second of the first use after the last look.
    pub last_used_at: Option<String>,
    /// When it was revoked, UTC.
    pub revoked_at: Option<String>,
}

/// Why the records cannot be used.
#[derive(Debug, Clone)]
pub struct RecordsError(pub(crate) String);

impl fmt::Display for RecordsError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "the access keys in .puente/records.db cannot be used: {}", self.0)
    }
}

impl std::error::Error for RecordsError {}

impl From<rusqlite::Error> for RecordsError {
    fn from(error: rusqlite::Error) -> Self {
        RecordsError(error.to_string())
    }
}

/// A key to be made.
#[derive(Debug, Clone, Default)]
pub struct NewKey<'a> {
    /// What it is for.
    pub name: &'a str,
    /// The role that it asks as.
    pub role: &'a str,
    /// The claims that it asks with.
    pub claims: Map<String, Json>,
    /// How long it is in force; absent, until it is revoked.
    pub lifetime: Option<Duration>,
    /// Is it for counters alone? Then it has no role.
    pub metrics: bool,
}

/// What a key in force is good for.
#[derive(Debug)]
pub(crate) struct KeyInForce {
    pub(crate) name: Arc<str>,
    /// The role that it asks as; none where it reads counters alone.
    pub(crate) role: Option<String>,
    pub(crate) claims: Arc<Map<String, Json>>,
}

type KeyHash = [u8; 32];

/// The records of one project.
pub struct AccessKeys {
    connection: Mutex<Connection>,
    known: KnownKeys,
}

impl fmt::Debug for AccessKeys {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("AccessKeys")
    }
}

const SCHEMA: &str = "
create table if not exists access_keys (
  id integer primary key,
  name text not null unique,
  role text not null,
  claims text not null default '{}',
  metrics integer not null default 0,
  hash blob not null unique,
  created_at text not null default (strftime('%Y-%m-%dT%H:%M:%SZ', 'now')),
  expires_at text,
  last_used_at text,
  revoked_at text
) strict;";

/// Columns that records made by an earlier version lack.
const ADDED: [(&str, &str); 3] =
    [("claims", "text not null default '{}'"), ("expires_at", "text"), ("metrics", "integer not null default 0")];

impl AccessKeys {
    /// Opens the records, and makes them where they are not there.
    ///
    /// # Errors
    /// Where the file cannot be opened or is not a database.
    pub fn open(file: &Path) -> Result<Self, RecordsError> {
        let connection = Connection::open(file)?;
        connection.busy_timeout(Duration::from_secs(5))?;
        connection.execute_batch(SCHEMA)?;
        for (column, definition) in ADDED {
            let is_there: bool = connection.query_row(
                "select exists (select 1 from pragma_table_info('access_keys') where name = ?)",
                [column],
                |row| row.get(0),
            )?;
            if !is_there {
                connection.execute_batch(&format!("alter table access_keys add column {column} {definition}"))?;
            }
        }
        restrict(file);
        Ok(AccessKeys { connection: Mutex::new(connection), known: KnownKeys::start(file)? })
    }

    /// Makes a key and returns it. It cannot be shown again: only its hash is kept.
    ///
    /// # Errors
    /// Where a key of this name is there already, or the records fail.
    pub fn create_key(&self, new: &NewKey<'_>) -> Result<String, RecordsError> {
        let key = new_key();
        let connection = self.connection();
        let NewKey { name, role, claims, lifetime, metrics } = new;
        let taken: bool =
            connection
                .query_row("select exists (select 1 from access_keys where name = ?)", [name], |row| row.get(0))?;
        if taken {
            return Err(RecordsError(format!(
                "a key named `{name}` was made before, and the name stays with it, revoked or not; choose another name"
            )));
        }
        let claims = Json::Object(claims.clone()).to_string();
        let seconds = lifetime.map(|lifetime| format!("+{} seconds", lifetime.as_secs()));
        connection.execute(
            "insert into access_keys (name, role, claims, hash, expires_at, metrics)
             values (?, ?, ?, ?, iif(?5 is null, null, strftime('%Y-%m-%dT%H:%M:%SZ', 'now', ?5)), ?6)",
            params![name, role, claims, hash(&key).as_slice(), seconds, metrics],
        )?;
        Ok(key)
    }

    /// Every key ever made, without the keys themselves.
    ///
    /// # Errors
    /// Where the records fail.
    pub fn keys(&self) -> Result<Vec<AccessKey>, RecordsError> {
        let connection = self.connection();
        let mut statement = connection.prepare(
            "select id, name, role, created_at, last_used_at, revoked_at, claims, expires_at, metrics
                 from access_keys order by id",
        )?;
        let rows = statement.query_map([], |row| {
            Ok(AccessKey {
                id: row.get(0)?,
                name: row.get(1)?,
                role: row.get(2)?,
                created_at: row.get(3)?,
                last_used_at: row.get(4)?,
                revoked_at: row.get(5)?,
                claims: row.get(6)?,
                expires_at: row.get(7)?,
                metrics: row.get(8)?,
            })
        })?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    /// Revokes a key by its name; false where there is none in force.
    ///
    /// # Errors
    /// Where the records fail.
    pub fn revoke_key(&self, name: &str) -> Result<bool, RecordsError> {
        let changed = self.connection().execute(
            "update access_keys set revoked_at = strftime('%Y-%m-%dT%H:%M:%SZ', 'now')
             where name = ? and revoked_at is null",
            [name],
        )?;
        Ok(changed > 0)
    }

    /// What a presented key is good for, by its hash, if it is in force: a look into memory. A key that was made or revoked is
    /// heard of within a second.
    pub(crate) async fn key(&self, presented: &KeyHash) -> Option<Arc<KeyInForce>> {
        self.known.find(presented).await
    }

    fn connection(&self) -> std::sync::MutexGuard<'_, Connection> {
        lock(&self.connection)
    }
}

pub(crate) fn lock<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// A new key.
pub fn new_key() -> String {
    format!("puente_{}", random_text(32))
}

fn restrict(file: &Path) {
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt as _;
        if let Err(error) = std::fs::set_permissions(file, std::fs::Permissions::from_mode(0o600)) {
            tracing::warn!(target: "puente::service", %error, "the access keys could not be made private");
        }
    }
}

/// Keys are 256 random bits: a plain digest keeps them safe, a slow one would only slow down every request.
pub fn hash(key: &str) -> KeyHash {
    let mut hash = [0; 32];
    hash.copy_from_slice(digest::digest(&digest::SHA256, key.as_bytes()).as_ref());
    hash
}

/// Random bytes as text that is safe in addresses.
pub(crate) fn random_text(bytes: usize) -> String {
    let mut random = vec![0; bytes];
    SystemRandom::new().fill(&mut random).expect("the operating system gives random bytes");
    URL_SAFE_NO_PAD.encode(random)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn key<'a>(name: &'a str, lifetime: Option<u64>) -> NewKey<'a> {
        let claims = serde_json::json!({ "sub": "7" }).as_object().cloned().unwrap_or_default();
        NewKey { name, role: "warden", claims, lifetime: lifetime.map(Duration::from_secs), metrics: false }
    }

    #[tokio::test]
    async fn a_key_is_kept_as_a_hash_and_refused_once_revoked_or_expired() {
        let folder = puente_testkit::leftovers::folder();
        let file = folder.path().join("records.db");
        let access_keys = AccessKeys::open(&file).unwrap();
        let made = access_keys.create_key(&key("ci", None)).unwrap();
        assert!(!std::fs::read(&file).unwrap().windows(made.len()).any(|window| window == made.as_bytes()));
        let found = access_keys.key(&hash(&made)).await.unwrap();
        assert_eq!((found.role.as_deref(), &found.claims["sub"]), (Some("warden"), &Json::from("7")));
        assert!(access_keys.key(&hash("puente_wrong")).await.is_none());
        assert!(access_keys.create_key(&key("ci", None)).is_err(), "names are unique");
        assert!(access_keys.revoke_key("ci").unwrap());
        let fresh = AccessKeys::open(&file).unwrap();
        assert!(fresh.key(&hash(&made)).await.is_none());
        assert!(fresh.keys().unwrap()[0].revoked_at.is_some());
        let ended = fresh.create_key(&key("ended", Some(0))).unwrap();
        assert!(fresh.key(&hash(&ended)).await.is_none(), "it has expired");
        let lasting = fresh.create_key(&key("lasting", Some(60))).unwrap();
        assert!(fresh.key(&hash(&lasting)).await.is_some());
    }

    #[tokio::test]
    async fn records_of_an_earlier_version_are_taken_over() {
        let folder = puente_testkit::leftovers::folder();
        let file = folder.path().join("records.db");
        let old = Connection::open(&file).unwrap();
        old.execute_batch(
            "create table access_keys (id integer primary key, name text not null unique, role text not null,
               hash blob not null unique, created_at text not null default 'then', last_used_at text, revoked_at text)
             strict",
        )
        .unwrap();
        old.execute(
            "insert into access_keys (name, role, hash) values ('old', 'owner', ?)",
            [hash("puente_old").as_slice()],
        )
        .unwrap();
        let access_keys = AccessKeys::open(&file).unwrap();
        assert_eq!(access_keys.key(&hash("puente_old")).await.unwrap().role.as_deref(), Some("owner"));
    }
}
