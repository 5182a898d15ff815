//! A pool of reading threads. Each has one connection, opened when first needed and again when the file was replaced.

use std::panic::AssertUnwindSafe;
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant, SystemTime};

use futures_util::future::{BoxFuture, FutureExt as _};
use puente_core::error::{Code, Problem};
use puente_core::model::SourceId;
use puente_core::plan::{Capabilities, Plan};
use puente_core::project::SourceSettings;
use puente_sql::Dialect as _;
use tokio::sync::oneshot;

use super::DatabaseFile;
use super::statements::Kept;
use super::write::Writer;
use super::{explain, fault, run};
use crate::statements;
use puente_run::snapshot::{self, LevelJobs, Snapshot};
use puente_run::turns::{self, Load, Place, Places, Queue};
use puente_run::{ChangeRequest, Connector, Explanation, Outcome, Prepared, Request, Source};

/// Requests that may wait for a reader before those of who sent most of them are refused at once.
pub(super) const MOST_WAITING: usize = 1_024;
/// SQLite's virtual machine asks this often whether to stop: about every 20 µs.
pub(super) const INSTRUCTIONS_PER_CHECK: i32 = 1_000;
/// Reading threads for callers that have none at work, at the least.
const LEAST_SPARE: usize = 4;
/// How often a reader looks whether its file was replaced.
const IDENTITY_CHECK: Duration = Duration::from_secs(1);

/// Sets a source up. The file is opened with the first request; it need not be there yet.
///
/// # Errors
/// None: whether the file is one is seen with the first request.
pub(crate) fn connector(settings: &SourceSettings, base: &Path, _: usize) -> Result<Source, Problem> {
    let processors = || std::thread::available_parallelism().map_or(2, usize::from);
    let readers = settings.connections.unwrap_or_else(processors);
    Ok(Arc::new(Pool::start(DatabaseFile::of(settings, base), readers)))
}

/// Readers of one file, and its writer.
#[derive(Debug)]
pub struct Pool {
    jobs: Arc<Jobs<Job>>,
    writer: Writer,
    file: Arc<DatabaseFile>,
}

/// The queue of a file's threads, which end when nobody can add to it any more.
#[derive(Debug)]
pub(super) struct Jobs<T>(pub(super) Arc<Queue<T>>);

impl<T> Drop for Jobs<T> {
    fn drop(&mut self) {
        self.0.close();
    }
}

/// What a reader does with a plan.
enum Work {
    Run(oneshot::Sender<Result<Outcome, Problem>>),
    Explain(oneshot::Sender<Result<Vec<Explanation>, Problem>>),
    Hold(LevelJobs),
}

struct Job {
    request: Request,
    cancelled: Arc<AtomicBool>,
    claim: Claim,
    work: Work,
}

/// Whose a job is: the thread's that begins it, or the caller's whose time is up before one does. The first that takes it has it.
#[derive(Debug, Clone, Default)]
pub(super) struct Claim(Arc<AtomicBool>);

impl Claim {
    /// Was it nobody's?
    pub(super) fn take(&self) -> bool {
        !self.0.swap(true, Ordering::AcqRel)
    }
}

/// Waits for the answer to a job: at the deadline no longer, unless a thread has begun it, which then stops by itself.
pub(super) async fn answered<T>(
    mut answer: oneshot::Receiver<Result<T, Problem>>,
    deadline: Instant,
    claim: &Claim,
) -> Result<T, Problem> {
    let gone = |_| Err(Problem::new(Code::Internal, "the thread of the database file stopped"));
    match tokio::time::timeout_at(deadline.into(), &mut answer).await {
        Ok(answer) => answer.unwrap_or_else(gone),
        Err(_) if claim.take() => Err(waited_too_long()),
        Err(_) => answer.await.unwrap_or_else(gone),
    }
}

/// The problem of a request whose time was up before its turn came.
fn waited_too_long() -> Problem {
    Problem::new(Code::TimedOut, "the request waited too long for the database; ask again in a moment")
}

impl Work {
    /// Tells who sent it that it is not done.
    fn refuse(self, problem: Problem) {
        match self {
            Work::Run(reply) => drop(reply.send(Err(problem))),
            Work::Explain(reply) => drop(reply.send(Err(problem))),
            Work::Hold(mut jobs) => jobs.refuse(&problem),
        }
    }
}

impl std::fmt::Debug for Job {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Job").field("deadline", &self.request.deadline).finish_non_exhaustive()
    }
}

/// Cancels the request in the database when nobody waits for it any more.
pub(super) struct CancelOnDrop(pub(super) Arc<AtomicBool>);

impl Drop for CancelOnDrop {
    fn drop(&mut self) {
        self.0.store(true, Ordering::Relaxed);
    }
}

impl Connector for Pool {
    fn capabilities(&self) -> Capabilities {
        puente_sql::Sqlite.capabilities()
    }

