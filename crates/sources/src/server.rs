//! What sources behind a network share: threads of their own, outside the HTTP workers.

use std::future::Future;
use std::time::{Duration, Instant};

use puente_core::error::{Code, Detail, Problem};
use tokio::runtime::{Builder, Runtime};
use tokio::task::JoinHandle;
use tokio::time::sleep_until;

use puente_run::turns::{Gate, Party, Places, Turn};

/// Connections of a server's pool where the project file does not say.
pub(crate) const CONNECTIONS: usize = 8;
/// How long it may take to reach a server.
pub(crate) const CONNECT_TIMEOUT: Duration = Duration::from_secs(5);
/// How long it may take to tell a server that a statement is not wanted any more.
pub(crate) const CANCEL_TIMEOUT: Duration = Duration::from_secs(2);
/// How long the end of a transaction may be waited for, once it is told: the time of the request is over by then.
pub(crate) const END_TIMEOUT: Duration = Duration::from_secs(5);
/// Statements that each connection keeps prepared.
pub(crate) const STATEMENTS_KEPT: usize = 256;
/// Bytes of a statement's text over which it is not kept prepared: both sides would hold as many times as much.
pub(crate) const KEPT_TEXT_BYTES: usize = 32 << 10;
/// Requests that may wait for a session before those of who sent most of them are refused at once.
const MOST_WAITING: usize = 1_024;

/// What is said of a request that the database gave up because others stood in its way.
pub(crate) const CONTENTION: &str =
    "the database gave this request up in favour of others (a deadlock, or a lock that others hold); ask again";
/// What is said of a write that reaches a server which takes none.
pub(crate) const READ_ONLY: &str =
    "the server takes no writes: it is a standby, or read-only; the source's `url` has to lead to the primary";

/// What is said of a read that the database would have had to write for.
pub(crate) const READ_WRITES: &str = "what this request reads would write (a view or a function of the database does); reads are \
                                      run in transactions that cannot, so the table has to be left out, or read otherwise";

/// Why there is no session with a server.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Unreached {
    LoginRefused,
    PasswordMissing,
    NoSuchDatabase,
    Full,
    WithoutTls,
    CertificateRefused,
    /// A proxy does not pass on what a session is to begin with.
    ParameterRefused,
    /// Nobody answers, or what answers is no such server.
    Away,
}

impl Unreached {
    /// What is told of it; the driver's own words go to the log.
    pub(crate) fn problem(self, detail: Detail) -> Problem {
        let text = match self {
            Unreached::LoginRefused => {
                "the database refuses the login; are the user and the password of the source's `url` right?"
            }
            Unreached::PasswordMissing => {
                "the database asks for a password, and the source's `url` has none; write it there as \
                 `user:${VARIABLE}@host`, and set the variable"
            }
            Unreached::NoSuchDatabase => "the server has no database of the name in the source's `url`",
            Unreached::Full => "the database takes no more connections; ask again in a moment",
            Unreached::WithoutTls => {
                "the server speaks no TLS, which is expected of every server but one on this machine, and where \
                 `sslmode` asks for it; turn it on there, or add `sslmode=disable` to the source's `url`"
            }
            Unreached::CertificateRefused => {
                "the server's certificate is not one that is trusted for this host; give the file of its authority \
                 as `sslrootcert` in the source's `url`, or say by `sslmode` what is to be checked"
            }
            Unreached::ParameterRefused => {
                "the proxy before the database refuses what a session begins with: it hands out sessions for each transaction, and the source has \
                 to say `prepared = false`"
            }
            Unreached::Away => {
                "the database cannot be reached; is it running, and are host and port of the source's `url` right?"
            }
        };
        Problem::new(Code::SourceUnavailable, text).with_detail(detail)
    }
}

/// The gate before the sessions of a pool. Where there are enough of them, some are kept for callers that have none.
pub(crate) fn gate(connections: usize) -> Gate {
    /// One of so many sessions is kept free.
    const ONE_OF: usize = 4;
    let spare = connections / ONE_OF;
    Gate::new(Places { regular: connections - spare, spare }, MOST_WAITING)
}
/// The most threads of one source: they decode and write, the waiting is the database's.
const MOST_THREADS: usize = 4;

/// Waits for a caller's turn to use a session: until the deadline, and no longer than a source lets wait.
///
/// # Errors
/// `TOO_BUSY` for who filled the line; `TIMED_OUT` at the deadline; `SOURCE_UNAVAILABLE` where sessions stay busy.
pub(crate) async fn turn(gate: &Gate, caller: &Party, deadline: Instant, wait: Duration) -> Result<Turn, Problem> {
    let patience = Instant::now() + wait;
    gate.enter(caller, deadline.min(patience)).await.map_err(|problem| {
        if problem.code == Code::TimedOut && patience < deadline {
            let text = "every connection to the database is busy; ask again in a moment";
            return Problem::new(Code::SourceUnavailable, text);
        }
        problem
    })
}

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
        runtime.map(|runtime| Workers(Some(runtime))).map_err(|error| {
            Problem::new(Code::SourceUnavailable, "no threads for the source").with_detail(Detail::plain(error))
        })
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
        Problem::new(Code::SourceUnavailable, "no thread for the survey").with_detail(Detail::plain(error))
    };
    std::thread::scope(|scope| {
        let thread = scope.spawn(|| {
            let runtime = Builder::new_current_thread().enable_all().build().map_err(|error| failed(&error))?;
            runtime.block_on(work)
        });
        thread.join().unwrap_or_else(|_| Err(Problem::new(Code::Internal, "the survey stopped")))
    })
}

/// The result of some work; none where the time is up, or nobody waits any more.
pub(crate) async fn within<T>(
    deadline: Instant,
    disconnected: impl Future,
    work: impl Future<Output = T>,
) -> Option<T> {
    tokio::select! {
        result = work => Some(result),
        () = sleep_until(deadline.into()) => None,
        _ = disconnected => None,
    }
}
