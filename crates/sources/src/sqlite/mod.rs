//! SQLite, in process. Reads run on threads of their own, each with one `query_only` connection; the children of a request
//! are nested prepared cursors, bound and stepped once per parent's row, or come in one pass per level.

mod bind;
mod checks;
mod decimals;
mod explain;
mod fault;
mod pool;
mod run;
mod sample;
mod statements;
mod survey;
mod write;

use std::path::{Path, PathBuf};
use std::time::Duration;

use puente_core::error::{Code, Problem};
use puente_core::project::SourceSettings;
use rusqlite::config::DbConfig;
use rusqlite::{Connection, OpenFlags};

pub use fault::problem;
pub use pool::Pool;
pub(crate) use pool::connector;
pub(crate) use survey::fingerprint;
pub use survey::survey;

/// The file of a source, and what may be said of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DatabaseFile {
    /// Where it is.
    pub path: PathBuf,
    /// What it is called, in the words of the project file: what comes from a variable by the variable's name.
    pub shown: String,
}

impl DatabaseFile {
    /// The file of a source; a relative path counts from `base`.
    pub fn of(settings: &SourceSettings, base: &Path) -> Self {
        let shown = file_of(&settings.shown, Path::new(""));
        let shown = shown.file_name().map_or_else(String::new, |name| name.to_string_lossy().into_owned());
        DatabaseFile { path: file_of(&settings.url.0, base), shown }
    }

    /// A file that may be called by its name.
    pub fn named(path: PathBuf) -> Self {
        let shown = path.file_name().map_or_else(String::new, |name| name.to_string_lossy().into_owned());
        DatabaseFile { path, shown }
    }
}

/// The file that an address such as `sqlite:data/huts.db` names; a relative path counts from `base`.
pub fn file_of(address: &str, base: &Path) -> PathBuf {
    let path = address.strip_prefix("sqlite:").unwrap_or(address);
    base.join(path.strip_prefix("//").unwrap_or(path))
}

/// Opens a file for reading only, and waits so long for another process that holds it. The file is never created or changed.
fn open(file: &Path, patience: Duration) -> rusqlite::Result<Connection> {
    let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    let connection = Connection::open_with_flags(file, flags)?;
    connection.pragma_update(None, "query_only", true)?;
    // Without the planner's guarantee of stability every binding of a LIMIT, and of a value that the statistics know
    // something about, has the statement prepared again: once per parent's row.
    connection.set_db_config(DbConfig::SQLITE_DBCONFIG_ENABLE_QPSG, true)?;
    connection.busy_timeout(patience)?;
    decimals::add_to(&connection)?;
    // Opening is lazy: only a read tells whether it is a database at all.
    past_rollback(|| tables(&connection))?;
    Ok(connection)
}

/// How often something is read that meets a change which is being rolled back, and how long is waited in between.
const MOST_READS: usize = 40;
const ROLLBACK_PAUSE: Duration = Duration::from_millis(5);

/// Reads again what met the journal of a change in the instant in which its writer has rolled back and removes it: to a connection that
/// may not write that looks like a change that nobody finished. Only a first read can, so it has read nothing yet.
fn past_rollback<T>(mut read: impl FnMut() -> rusqlite::Result<T>) -> rusqlite::Result<T> {
    for _ in 1..MOST_READS {
        match read() {
            Err(error) if fault::is_unfinished(&error) => std::thread::sleep(ROLLBACK_PAUSE),
            result => return result,
        }
    }
    read()
}

/// How many things a file's schema has.
fn tables(connection: &Connection) -> rusqlite::Result<i64> {
    connection.query_row("select count(*) from sqlite_schema", [], |row| row.get(0))
}

/// Opens a file for reading and writing, and waits so long for another process that holds it. It is never created.
fn open_for_writing(file: &Path, patience: Duration) -> rusqlite::Result<Connection> {
    let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    let connection = Connection::open_with_flags(file, flags)?;
    // The library waits five seconds where nothing is said.
    connection.busy_timeout(patience)?;
    // SQLite leaves foreign keys alone unless it is told otherwise, connection by connection.
    connection.pragma_update(None, "foreign_keys", true)?;
    decimals::add_to(&connection)?;
    tables(&connection)?;
    Ok(connection)
}

/// How long a read waits for another process that holds the file.
const BUSY_TIMEOUT: Duration = Duration::from_secs(2);

/// Can the file be opened and read, and is there anything in it?
///
/// # Errors
/// `SOURCE_UNAVAILABLE`, with the reason; `SOURCE_DRIFTED` where it is empty.
pub fn probe(file: &DatabaseFile) -> Result<(), Problem> {
    let there = open(&file.path, BUSY_TIMEOUT).and_then(|connection| past_rollback(|| tables(&connection)));
    let there = there.map_err(|error| problem(&error, file))?;
    if there > 0 {
        return Ok(());
    }
    let text =
        "the database file has no tables: is it the one that was surveyed? Restore it, or correct the source's `url`";
    Err(Problem::new(Code::SourceDrifted, text))
}