    fn prepare(&self, plan: &Plan, source: SourceId) -> Arc<dyn Prepared> {
        statements::prepare(plan, &puente_sql::Sqlite, source)
    }

    fn snapshot(&self, request: Request) -> Snapshot {
        let cancelled = Arc::new(AtomicBool::new(false));
        let (snapshot, jobs) = snapshot::snapshot(Some(Box::new(CancelOnDrop(Arc::clone(&cancelled)))));
        self.push(Job { request, cancelled, claim: Claim::default(), work: Work::Hold(jobs) });
        snapshot
    }

    fn answer(&self, request: Request) -> BoxFuture<'_, Result<Outcome, Problem>> {
        self.send(request, Work::Run).boxed()
    }

    fn change(&self, request: ChangeRequest) -> BoxFuture<'_, Result<Outcome, Problem>> {
        self.writer.change(request).boxed()
    }

    fn explain(&self, request: Request) -> BoxFuture<'_, Result<Vec<Explanation>, Problem>> {
        self.send(request, Work::Explain).boxed()
    }

    fn probe(&self) -> BoxFuture<'_, Result<(), Problem>> {
        let file = Arc::clone(&self.file);
        let probing = async move {
            let probed = tokio::task::spawn_blocking(move || super::probe(&file)).await;
            probed.unwrap_or_else(|_| Err(Problem::new(Code::SourceUnavailable, "the service is stopping")))
        };
        probing.boxed()
    }

    fn load(&self) -> Load {
        self.jobs.0.load()
    }
}

impl Pool {
    /// Starts `readers` threads. The file is opened with the first ask; it need not be there yet.
    pub fn start(file: DatabaseFile, readers: usize) -> Self {
        let file = Arc::new(file);
        let regular = readers.max(1);
        // Readers beside those: whoever has none at work need not wait until others are done.
        let places = Places { regular, spare: regular.max(LEAST_SPARE) };
        let queue = Arc::new(Queue::new(places, MOST_WAITING));
        for number in 0..places.regular + places.spare {
            let (queue, file) = (Arc::clone(&queue), Arc::clone(&file));
            let place = if number < places.regular { Place::Regular } else { Place::Spare };
            let work = move || Reader::new(file).work(&queue, place);
            let thread = std::thread::Builder::new().name(format!("sqlite-reader-{number}"));
            if let Err(error) = thread.spawn(work) {
                tracing::error!(target: "puente::source", %error, "a reading thread could not be started");
            }
        }
        Pool { jobs: Arc::new(Jobs(queue)), writer: Writer::start(Arc::clone(&file)), file }
    }

    /// The file that is read.
    pub fn file(&self) -> &Path {
        &self.file.path
    }

    fn push(&self, job: Job) {
        let caller = job.request.party.clone();
        if let Err(job) = self.jobs.0.push(&caller, job) {
            job.work.refuse(turns::too_busy());
        }
    }

    async fn send<T>(
        &self,
        request: Request,
        work: fn(oneshot::Sender<Result<T, Problem>>) -> Work,
    ) -> Result<T, Problem> {
        let cancelled = Arc::new(AtomicBool::new(false));
        let _guard = CancelOnDrop(Arc::clone(&cancelled));
        let (reply, answer) = oneshot::channel();
        let (claim, deadline) = (Claim::default(), request.deadline);
        self.push(Job { request, cancelled, claim: claim.clone(), work: work(reply) });
        answered(answer, deadline, &claim).await
    }
}

/// What the progress handler looks at.
#[derive(Debug, Default)]
pub(super) struct Current {
    pub(super) deadline: Option<Instant>,
    pub(super) cancelled: Option<Arc<AtomicBool>>,
}

impl Current {
    pub(super) fn is_over(&self) -> bool {
        self.cancelled.as_ref().is_some_and(|cancelled| cancelled.load(Ordering::Relaxed))
            || self.deadline.is_some_and(|deadline| Instant::now() >= deadline)
    }
}

struct Reader {
    file: Arc<DatabaseFile>,
    connection: Option<Kept>,
    identity: Option<Identity>,
    checked: Instant,
    current: Arc<Mutex<Current>>,
}

/// What tells a file from another that took its name.
pub(super) type Identity = (u64, Option<SystemTime>);

impl Reader {
    fn new(file: Arc<DatabaseFile>) -> Self {
        Reader { file, connection: None, identity: None, checked: Instant::now(), current: Arc::default() }
    }

