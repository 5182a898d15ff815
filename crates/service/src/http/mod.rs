//! The service over HTTP: what is listened to, and how it starts and stops.

mod body;
mod caching;
mod compression;
mod connections;
mod graphql;
mod guard;
mod listen;
mod negotiation;
mod pages;
mod project;
mod request;
mod tls;

use std::fmt;
use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, PoisonError, RwLock};
use std::time::Duration;

use actix_web::dev::{Server, ServerHandle};
use actix_web::http::header::AUTHORIZATION;
use actix_web::middleware::from_fn;
use actix_web::{App, HttpRequest, HttpServer, web};
use puente_core::error::{Code, Problem};
use serde_json::Value as Json;

use crate::access_keys::AccessKeys;
use crate::api::Api;
use crate::drift_watch::DriftWatch;
use crate::folder::{OpenError, ProjectFolder};
use crate::identity::{Caller, Identity, Unidentified};
use crate::metrics::RefusalLabels;
use crate::operations::SurveyOutcome;
use crate::principal::Principal;
use crate::workbench::Workbench;
use connections::Connections;
pub(crate) use guard::Guard;
use listen::Socket;
pub use listen::{Bound, Listen};
pub use project::interface;
use puente_run::turns::{Gate, Places};
use tls::Certificate;
pub use tls::TlsFiles;

/// How the service is reached.
#[derive(Debug)]
pub struct ServeOptions {
    /// What is listened on.
    pub listen: Listen,
    /// The certificate, where it speaks TLS.
    pub tls: Option<TlsFiles>,
    /// How long it goes on serving after it was told to stop, and says that it is not ready, so that nobody is sent to it any more.
    pub drain: Duration,
    /// Host names under which it may be reached, beside the loopback ones and the address itself.
    pub hosts: Vec<String>,
    /// Origins of other web sites that may call it.
    pub origins: Vec<String>,
    /// The owner's access key, if it is given from outside instead of by the records.
    pub owner_key: Option<String>,
    /// Threads that serve HTTP; absent, one per processor.
    pub workers: Option<usize>,
    /// The folder of the project that is served.
    pub folder: ProjectFolder,
    /// Is it served for development? Then its file can be edited over HTTP, by the owner.
    pub development: bool,
    /// What a survey found just now, if there was one.
    pub surveyed: Option<SurveyOutcome>,
    /// An address of its own for counters and health, without keys: for a network that is private.
    pub metrics_listen: Option<SocketAddr>,
    /// How often it is looked whether the sources are as they were surveyed; absent, never.
    pub look_for_drift: Option<Duration>,
}

/// How often it is looked whether sources drifted, where nothing else is said.
pub const LOOK_FOR_DRIFT: Duration = Duration::from_secs(120);

/// Why the service did not start.
#[derive(Debug)]
pub struct ServeError(String);

impl fmt::Display for ServeError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl std::error::Error for ServeError {}

/// A running service.
#[derive(Debug)]
pub struct Running {
    /// Where it is reached.
    pub bound: Bound,
    drain: Duration,
    /// The socket in the file system that goes with it.
    socket: Option<PathBuf>,
    /// Where counters are read without keys.
    pub metrics_address: Option<SocketAddr>,
    /// What else runs as long as it does.
    beside: Vec<tokio::task::JoinHandle<()>>,
    metrics_server: Option<ServerHandle>,
    shared: web::Data<Shared>,
    handle: ServerHandle,
    server: tokio::task::JoinHandle<std::io::Result<()>>,
}

impl Running {
    /// Reads the project again and serves it as it is now, all of it at once: what runs ends with what it began with.
    ///
    /// # Errors
    /// What is wrong; what was served is then served on.
    pub fn reload(&self) -> Result<Vec<String>, OpenError> {
        crate::reload::reload(&self.shared)
    }

    /// The folder of the project, as it was last read.
    pub fn folder(&self) -> Arc<ProjectFolder> {
        self.shared.workbench.folder()
    }

    /// What is served.
    pub fn served(&self) -> Arc<Served> {
        self.shared.served()
    }

    /// Stops taking requests, and waits for those that run.
    pub async fn stop(self) {
        self.shared.draining.store(true, Ordering::Relaxed);
        if !self.drain.is_zero() {
            tracing::info!(target: "puente::service", seconds = self.drain.as_secs(), "draining: not ready any more, and serving on");
            tokio::time::sleep(self.drain).await;
        }
        tracing::info!(target: "puente::service", "stopping; what runs is finished first");
        self.handle.stop(true).await;
        let _ = self.server.await;
        if let Some(metrics) = self.metrics_server {
            metrics.stop(false).await;
        }
        if let Some(traces) = self.shared.served().api.traces().cloned() {
            let _ = tokio::task::spawn_blocking(move || traces.flush()).await;
        }
        self.beside.iter().for_each(tokio::task::JoinHandle::abort);
        if let Some(socket) = &self.socket {
            let _ = std::fs::remove_file(socket);
        }
        tracing::info!(target: "puente::service", "stopped");
    }
}

