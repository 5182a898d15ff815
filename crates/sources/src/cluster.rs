//! A database server and its replicas, worked with on threads of their own, outside the HTTP workers.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use futures_util::future::{BoxFuture, FutureExt as _};
use puente_core::error::{Code, Problem};
use puente_core::model::SourceId;
use puente_core::plan::{Capabilities, Plan};
use puente_core::project::SourceSettings;
use puente_run::snapshot::{self, Snapshot};
use puente_run::turns::Load;
use puente_run::{ChangeRequest, Connector, Explanation, Outcome, Prepared, Request};
use tokio::sync::oneshot;

use crate::server::Workers;
use crate::snapshots::{self, Snapshots};

/// One server of an engine: what a source behind a network can do.
pub(crate) trait Server: Snapshots + std::fmt::Debug + Send + Sync + 'static {
    /// What planning has to know of it.
    fn capabilities() -> Capabilities;

    /// Puts a plan into its language: what it reads of this source.
    fn prepare(plan: &Plan, source: SourceId) -> Arc<dyn Prepared>;

    /// Runs a plan, and cancels it in the database when nobody waits any more.
    fn run(&self, job: Job) -> impl Future<Output = Result<Outcome, Problem>> + Send;
    /// Runs a mutation: all of it, or nothing.
    fn change(&self, job: Job<ChangeRequest>) -> impl Future<Output = Result<Outcome, Problem>> + Send;
    /// Explains the statements of a plan without running them.
    fn explain(&self, job: Job) -> impl Future<Output = Result<Vec<Explanation>, Problem>> + Send;
    /// Reaches the server.
    fn reach(&self) -> impl Future<Output = Result<(), Problem>> + Send;
    /// How much there is to do.
    fn load(&self) -> Load;
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

    fn primary(&self) -> Arc<S> {
        Arc::clone(&self.primary)
    }

    async fn run(&self, request: Request) -> Result<Outcome, Problem> {
        let request = Arc::new(request);
        for replica in self.replicas(&request.role) {
            match self.on(replica, Arc::clone(&request), |server, job| async move { server.run(job).await }).await {
                // A replica that is away must not be missed.
                Err(problem) if matches!(problem.code, Code::SourceUnavailable | Code::Contention) => {
                    tracing::warn!(target: "puente::source", detail = problem.told(), "a replica is away");
                }
                outcome => return outcome,
            }
        }
        self.on(self.primary(), request, |server, job| async move { server.run(job).await }).await
    }

    /// Works on a server's own threads. The work hears when this future is dropped.
    async fn on<R, T, F>(
        &self,
        server: Arc<S>,
        request: Arc<R>,
        work: impl FnOnce(Arc<S>, Job<R>) -> F + Send + 'static,
    ) -> Result<T, Problem>
    where
        R: Send + Sync + 'static,
        T: Send + 'static,
        F: Future<Output = Result<T, Problem>> + Send + 'static,
    {
        let (keep_alive, disconnected) = oneshot::channel();
        let job = Job { request, disconnected };
        let result = self.workers.spawn(work(server, job)).await.unwrap_or_else(|_| Err(stopped()));
        drop(keep_alive);
        result
    }
}

impl<S: Server> Connector for Cluster<S> {
    fn capabilities(&self) -> Capabilities {
        S::capabilities()
    }

    fn prepare(&self, plan: &Plan, source: SourceId) -> Arc<dyn Prepared> {
        S::prepare(plan, source)
    }

    /// On a replica where one answers the role's reads.
    fn snapshot(&self, request: Request) -> Snapshot {
        let (snapshot, jobs) = snapshot::snapshot(None);
        let mut servers = self.replicas(&request.role);
        servers.push(self.primary());
        self.workers.spawn(async move { snapshots::hold(&servers, &request, jobs).await });
        snapshot
    }

    /// On a replica where one answers the role's reads.
    fn answer(&self, request: Request) -> BoxFuture<'_, Result<Outcome, Problem>> {
        self.run(request).boxed()
    }

    fn change(&self, request: ChangeRequest) -> BoxFuture<'_, Result<Outcome, Problem>> {
        self.on(self.primary(), Arc::new(request), |server, job| async move { server.change(job).await }).boxed()
    }

    fn explain(&self, request: Request) -> BoxFuture<'_, Result<Vec<Explanation>, Problem>> {
        self.on(self.primary(), Arc::new(request), |server, job| async move { server.explain(job).await }).boxed()
    }

    fn probe(&self) -> BoxFuture<'_, Result<(), Problem>> {
        let probing = async move {
            let server = self.primary();
            let probed = self.workers.spawn(async move { server.reach().await }).await;
            probed.unwrap_or_else(|_| Err(stopped()))
        };
        probing.boxed()
    }

    fn load(&self) -> Load {
        let servers = std::iter::once(&self.primary).chain(self.replicas.iter().map(|(replica, _)| replica));
        servers.map(|server| server.load()).fold(Load::default(), |all, one| Load {
            working: all.working + one.working,
            waiting: all.waiting + one.waiting,
            places: all.places + one.places,
        })
    }
}

fn stopped() -> Problem {
    Problem::new(Code::Internal, "a mistake of ours; the log has the details under the request's id")
}