    fn work(mut self, queue: &Queue<Job>, place: Place) {
        while let Some((_turn, Job { request, cancelled, claim, work })) = queue.take(place) {
            if cancelled.load(Ordering::Relaxed) || !claim.take() {
                continue;
            }
            *lock(&self.current) = Current { deadline: Some(request.deadline), cancelled: Some(cancelled) };
            // Nobody waits any more: nothing to say.
            match work {
                Work::Run(reply) => drop(reply.send(self.guarded(&request, run::run))),
                Work::Explain(reply) => drop(reply.send(self.guarded(&request, explain::explain))),
                Work::Hold(mut jobs) => {
                    let hold =
                        |kept: &Kept, file: &DatabaseFile, request: &Request| run::hold(kept, file, request, &mut jobs);
                    if let Err(problem) = self.guarded(&request, hold) {
                        jobs.refuse(&problem);
                    }
                }
            }
        }
    }

    /// Works on a request; a mistake of ours costs the connection, not the reader.
    fn guarded<T>(
        &mut self,
        request: &Request,
        work: impl FnOnce(&Kept, &DatabaseFile, &Request) -> Result<T, Problem>,
    ) -> Result<T, Problem> {
        let result = std::panic::catch_unwind(AssertUnwindSafe(|| self.on_connection(request, work)));
        result.unwrap_or_else(|_| {
            self.connection = None;
            Err(Problem::new(Code::Internal, "a mistake of ours; the log has the details under the request's id"))
        })
    }

    fn on_connection<T>(
        &mut self,
        request: &Request,
        work: impl FnOnce(&Kept, &DatabaseFile, &Request) -> Result<T, Problem>,
    ) -> Result<T, Problem> {
        if lock(&self.current).is_over() {
            return Err(waited_too_long());
        }
        let file = Arc::clone(&self.file);
        let connection = self.connection(request.deadline).map_err(|error| fault::problem(&error, &file))?;
        let result = work(connection, &file, request);
        self.end_reading();
        if matches!(&result, Err(problem) if problem.code == Code::SourceUnavailable) {
            self.connection = None;
        }
        result
    }

    /// Ends the transaction of a request. What ended the request must not keep that from ending; a connection that cannot is given
    /// up.
    fn end_reading(&mut self) {
        *lock(&self.current) = Current::default();
        let Some(kept) = &self.connection else { return };
        match kept.end_reading() {
            Ok(()) => kept.tidy(),
            Err(error) => {
                tracing::error!(target: "puente::source", detail = fault::told(&error).told(), "a read transaction could not be ended");
                self.connection = None;
            }
        }
    }

    /// The connection, which waits for other processes until the deadline, and no longer than reads do.
    fn connection(&mut self, deadline: Instant) -> rusqlite::Result<&Kept> {
        let patience = deadline.saturating_duration_since(Instant::now()).min(super::BUSY_TIMEOUT);
        if self.connection.is_some() && self.checked.elapsed() > IDENTITY_CHECK {
            self.checked = Instant::now();
            if identity(&self.file.path) != self.identity {
                self.connection = None;
            }
        }
        if self.connection.is_none() {
            self.identity = identity(&self.file.path);
            let mut connection = super::open(&self.file.path, patience)?;
            let current = Arc::clone(&self.current);
            connection.progress_handler(INSTRUCTIONS_PER_CHECK, Some(move || lock(&current).is_over()))?;
            self.connection = Some(Kept::new(connection));
        }
        let kept = self.connection.as_ref().expect("just opened");
        kept.connection.busy_timeout(patience)?;
        Ok(kept)
    }
}

pub(super) fn lock(current: &Mutex<Current>) -> std::sync::MutexGuard<'_, Current> {
    current.lock().unwrap_or_else(PoisonError::into_inner)
}

#[cfg(unix)]
pub(super) fn identity(file: &Path) -> Option<Identity> {
    use std::os::unix::fs::MetadataExt as _;
    std::fs::metadata(file).ok().map(|metadata| (metadata.ino(), metadata.created().ok()))
}

#[cfg(not(unix))]
pub(super) fn identity(file: &Path) -> Option<Identity> {
    std::fs::metadata(file).ok().map(|metadata| (0, metadata.created().ok()))
}

#[cfg(test)]
mod tests {
    use rusqlite::Connection;

    use super::*;

    #[test]
    fn a_request_that_nobody_waits_for_leaves_no_transaction() {
        let file = tempfile::NamedTempFile::new().unwrap();
        Connection::open(file.path()).unwrap().execute_batch("create table t (a)").unwrap();
        let mut reader = Reader::new(Arc::new(DatabaseFile::named(file.path().to_owned())));
        // What a statement was interrupted by is looked at every thousand steps, over all of its executions.
        for _ in 0..1_000 {
            *lock(&reader.current) = Current::default();
            reader.connection(Instant::now() + Duration::from_secs(9)).unwrap().begin_reading().unwrap();
            let cancelled = Arc::new(AtomicBool::new(true));
            *lock(&reader.current) = Current { deadline: None, cancelled: Some(cancelled) };
            reader.end_reading();
            let kept = reader.connection.as_ref().expect("the connection is kept");
            assert!(kept.connection.is_autocommit());
        }
    }
}