/// What is served: an API, and how it is known who asks it. The two belong together: which roles there are is said by one, who
/// has them by the other.
#[derive(Debug)]
pub struct Served {
    /// The API.
    pub api: Arc<Api>,
    /// How it is known who asks.
    pub identity: Identity,
}

/// What every handler shares.
#[derive(Debug)]
pub(crate) struct Shared {
    pub(crate) access_keys: Arc<AccessKeys>,
    pub(crate) owner_key: Option<[u8; 32]>,
    served: RwLock<Arc<Served>>,
    pub(crate) workbench: Workbench,
    readiness: pages::Readiness,
    drift: DriftWatch,
    /// Is it about to stop?
    draining: AtomicBool,
    /// Is the owner's schema there? Before that it is not ready.
    is_warm: AtomicBool,
    /// Before bodies that are large enough to matter, while they are read.
    bodies: Gate,
}

/// Large bodies that are read at once; and as many again, for callers that send none yet.
const BODIES: usize = 32;
/// Bodies that may wait to be read before those of who sent most of them are refused at once.
const MOST_WAITING: usize = 1_024;

impl Shared {
    /// Serves something else from now on.
    pub(crate) fn replace(&self, served: Served) {
        *self.served.write().unwrap_or_else(PoisonError::into_inner) = Arc::new(served);
    }

    /// What is served at this moment.
    pub(crate) fn served(&self) -> Arc<Served> {
        Arc::clone(&self.served.read().unwrap_or_else(PoisonError::into_inner))
    }

    /// What a request proves of who sends it.
    pub(crate) async fn caller(&self, served: &Served, request: &HttpRequest) -> Result<Caller, Unidentified> {
        let authorization = match request.headers().get(AUTHORIZATION) {
            None => None,
            Some(value) => Some(value.to_str().map_err(|_| Unidentified::Malformed)?),
        };
        let from = request.peer_addr().map(|address| address.ip());
        let caller = served.identity.caller(authorization, from, &self.access_keys, self.owner_key.as_ref()).await;
        if let Err(unidentified) = &caller {
            let reason = unidentified.reason();
            let labels = RefusalLabels { reason: reason.to_owned() };
            served.api.metrics().sign_ins_refused.get_or_create(&labels).inc();
            tracing::info!(target: "puente::identity", from = %Peer(from), reason, "not let in");
        }
        caller
    }

    /// The caller as one of its roles, or as whom it says. Who asks as a role that it does not have is counted, and logged.
    pub(crate) fn principal(
        &self,
        served: &Served,
        request: &HttpRequest,
        caller: &Caller,
        wanted: Option<&Json>,
    ) -> Result<Principal, Problem> {
        let principal = caller.asking_as(wanted, &|role| served.api.has_role(role));
        if principal.as_ref().is_err_and(|problem| problem.code == Code::RoleRefused) {
            served.api.metrics().roles_refused.inc();
            let from = request.peer_addr().map(|address| address.ip());
            tracing::info!(target: "puente::identity", from = %Peer(from), by = %caller.by(), "a role was refused");
        }
        principal
    }
}

/// Where a request comes from, in the log.
struct Peer(Option<IpAddr>);

impl fmt::Display for Peer {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.0 {
            Some(address) => address.fmt(f),
            None => f.write_str("this machine"),
        }
    }
}

/// How long the head of a request may take to come.
const HEAD_TIMEOUT: Duration = Duration::from_secs(5);
/// Connections that one HTTP thread holds at once; more wait to be accepted.
const CONNECTIONS_PER_WORKER: usize = 2_000;
/// How long a client may take none of its answer before it is given up, and the memory of the answer with it.
const STALLED: Duration = Duration::from_secs(30);

/// Accepted connections take this over from the socket that listens.
fn give_up_on_stalled_readers(listener: &std::net::TcpListener) {
    #[cfg(target_os = "linux")]
    if let Err(error) = socket2::SockRef::from(listener).set_tcp_user_timeout(Some(STALLED)) {
        tracing::warn!(target: "puente::service", %error, "clients that stop reading keep their answers in memory");
    }
    #[cfg(not(target_os = "linux"))]
    let _ = (listener, STALLED);
}

