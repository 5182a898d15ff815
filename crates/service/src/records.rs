//! Records: what Puente itself remembers, in `.puente/records.db`. For now, access keys: only their hashes are kept.

use std::collections::HashMap;
use std::fmt;
use std::path::Path;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use ring::digest;
use ring::rand::{SecureRandom as _, SystemRandom};
use rusqlite::{Connection, params};

/// How long a verified key is believed without asking the records again: a revoked key is refused after that.
const BELIEVED: Duration = Duration::from_secs(1);

/// An access key as the records know it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AccessKey {
    /// Its number.
    pub id: i64,
    /// What it is for.
    pub name: String,
    /// The role that it asks as.
    pub role: String,
    /// When it was made, UTC.
    pub created_at: String,
    /// When it was last used, UTC, to the second of the first use after the last look.
    pub last_used_at: Option<String>,
    /// When it was revoked, UTC.
    pub revoked_at: Option<String>,
}

/// Why the records cannot be used.
#[derive(Debug)]
pub struct RecordsError(String);

impl fmt::Display for RecordsError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "the records in .puente/records.db cannot be used: {}", self.0)
    }
}

impl std::error::Error for RecordsError {}

impl From<rusqlite::Error> for RecordsError {
    fn from(error: rusqlite::Error) -> Self {
        RecordsError(error.to_string())
    }
}

type KeyHash = [u8; 32];

/// The records of one project.
pub struct Records {
    connection: Mutex<Connection>,
    believed: Mutex<HashMap<KeyHash, (String, Instant)>>,
}

impl fmt::Debug for Records {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Records")
    }
}

const SCHEMA: &str = "
create table if not exists access_keys (
  id integer primary key,
  name text not null unique,
  role text not null,
  hash blob not null unique,
  created_at text not null default (strftime('%Y-%m-%dT%H:%M:%SZ', 'now')),
  last_used_at text,
  revoked_at text
) strict;";

impl Records {
    /// Opens the records, and makes them where they are not there.
    ///
    /// # Errors
    /// Where the file cannot be opened or is no database.
    pub fn open(file: &Path) -> Result<Self, RecordsError> {
        let connection = Connection::open(file)?;
        connection.busy_timeout(Duration::from_secs(5))?;
        connection.execute_batch(SCHEMA)?;
        restrict(file);
        Ok(Records { connection: Mutex::new(connection), believed: Mutex::default() })
    }

    /// Makes a key and returns it. It cannot be shown again: only its hash is kept.
    ///
    /// # Errors
    /// Where a key of this name is there already, or the records fail.
    pub fn create_key(&self, name: &str, role: &str) -> Result<String, RecordsError> {
        let key = format!("puente_{}", random_text(32));
        let connection = self.connection();
        let taken: bool =
            connection
                .query_row("select exists (select 1 from access_keys where name = ?)", [name], |row| row.get(0))?;
        if taken {
            return Err(RecordsError(format!(
                "a key named `{name}` is there already; revoke it, or choose another name"
            )));
        }
        connection.execute(
            "insert into access_keys (name, role, hash) values (?, ?, ?)",
            params![name, role, hash(&key).as_slice()],
        )?;
        Ok(key)
    }

    /// Every key ever made, without the keys themselves.
    ///
    /// # Errors
    /// Where the records fail.
    pub fn keys(&self) -> Result<Vec<AccessKey>, RecordsError> {
        let connection = self.connection();
        let mut statement = connection
            .prepare("select id, name, role, created_at, last_used_at, revoked_at from access_keys order by id")?;
        let rows = statement.query_map([], |row| {
            Ok(AccessKey {
                id: row.get(0)?,
                name: row.get(1)?,
                role: row.get(2)?,
                created_at: row.get(3)?,
                last_used_at: row.get(4)?,
                revoked_at: row.get(5)?,
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

    /// The role of a presented key, if it is in force.
    ///
    /// # Errors
    /// Where the records fail.
    pub fn role_of(&self, presented: &str) -> Result<Option<String>, RecordsError> {
        let hash = hash(presented);
        let believed = |map: &HashMap<KeyHash, (String, Instant)>| {
            map.get(&hash).filter(|(_, since)| since.elapsed() < BELIEVED).map(|(role, _)| role.clone())
        };
        if let Some(role) = believed(&lock(&self.believed)) {
            return Ok(Some(role));
        }
        let connection = self.connection();
        let role: Option<String> = connection
            .prepare_cached(
                "update access_keys set last_used_at = strftime('%Y-%m-%dT%H:%M:%SZ', 'now')
                 where hash = ? and revoked_at is null returning role",
            )?
            .query_map([hash.as_slice()], |row| row.get(0))?
            .next()
            .transpose()?;
        drop(connection);
        let mut known = lock(&self.believed);
        known.retain(|_, (_, since)| since.elapsed() < BELIEVED);
        if let Some(role) = &role {
            known.insert(hash, (role.clone(), Instant::now()));
        }
        Ok(role)
    }

    fn connection(&self) -> std::sync::MutexGuard<'_, Connection> {
        lock(&self.connection)
    }
}

fn lock<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

fn restrict(file: &Path) {
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt as _;
        if let Err(error) = std::fs::set_permissions(file, std::fs::Permissions::from_mode(0o600)) {
            tracing::warn!(target: "puente::service", %error, "the records could not be made private");
        }
    }
}

/// Keys are 256 random bits: a plain digest keeps them safe, a slow one would only slow down every ask.
pub(crate) fn hash(key: &str) -> KeyHash {
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

    #[test]
    fn a_key_is_kept_as_a_hash_and_refused_once_revoked() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("records.db");
        let records = Records::open(&file).unwrap();
        let key = records.create_key("ci", "owner").unwrap();
        assert!(!std::fs::read(&file).unwrap().windows(key.len()).any(|window| window == key.as_bytes()));
        assert_eq!(records.role_of(&key).unwrap().as_deref(), Some("owner"));
        assert_eq!(records.role_of("puente_wrong").unwrap(), None);
        assert!(records.create_key("ci", "owner").is_err(), "names are unique");
        assert!(records.revoke_key("ci").unwrap());
        let fresh = Records::open(&file).unwrap();
        assert_eq!(fresh.role_of(&key).unwrap(), None);
        assert!(fresh.keys().unwrap()[0].revoked_at.is_some());
    }
}
