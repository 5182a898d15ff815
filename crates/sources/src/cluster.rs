//! A database server and its replicas, worked with on threads of their own, outside the HTTP workers.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use puente_core::error::{Code, Problem};
use puente_core::project::SourceSettings;
use tokio::sync::oneshot;

use crate::server::Workers;
use puente_run::{ChangeRequest, Explanation, Outcome, Request};

/// One server of an engine: what a source behind a network can do.
pub(crate) trait Server: Send + Sync + 'static {
    /// Runs a plan, and cancels it in the database when nobody waits any more.
    fn run(&self, job: Job) -> impl Future<Output = Result<Outcome, Problem>> + Send;
    /// Runs a mutation: all of it, or nothing.
    fn change(&self, job: Job<ChangeRequest>) -> impl Future<Output = Result<Outcome, Problem>> + Send;
    /// Explains the statements of a plan without running them.
    fn explain(&self, job: Job) -> impl Future<Output = Result<Vec<Explanation>, Problem>> + Send;
    /// Reaches the server.
    fn reach(&self) -> impl Future<Output = Result<(), Problem>> + Send;
}

/// One request on its way, and word of whether anybody still waits for it.
#[derive(Debug)]
pub(crate) struct Job<R = Request> {
    pub(crate) request: Arc<R>,
    /// Resolves when nobody waits any more.
    pub(crate) disconnected: oneshot::Receiver<()>,
}

/// A server, and copies of it that answer some roles' reads.
#[derive(Debug)]
pub(crate) struct Cluster<S> {
    workers: Workers,
    primary: Arc<S>,
    replicas: Vec<(Arc<S>, Vec<String>)>,
    /// Whose turn it is among the replicas.
    turn: AtomicUsize,
}

impl<S: Server> Cluster<S> {
    /// Sets the servers up by their addresses; nothing is connected before the first ask.
    pub(crate) fn open(
        name: &str,
        settings: &SourceSettings,
        server: impl Fn(&str) -> Result<S, Problem>,
    ) -> Result<Self, Problem> {
        let replicas =
            settings.replicas.iter().map(|replica| Ok((Arc::new(server(&replica.url.0)?), replica.roles.clone())));
        Ok(Cluster {
            workers: Workers::start(name)?,
            primary: Arc::new(server(&settings.url.0)?),
            replicas: replicas.collect::<Result<_, Problem>>()?,
            turn: AtomicUsize::new(0),
        })
    }

    /// The replicas that answer a role's reads, beginning with the one whose turn it is.
    fn replicas(&self, role: &str) -> Vec<Arc<S>> {
        let mut fitting: Vec<Arc<S>> = self
            .replicas
            .iter()
            .filter(|(_, roles)| roles.is_empty() || roles.iter().any(|known| known == role))
            .map(|(server, _)| Arc::clone(server))
            .collect();
        if !fitting.is_empty() {
            let turn = self.turn.fetch_add(1, Ordering::Relaxed) % fitting.len();
            fitting.rotate_left(turn);
        }
        fitting
    }

    /// Runs a plan, on a replica where one answers the role's reads. Dropping the future cancels it in the database.
    pub(crate) async fn answer(&self, request: Request) -> Result<Outcome, Problem> {
        let request = Arc::new(request);
        for replica in self.replicas(&request.role) {
            match self.on(replica, &request, |server, job| async move { server.run(job).await }).await {
                // A replica that is away must not be missed.
                Err(problem) if problem.code == Code::SourceUnavailable => {
                    tracing::warn!(target: "puente::source", detail = problem.detail, "a replica is away");
                }
                outcome => return outcome,
            }
        }
        let primary = Arc::clone(&self.primary);
        self.on(primary, &request, |server, job| async move { server.run(job).await }).await
    }

    /// Runs a mutation on the primary. Dropping the future cancels it in the database, unless its commit was sent.
    pub(crate) async fn change(&self, request: ChangeRequest) -> Result<Outcome, Problem> {
        let primary = Arc::clone(&self.primary);
        self.on(primary, &Arc::new(request), |server, job| async move { server.change(job).await }).await
    }

    /// Explains the statements of a plan without running them.
    pub(crate) async fn explain(&self, request: Request) -> Result<Vec<Explanation>, Problem> {
        let primary = Arc::clone(&self.primary);
        self.on(primary, &Arc::new(request), |server, job| async move { server.explain(job).await }).await
    }

    /// Can the server be reached?
    pub(crate) async fn probe(&self) -> Result<(), Problem> {
        let server = Arc::clone(&self.primary);
        let probed = self.workers.spawn(async move { server.reach().await }).await;
        probed.unwrap_or_else(|_| Err(stopped()))
    }

    /// Works on a server's own threads. The work hears when this future is dropped.
    async fn on<R, T, F>(
        &self,
        server: Arc<S>,
        request: &Arc<R>,
        work: impl FnOnce(Arc<S>, Job<R>) -> F + Send + 'static,
    ) -> Result<T, Problem>
    where
        R: Send + Sync + 'static,
        T: Send + 'static,
        F: Future<Output = Result<T, Problem>> + Send + 'static,
    {
        let (keep_alive, disconnected) = oneshot::channel();
        let job = Job { request: Arc::clone(request), disconnected };
        let result = self.workers.spawn(work(server, job)).await.unwrap_or_else(|_| Err(stopped()));
        drop(keep_alive);
        result
    }
}

fn stopped() -> Problem {
    Problem::new(Code::Internal, "a mistake of ours; the log has the details under the request's id")
}
