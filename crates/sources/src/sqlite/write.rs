//! The one writer of a file: a thread of its own, which takes mutations in the order in which they came.

use std::panic::AssertUnwindSafe;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use futures_util::FutureExt as _;
use puente_core::error::{Code, Problem};
use puente_core::rows::{Rows, check_held};
use puente_core::value::Scalar;
use puente_sql::{Dialect, Slot, Statement};
use rusqlite::ffi;
use rusqlite::{Connection, Error};
use tokio::sync::oneshot;

use super::bind::{bind, bind_slot, keys_json};
use super::pool::{
    CancelOnDrop, Claim, Current, INSTRUCTIONS_PER_CHECK, Identity, Jobs, MOST_WAITING, answered, identity, lock,
};
use super::run::cell;
use super::statements::Kept;
use super::{DatabaseFile, fault};
use crate::statements::{Lowered, SqlSession};
use puente_run::change::{self, ConstraintKind, ConstraintViolation, Failure, Values};
use puente_run::turns::{self, Place, Places, Queue};
use puente_run::{ChangeRequest, Outcome};

/// The writer of one file.
#[derive(Debug, Clone)]
pub(super) struct Writer {
    jobs: Arc<Jobs<Job>>,
}

struct Job {
    request: ChangeRequest,
    cancelled: Arc<AtomicBool>,
    claim: Claim,
    reply: oneshot::Sender<Result<Outcome, Problem>>,
}

impl std::fmt::Debug for Job {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Job").field("deadline", &self.request.deadline).finish_non_exhaustive()
    }
}

impl Writer {
    /// Starts the thread. The file is opened with the first mutation.
    pub(super) fn start(file: Arc<DatabaseFile>) -> Self {
        let jobs = Arc::new(Queue::new(Places { regular: 1, spare: 0 }, MOST_WAITING));
        let queue = Arc::clone(&jobs);
        let work = move || Work::new(file).work(&queue);
        if let Err(error) = std::thread::Builder::new().name("sqlite-writer".to_owned()).spawn(work) {
            tracing::error!(target: "puente::source", %error, "the writing thread could not be started");
        }
        Writer { jobs: Arc::new(Jobs(jobs)) }
    }

    pub(super) async fn change(&self, request: ChangeRequest) -> Result<Outcome, Problem> {
        let cancelled = Arc::new(AtomicBool::new(false));
        let _guard = CancelOnDrop(Arc::clone(&cancelled));
        let (reply, answer) = oneshot::channel();
        let (caller, deadline, claim) = (request.party.clone(), request.deadline, Claim::default());
        if let Err(job) = self.jobs.0.push(&caller, Job { request, cancelled, claim: claim.clone(), reply }) {
            drop(job.reply.send(Err(turns::too_busy())));
        }
        answered(answer, deadline, &claim).await
    }
}

struct Work {
    file: Arc<DatabaseFile>,
    connection: Option<Kept>,
    identity: Option<Identity>,
    current: Arc<Mutex<Current>>,
}

impl Work {
    fn new(file: Arc<DatabaseFile>) -> Self {
        Work { file, connection: None, identity: None, current: Arc::default() }
    }

    fn work(mut self, queue: &Queue<Job>) {
        while let Some((_turn, Job { request, cancelled, claim, reply })) = queue.take(Place::Regular) {
            if cancelled.load(Ordering::Relaxed) || !claim.take() {
                continue;
            }
            *lock(&self.current) = Current { deadline: Some(request.deadline), cancelled: Some(cancelled) };
            let result = std::panic::catch_unwind(AssertUnwindSafe(|| self.change(&request)));
            let result = result.unwrap_or_else(|_| {
                self.connection = None;
                Err(Problem::new(Code::Internal, "a mistake of ours; the log has the details under the request's id"))
            });
            // Nobody waits any more: nothing to say.
            drop(reply.send(result));
        }
    }

    fn change(&mut self, request: &ChangeRequest) -> Result<Outcome, Problem> {
        let file = Arc::clone(&self.file);
        let current = Arc::clone(&self.current);
        let told = |error: Error| fault::problem(&error, &file);
        let kept = self.connection(request.deadline).map_err(told)?;
        kept.tidy();
        begin(&kept.connection, request.deadline).map_err(told)?;
        let dangled = if request.rehearse { dangling(&kept.connection).unwrap_or_default() } else { 0 };
        let session = Transaction { kept, file: &file };
        let result = change::run(&mut Lowered(session), request)
            .now_or_never()
            .unwrap_or_else(|| Err(Problem::new(Code::Internal, "an embedded database kept us waiting")));
        let connection = &kept.connection;
        let ended = match &result {
            Ok(_) if request.rehearse => dangling(connection).and_then(|now| no_more_than(dangled, now)),
            Ok(_) => {
                // From here on it is finished, whoever still waits.
                *lock(&current) = Current::default();
                commit(connection, request.deadline)
            }
            Err(_) => Ok(()),
        };
        let rolled_back = if connection.is_autocommit() { Ok(()) } else { connection.execute_batch("rollback") };
        if let Err(error) = rolled_back {
            tracing::error!(target: "puente::source", detail = fault::told(&error).told(), "a transaction could not be rolled back");
            self.connection = None;
        }
        ended.map_err(|error| match refusal(&error) {
            Some(refusal) => change::late_refusal(refusal),
            None => fault::problem(&error, &file),
        })?;
        result
    }

