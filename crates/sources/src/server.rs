//! What sources behind a network share: threads of their own, outside the HTTP workers.

use std::future::Future;
use std::time::Duration;

use puente_core::error::{Code, Problem};
use tokio::runtime::{Builder, Runtime};
use tokio::task::JoinHandle;

/// Connections of a server's pool where the project file does not say.
pub(crate) const CONNECTIONS: usize = 8;
/// How long it may take to reach a server.
pub(crate) const CONNECT_TIMEOUT: Duration = Duration::from_secs(5);
/// How long it may take to tell a server that a statement is not wanted any more.
pub(crate) const CANCEL_TIMEOUT: Duration = Duration::from_secs(2);
/// Statements that each connection keeps prepared.
pub(crate) const STATEMENTS_KEPT: usize = 256;
/// The most threads of one source: they decode and write, the waiting is the database's.
const MOST_THREADS: usize = 4;

/// The threads of one source.
#[derive(Debug)]
pub(crate) struct Workers(Option<Runtime>);

impl Workers {
    /// Starts them.
    ///
    /// # Errors
    /// `SOURCE_UNAVAILABLE` where the machine gives no threads.
    pub(crate) fn start(name: &str) -> Result<Self, Problem> {
        let threads = std::thread::available_parallelism().map_or(2, usize::from).min(MOST_THREADS);
        let runtime = Builder::new_multi_thread().worker_threads(threads).thread_name(name).enable_all().build();
        runtime
            .map(|runtime| Workers(Some(runtime)))
            .map_err(|error| Problem::new(Code::SourceUnavailable, "no threads for the source").with_detail(error))
    }

    pub(crate) fn spawn<T: Send + 'static>(&self, work: impl Future<Output = T> + Send + 'static) -> JoinHandle<T> {
        self.0.as_ref().expect("workers live as long as their source").spawn(work)
    }
}

impl Drop for Workers {
    fn drop(&mut self) {
        // The last owner may be an asynchronous task, where waiting for threads is not allowed.
        if let Some(runtime) = self.0.take() {
            runtime.shutdown_background();
        }
    }
}

/// Runs something asynchronous to its end, wherever the caller runs.
///
/// # Errors
/// `SOURCE_UNAVAILABLE` where the machine gives no thread.
pub(crate) fn block_on<T: Send>(work: impl Future<Output = Result<T, Problem>> + Send) -> Result<T, Problem> {
    let failed = |error: &dyn std::fmt::Display| {
        Problem::new(Code::SourceUnavailable, "no thread for the survey").with_detail(error)
    };
    std::thread::scope(|scope| {
        let thread = scope.spawn(|| {
            let runtime = Builder::new_current_thread().enable_all().build().map_err(|error| failed(&error))?;
            runtime.block_on(work)
        });
        thread.join().unwrap_or_else(|_| Err(Problem::new(Code::Internal, "the survey stopped")))
    })
}
