//! The access keys that are in force, in memory: a flood of keys that nobody made costs a hash each, and never touches the
//! records. A thread of its own reads them again when they changed, and writes down which were used.

use std::collections::{HashMap, HashSet};
use std::path::Path;
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::sync::{Arc, Mutex, PoisonError, RwLock};
use std::time::{Duration, Instant};

use jiff::Timestamp;
use rusqlite::Connection;
use tokio::sync::oneshot;

use crate::access_keys::{KeyInForce, RecordsError, lock};

type KeyHash = [u8; 32];

/// How often it is looked whether the records changed.
const BETWEEN_LOOKS: Duration = Duration::from_secs(1);
/// How long whoever comes with a key that is not known waits for another look.
const PATIENCE: Duration = Duration::from_millis(500);
/// How often it is written down which keys were used.
const BETWEEN_WRITES: Duration = Duration::from_secs(5);
/// How long the thread waits for whoever locks the records.
const BUSY_TIMEOUT: Duration = Duration::from_millis(250);

/// A key, and when it ends.
struct Known {
    key: Arc<KeyInForce>,
    id: i64,
    expires_at: Option<Timestamp>,
}

/// What the thread and those who ask share.
#[derive(Default)]
struct Shared {
    keys: RwLock<HashMap<KeyHash, Known>>,
    used: Mutex<HashSet<i64>>,
}

/// The keys in force.
pub(crate) struct KnownKeys {
    shared: Arc<Shared>,
    looks: Sender<oneshot::Sender<()>>,
}

impl KnownKeys {
    /// Reads the keys and starts the thread, which ends with this.
    pub(crate) fn start(file: &Path) -> Result<Self, RecordsError> {
        let connection = Connection::open(file)?;
        connection.busy_timeout(BUSY_TIMEOUT)?;
        let shared = Arc::new(Shared::default());
        let mut keeper = Keeper { connection, shared: Arc::clone(&shared), version: None, written: Instant::now() };
        keeper.try_to_look()?;
        let (looks, asked) = channel();
        let started = std::thread::Builder::new().name("access-keys".to_owned()).spawn(move || keeper.work(&asked));
        started.map_err(|error| RecordsError(format!("no thread ({error})")))?;
        Ok(KnownKeys { shared, looks })
    }

    /// What the key of a hash is good for.
    pub(crate) async fn find(&self, hash: &KeyHash) -> Option<Arc<KeyInForce>> {
        if let Some(key) = self.known(hash) {
            return Some(key);
        }
        // Perhaps it was made this moment. A look at whether the records changed takes microseconds, and all who come with
        // strange keys meanwhile wait for the same one.
        let (done, looked) = oneshot::channel();
        if self.looks.send(done).is_ok() {
            let _ = tokio::time::timeout(PATIENCE, looked).await;
        }
        self.known(hash)
    }

    fn known(&self, hash: &KeyHash) -> Option<Arc<KeyInForce>> {
        let keys = self.shared.keys.read().unwrap_or_else(PoisonError::into_inner);
        let known = keys.get(hash)?;
        if known.expires_at.is_some_and(|end| end <= Timestamp::now()) {
            return None;
        }
        lock(&self.shared.used).insert(known.id);
        Some(Arc::clone(&known.key))
    }
}

/// The thread.
struct Keeper {
    connection: Connection,
    shared: Arc<Shared>,
    /// What the records' file was at the last look.
    version: Option<i64>,
    written: Instant,
}

impl Keeper {
    fn work(mut self, asked: &Receiver<oneshot::Sender<()>>) {
        loop {
            let waiting = match asked.recv_timeout(BETWEEN_LOOKS) {
                Ok(first) => std::iter::once(first).chain(asked.try_iter()).collect(),
                Err(RecvTimeoutError::Timeout) => Vec::new(),
                Err(RecvTimeoutError::Disconnected) => {
                    self.write_used();
                    return;
                }
            };
            self.look();
            for done in waiting {
                // It may have given up by now.
                let _ = done.send(());
            }
            if self.written.elapsed() >= BETWEEN_WRITES {
                self.write_used();
            }
        }
    }

    /// Reads the keys again where the file changed. Where it cannot be read, what is known serves on.
    fn look(&mut self) {
        if let Err(error) = self.try_to_look() {
            tracing::warn!(target: "puente::service", %error, "the access keys could not be read again");
        }
    }

    fn try_to_look(&mut self) -> Result<(), RecordsError> {
        // Another connection's writes change it, our own do not: those change nothing that is read here.
        let version = self.connection.query_row("pragma data_version", [], |row| row.get::<_, i64>(0))?;
        if Some(version) != self.version {
            let keys = read(&self.connection)?;
            *self.shared.keys.write().unwrap_or_else(PoisonError::into_inner) = keys;
            self.version = Some(version);
        }
        Ok(())
    }

    /// Writes down which keys were used since the last time, all at once. Where that fails, they are told the next time.
    fn write_used(&mut self) {
        self.written = Instant::now();
        let used: Vec<i64> = std::mem::take(&mut *lock(&self.shared.used)).into_iter().collect();
        if used.is_empty() {
            return;
        }
        let ids = serde_json::to_string(&used).unwrap_or_default();
        let written = self.connection.execute(
            "update access_keys set last_used_at = strftime('%Y-%m-%dT%H:%M:%SZ', 'now')
             where id in (select value from json_each(?))",
            [ids],
        );
        if let Err(error) = written {
            tracing::warn!(target: "puente::service", %error, "which keys were used could not be written down");
            lock(&self.shared.used).extend(used);
        }
    }
}

fn read(connection: &Connection) -> Result<HashMap<KeyHash, Known>, RecordsError> {
    let mut statement = connection.prepare_cached(
        "select id, hash, name, role, claims, expires_at, metrics from access_keys where revoked_at is null",
    )?;
    let mut rows = statement.query([])?;
    let mut keys = HashMap::new();
    while let Some(row) = rows.next()? {
        let (id, hash, name): (i64, Vec<u8>, String) = (row.get(0)?, row.get(1)?, row.get(2)?);
        let (role, claims, expires_at): (String, String, Option<String>) = (row.get(3)?, row.get(4)?, row.get(5)?);
        let wrong = |what: &str| RecordsError(format!("the {what} of key `{name}` cannot be read"));
        let hash = KeyHash::try_from(hash).map_err(|_| wrong("hash"))?;
        let claims = serde_json::from_str(&claims).map_err(|_| wrong("claims"))?;
        let expires_at = expires_at.map(|text| text.parse::<Timestamp>().map_err(|_| wrong("end"))).transpose()?;
        let is_for_counters: bool = row.get(6)?;
        let role = Some(role).filter(|_| !is_for_counters);
        let key = Arc::new(KeyInForce { name: name.into(), role, claims: Arc::new(claims) });
        keys.insert(hash, Known { key, id, expires_at });
    }
    Ok(keys)
}