    fn connection(&mut self, deadline: Instant) -> rusqlite::Result<&mut Kept> {
        if self.connection.is_some() && identity(&self.file.path) != self.identity {
            self.connection = None;
        }
        if self.connection.is_none() {
            self.identity = identity(&self.file.path);
            let mut connection =
                super::open_for_writing(&self.file.path, deadline.saturating_duration_since(Instant::now()))?;
            let current = Arc::clone(&self.current);
            connection.progress_handler(INSTRUCTIONS_PER_CHECK, Some(move || lock(&current).is_over()))?;
            self.connection = Some(Kept::new(connection));
        }
        Ok(self.connection.as_mut().expect("just opened"))
    }
}

/// Takes the lock for writing, and waits for whoever has it until the deadline.
fn begin(connection: &Connection, deadline: Instant) -> rusqlite::Result<()> {
    connection.busy_timeout(deadline.saturating_duration_since(Instant::now()))?;
    connection.execute_batch("begin immediate")
}

/// Commits; readers of other processes may stand in the way for a moment.
fn commit(connection: &Connection, deadline: Instant) -> rusqlite::Result<()> {
    const LEAST: Duration = Duration::from_secs(1);
    connection.busy_timeout(deadline.saturating_duration_since(Instant::now()).max(LEAST))?;
    connection.execute_batch("commit")
}

/// How many rows refer to nothing, where some foreign keys are looked at with the commit only: a rehearsal has none.
fn dangling(connection: &Connection) -> rusqlite::Result<i64> {
    const DEFERS: &str = "select exists (select 1 from sqlite_schema where sql like '%deferred%')";
    if !connection.prepare_cached(DEFERS)?.query_row([], |row| row.get::<_, bool>(0))? {
        return Ok(0);
    }
    connection.prepare_cached("select count(*) from pragma_foreign_key_check")?.query_row([], |row| row.get(0))
}

/// What the commit would say of foreign keys.
fn no_more_than(before: i64, now: i64) -> rusqlite::Result<()> {
    if now <= before {
        return Ok(());
    }
    let code = ffi::SQLITE_CONSTRAINT_FOREIGNKEY;
    Err(Error::SqliteFailure(ffi::Error::new(code), Some("FOREIGN KEY constraint failed".to_owned())))
}

/// The transaction of one mutation.
struct Transaction<'c> {
    kept: &'c mut Kept,
    file: &'c DatabaseFile,
}

impl SqlSession for Transaction<'_> {
    fn dialect(&self) -> &'static dyn Dialect {
        &puente_sql::Sqlite
    }

    fn run_statement(
        &mut self,
        statement: &Statement,
        values: Values<'_>,
        _: &[Option<Scalar>],
    ) -> impl Future<Output = Result<Rows<'static>, Failure>> + Send {
        let rows = execute(self.kept, statement, values).map_err(|error| match refusal(&error) {
            Some(refusal) => Failure::Refused(refusal),
            None => Failure::Problem(fault::problem(&error, self.file)),
        });
        std::future::ready(rows.and_then(|rows| rows.map_err(Failure::Problem)))
    }
}

/// The rows of a statement, or the problem of too many of them.
fn execute(kept: &Kept, statement: &Statement, values: Values<'_>) -> rusqlite::Result<Result<Rows<'static>, Problem>> {
    let mut prepared = kept.prepare(&statement.text)?;
    for (at, slot) in statement.slots.iter().enumerate() {
        match (slot, values.keys) {
            (Slot::Given(number), _) => bind(&mut prepared, at + 1, &values.given[*number])?,
            (Slot::Keys, Some(keys)) => prepared.raw_bind_parameter(at + 1, keys_json(keys))?,
            _ => bind_slot(&mut prepared, at + 1, slot, values.bound)?,
        }
    }
    let width = prepared.column_count();
    let mut into = Rows::default();
    into.clear(width);
    let mut rows = prepared.raw_query();
    while let Some(row) = rows.next()? {
        for column in 0..width {
            into.push(cell(row.get_ref(column)?));
        }
        if let Err(problem) = check_held(into.weight(), values.most_bytes) {
            return Ok(Err(problem));
        }
    }
    Ok(Ok(into))
}

/// What a table does not take, read off SQLite's error.
fn refusal(error: &Error) -> Option<ConstraintViolation> {
    let Error::SqliteFailure(code, Some(text)) = error else { return None };
    let rule = match code.extended_code {
        ffi::SQLITE_CONSTRAINT_UNIQUE | ffi::SQLITE_CONSTRAINT_PRIMARYKEY | ffi::SQLITE_CONSTRAINT_ROWID => {
            ConstraintKind::Unique
        }
        ffi::SQLITE_CONSTRAINT_FOREIGNKEY => ConstraintKind::Reference,
        ffi::SQLITE_CONSTRAINT_NOTNULL => ConstraintKind::NotNull,
        ffi::SQLITE_CONSTRAINT_CHECK | ffi::SQLITE_CONSTRAINT_TRIGGER => ConstraintKind::Check,
        ffi::SQLITE_CONSTRAINT_DATATYPE => ConstraintKind::Form,
        ffi::SQLITE_MISMATCH => ConstraintKind::Form,
        ffi::SQLITE_TOOBIG => ConstraintKind::Length,
        _ => return None,
    };
    // `UNIQUE constraint failed: huts.code, huts.name`; a check's text, or its name.
    let told = text.split_once(": ").map(|(_, told)| told).unwrap_or_default();
    let column = |part: &str| part.trim().rsplit_once('.').map(|(_, column)| column.to_owned());
    let columns: Vec<String> =
        if rule == ConstraintKind::Check { Vec::new() } else { told.split(", ").filter_map(column).collect() };
    let constraint = (columns.is_empty() && !told.is_empty()).then(|| told.to_owned());
    Some(ConstraintViolation { rule, columns, constraint, detail: fault::told(error) })
}