/// Starts the service.
///
/// # Errors
/// Where the address cannot be listened on.
pub async fn serve(served: Served, access_keys: Arc<AccessKeys>, options: ServeOptions) -> Result<Running, ServeError> {
    let certificate = options.tls.as_ref().map(Certificate::of).transpose().map_err(ServeError)?;
    let (socket, bound) = listen::open(&options.listen).map_err(ServeError)?;
    let failed = |error: std::io::Error| ServeError(format!("cannot listen on {bound}: {error}"));
    let guard =
        Arc::new(Guard::new(bound.address(), &options.hosts, &options.origins, Arc::clone(served.api.metrics())));
    let owner_key = options.owner_key.as_deref().map(crate::access_keys::hash);
    let limits = served.api.limits();
    let warm = Arc::clone(&served.api);
    let shared = web::Data::new(Shared {
        access_keys,
        owner_key,
        served: RwLock::new(Arc::new(served)),
        workbench: Workbench::new(options.folder, options.development, options.surveyed),
        readiness: pages::Readiness::default(),
        drift: DriftWatch::default(),
        draining: AtomicBool::new(false),
        is_warm: AtomicBool::new(false),
        bodies: Gate::new(Places { regular: BODIES, spare: BODIES }, MOST_WAITING),
    });
    let for_each_worker = shared.clone();
    let connections = Arc::new(Connections::new(Arc::clone(shared.served().api.metrics())));
    let (accepted, counted) = (Arc::clone(&connections), Arc::clone(&connections));
    let server = HttpServer::new(move || {
        App::new()
            .app_data(for_each_worker.clone())
            .app_data(web::Data::from(Arc::clone(&counted)))
            .wrap(from_fn(connections::count))
            .wrap(from_fn(compression::pack))
            .wrap(from_fn(guard::check))
            .app_data(web::Data::from(Arc::clone(&guard)))
            .configure(graphql::routes)
            .configure(project::routes)
            .configure(pages::routes)
    })
    // Half-closed connections off: only then does the server hear that a client left, and its ask is cancelled.
    .h1_allow_half_closed(false)
    .client_request_timeout(HEAD_TIMEOUT)
    .max_connections(CONNECTIONS_PER_WORKER)
    .shutdown_timeout(limits.time_ms / 1_000 + 5)
    .on_connect(move |io, data| accepted.accepted(io, data))
    .disable_signals();
    let server = match options.workers {
        Some(workers) => server.workers(workers),
        None => server,
    };
    let mut own_socket = None;
    let server = match (socket, &certificate) {
        (Socket::Tcp(listener), certificate) => {
            give_up_on_stalled_readers(&listener);
            match certificate {
                None => server.listen(listener),
                Some(certificate) => server.listen_rustls_0_23(listener, certificate.config().map_err(ServeError)?),
            }
        }
        #[cfg(unix)]
        (Socket::Unix(listener, path), None) => {
            own_socket = Some(path).filter(|path| !path.as_os_str().is_empty());
            server.listen_uds(listener)
        }
        #[cfg(unix)]
        (Socket::Unix(..), Some(_)) => {
            let text = "a socket in the file system speaks no TLS; leave out `[service.tls]`, or listen on an address";
            return Err(ServeError(text.to_owned()));
        }
    };
    let server = server.map_err(failed)?.run();
    let handle = server.handle();
    let server = tokio::spawn(server);
    let warming = shared.clone();
    tokio::task::spawn_blocking(move || {
        if let Err(problem) = warm.warm_up() {
            tracing::error!(target: "puente::service", detail = problem.told(), "{}", problem.message);
        }
        warming.is_warm.store(true, Ordering::Release);
    });
    tracing::info!(target: "puente::service", address = %bound, tls = certificate.is_some(), "listening");
    let mut beside: Vec<_> = options.look_for_drift.map(|every| watch_drift(&shared, every)).into_iter().collect();
    beside.push(tokio::spawn(connections.watch()));
    beside.extend(certificate.map(|certificate| tokio::spawn(certificate.watch())));
    let metrics = options.metrics_listen.map(|listen| serve_counters(&shared, listen)).transpose()?;
    let (metrics_server, metrics_address) = match metrics {
        Some((server, address)) => {
            let handle = server.handle();
            beside.push(tokio::spawn(async move { drop(server.await) }));
            (Some(handle), Some(address))
        }
        None => (None, None),
    };
    Ok(Running {
        bound,
        drain: options.drain,
        socket: own_socket,
        metrics_address,
        beside,
        metrics_server,
        shared,
        handle,
        server,
    })
}

/// Looks for drift now, and again and again.
fn watch_drift(shared: &web::Data<Shared>, every: Duration) -> tokio::task::JoinHandle<()> {
    let shared = shared.clone();
    tokio::spawn(async move {
        loop {
            let looking = shared.clone();
            let look = move || looking.drift.look(&looking.workbench.folder(), &looking.served().api);
            if tokio::task::spawn_blocking(look).await.is_err() {
                tracing::error!(target: "puente::service", "looking for drift ended early");
            }
            tokio::time::sleep(every).await;
        }
    })
}

/// Counters and health at an address of their own, for whoever reaches it: nothing of the data is there.
fn serve_counters(shared: &web::Data<Shared>, listen: SocketAddr) -> Result<(Server, SocketAddr), ServeError> {
    let failed = |error: std::io::Error| {
        ServeError(format!(
            "cannot listen on {listen} for counters: {error}; `metrics_listen` of `[service]` says where"
        ))
    };
    let listener = std::net::TcpListener::bind(listen).map_err(failed)?;
    let address = listener.local_addr().map_err(failed)?;
    let shared = shared.clone();
    let server = HttpServer::new(move || App::new().app_data(shared.clone()).configure(pages::open_counters))
        .workers(1)
        .disable_signals()
        .listen(listener)
        .map_err(failed)?
        .run();
    tracing::info!(target: "puente::service", %address, "counters are read here");
    Ok((server, address))
}
