//! A pool of reading threads. Each has one connection, opened when first needed and again when the file was replaced.

use std::panic::AssertUnwindSafe;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant, SystemTime};

use puente_core::error::{Code, Problem};
use rusqlite::Connection;
use tokio::sync::oneshot;

use super::write::Writer;
use super::{explain, fault, run};
use crate::{ChangeRequest, Explanation, Outcome, Request};

/// Asks that may wait for a reader before new ones are refused at once.
pub(super) const MOST_WAITING: usize = 1_024;
/// SQLite's virtual machine asks this often whether to stop: about every 20 µs.
pub(super) const INSTRUCTIONS_PER_CHECK: i32 = 1_000;
/// Prepared statements that each connection keeps.
pub(super) const STATEMENTS_KEPT: usize = 256;
/// How often a reader looks whether its file was replaced.
const IDENTITY_CHECK: Duration = Duration::from_secs(1);

/// Readers of one file.
#[derive(Debug, Clone)]
pub struct Pool {
    jobs: flume::Sender<Job>,
    writer: Writer,
    file: Arc<Path>,
}

/// What a reader does with a plan.
enum Work {
    Run(oneshot::Sender<Result<Outcome, Problem>>),
    Explain(oneshot::Sender<Result<Vec<Explanation>, Problem>>),
}

struct Job {
    request: Request,
    cancelled: Arc<AtomicBool>,
    work: Work,
}

impl std::fmt::Debug for Job {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Job").field("deadline", &self.request.deadline).finish_non_exhaustive()
    }
}

/// Cancels the ask in the database when nobody waits for it any more.
pub(super) struct CancelOnDrop(pub(super) Arc<AtomicBool>);

impl Drop for CancelOnDrop {
    fn drop(&mut self) {
        self.0.store(true, Ordering::Relaxed);
    }
}

impl Pool {
    /// Starts `readers` threads. The file is opened with the first ask; it need not be there yet.
    pub fn start(file: PathBuf, readers: usize) -> Self {
        let (jobs, queue) = flume::bounded::<Job>(MOST_WAITING);
        let file: Arc<Path> = file.into();
        for number in 0..readers.max(1) {
            let (queue, file) = (queue.clone(), Arc::clone(&file));
            let work = move || Reader::new(file).work(&queue);
            let thread = std::thread::Builder::new().name(format!("sqlite-reader-{number}"));
            if let Err(error) = thread.spawn(work) {
                tracing::error!(target: "puente::source", %error, "a reading thread could not be started");
            }
        }
        Pool { jobs, writer: Writer::start(Arc::clone(&file)), file }
    }

    /// The file that is read.
    pub fn file(&self) -> &Path {
        &self.file
    }

    /// Runs a plan. Dropping the future cancels it in the database.
    ///
    /// # Errors
    /// What the source reports; `TIMED_OUT` at the deadline; `SOURCE_UNAVAILABLE` where too many asks wait.
    pub async fn run(&self, request: Request) -> Result<Outcome, Problem> {
        self.send(request, Work::Run).await
    }

    /// Runs a mutation, after those that came before it.
    ///
    /// # Errors
    /// The first problem; then nothing was changed.
    pub async fn change(&self, request: ChangeRequest) -> Result<Outcome, Problem> {
        self.writer.change(request).await
    }

    /// Explains the statements of a plan without running them.
    ///
    /// # Errors
    /// As [`Pool::run`].
    pub async fn explain(&self, request: Request) -> Result<Vec<Explanation>, Problem> {
        self.send(request, Work::Explain).await
    }

    async fn send<T>(
        &self,
        request: Request,
        work: fn(oneshot::Sender<Result<T, Problem>>) -> Work,
    ) -> Result<T, Problem> {
        let cancelled = Arc::new(AtomicBool::new(false));
        let _guard = CancelOnDrop(Arc::clone(&cancelled));
        let (reply, answer) = oneshot::channel();
        self.jobs.try_send(Job { request, cancelled, work: work(reply) }).map_err(|_| {
            Problem::new(Code::SourceUnavailable, "too many asks wait for the database; ask again in a moment")
        })?;
        answer.await.unwrap_or_else(|_| Err(Problem::new(Code::Internal, "the reader stopped")))
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
    file: Arc<Path>,
    connection: Option<Connection>,
    identity: Option<Identity>,
    checked: Instant,
    current: Arc<Mutex<Current>>,
}

/// What tells a file from another that took its name.
pub(super) type Identity = (u64, Option<SystemTime>);

impl Reader {
    fn new(file: Arc<Path>) -> Self {
        Reader { file, connection: None, identity: None, checked: Instant::now(), current: Arc::default() }
    }

    fn work(mut self, queue: &flume::Receiver<Job>) {
        while let Ok(Job { request, cancelled, work }) = queue.recv() {
            if cancelled.load(Ordering::Relaxed) {
                continue;
            }
            *lock(&self.current) = Current { deadline: Some(request.deadline), cancelled: Some(cancelled) };
            // Nobody waits any more: nothing to say.
            match work {
                Work::Run(reply) => drop(reply.send(self.guarded(&request, run::run))),
                Work::Explain(reply) => drop(reply.send(self.guarded(&request, explain::explain))),
            }
        }
    }

    /// Works on a request; a mistake of ours costs the connection, not the reader.
    fn guarded<T>(
        &mut self,
        request: &Request,
        work: fn(&Connection, &Path, &Request) -> Result<T, Problem>,
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
        work: fn(&Connection, &Path, &Request) -> Result<T, Problem>,
    ) -> Result<T, Problem> {
        if lock(&self.current).is_over() {
            return Err(Problem::new(
                Code::TimedOut,
                "the ask waited too long for the database; ask again in a moment",
            ));
        }
        let file = Arc::clone(&self.file);
        let connection = self.connection().map_err(|error| fault::problem(&error, &file))?;
        let result = work(connection, &file, request);
        if matches!(&result, Err(problem) if problem.code == Code::SourceUnavailable) {
            self.connection = None;
        }
        result
    }

    fn connection(&mut self) -> rusqlite::Result<&Connection> {
        if self.connection.is_some() && self.checked.elapsed() > IDENTITY_CHECK {
            self.checked = Instant::now();
            if identity(&self.file) != self.identity {
                self.connection = None;
            }
        }
        if self.connection.is_none() {
            self.identity = identity(&self.file);
            let mut connection = super::open(&self.file)?;
            connection.set_prepared_statement_cache_capacity(STATEMENTS_KEPT);
            let current = Arc::clone(&self.current);
            connection.progress_handler(INSTRUCTIONS_PER_CHECK, Some(move || lock(&current).is_over()))?;
            self.connection = Some(connection);
        }
        Ok(self.connection.as_ref().expect("just opened"))
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
