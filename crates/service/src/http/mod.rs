//! The service over HTTP: what is listened to, and how it starts and stops.

mod graphql;
mod guard;
mod negotiation;
mod pages;

use std::fmt;
use std::net::SocketAddr;
use std::sync::{Arc, PoisonError, RwLock};

use actix_web::dev::ServerHandle;
use actix_web::http::header::AUTHORIZATION;
use actix_web::middleware::{Compress, from_fn};
use actix_web::{App, HttpRequest, HttpServer, web};

use crate::api::Api;
use crate::identity::{Caller, Identity, Unidentified};
use crate::records::Records;
pub(crate) use guard::Guard;

/// How the service is reached.
#[derive(Debug)]
pub struct ServeOptions {
    /// The address to listen on; port 0 takes a free one.
    pub listen: SocketAddr,
    /// Host names under which it may be reached, beside the loopback ones and the address itself.
    pub hosts: Vec<String>,
    /// Origins of other web sites that may call it.
    pub origins: Vec<String>,
    /// The owner's access key, if it is given from outside instead of by the records.
    pub owner_key: Option<String>,
    /// How it is known who asks.
    pub identity: Identity,
    /// Threads that serve HTTP; absent, one per processor.
    pub workers: Option<usize>,
}

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
    /// Where it listens.
    pub address: SocketAddr,
    shared: web::Data<Shared>,
    handle: ServerHandle,
    server: tokio::task::JoinHandle<std::io::Result<()>>,
}

impl Running {
    /// Knows who asks by something else from now on.
    pub(crate) fn replace_identity(&self, identity: Identity) {
        *self.shared.identity.write().unwrap_or_else(PoisonError::into_inner) = Arc::new(identity);
    }

    /// Stops taking requests, and waits for those that run.
    pub async fn stop(self) {
        tracing::info!(target: "puente::service", "stopping; what runs is finished first");
        self.handle.stop(true).await;
        let _ = self.server.await;
        tracing::info!(target: "puente::service", "stopped");
    }
}

/// What every handler shares.
#[derive(Debug)]
pub(crate) struct Shared {
    pub(crate) api: Arc<Api>,
    pub(crate) records: Arc<Records>,
    pub(crate) owner_key: Option<[u8; 32]>,
    identity: RwLock<Arc<Identity>>,
}

impl Shared {
    /// What a request proves of who sends it.
    pub(crate) async fn caller(&self, request: &HttpRequest) -> Result<Caller, Unidentified> {
        let authorization = match request.headers().get(AUTHORIZATION) {
            None => None,
            Some(value) => Some(value.to_str().map_err(|_| Unidentified::Malformed)?),
        };
        let identity = Arc::clone(&self.identity.read().unwrap_or_else(PoisonError::into_inner));
        identity.caller(authorization, &self.records, self.owner_key.as_ref()).await
    }
}

/// Starts the service.
///
/// # Errors
/// Where the address cannot be listened on.
pub async fn serve(api: Arc<Api>, records: Arc<Records>, options: ServeOptions) -> Result<Running, ServeError> {
    let failed = |error: std::io::Error| {
        ServeError(format!("cannot listen on {}: {error}; `--listen` takes another address", options.listen))
    };
    let listener = std::net::TcpListener::bind(options.listen).map_err(failed)?;
    let address = listener.local_addr().map_err(failed)?;
    let guard = Arc::new(Guard::new(address, &options.hosts, &options.origins));
    let owner_key = options.owner_key.as_deref().map(crate::records::hash);
    let limits = api.limits();
    let identity = RwLock::new(Arc::new(options.identity));
    let shared = web::Data::new(Shared { api: Arc::clone(&api), records, owner_key, identity });
    let served = shared.clone();
    let server = HttpServer::new(move || {
        App::new()
            .app_data(served.clone())
            .app_data(web::PayloadConfig::new(limits.body_bytes))
            .wrap(Compress::default())
            .wrap(from_fn(guard::check))
            .app_data(web::Data::from(Arc::clone(&guard)))
            .configure(graphql::routes)
            .configure(pages::routes)
    })
    // Half-closed connections off: only then does the server hear that a client left, and its ask is cancelled.
    .h1_allow_half_closed(false)
    .shutdown_timeout(limits.time_ms / 1_000 + 5)
    .disable_signals();
    let server = match options.workers {
        Some(workers) => server.workers(workers),
        None => server,
    };
    let server = server.listen(listener).map_err(failed)?.run();
    let handle = server.handle();
    let server = tokio::spawn(server);
    let warm = Arc::clone(&api);
    tokio::task::spawn_blocking(move || {
        if let Err(problem) = warm.warm_up() {
            tracing::error!(target: "puente::service", detail = problem.detail, "{}", problem.message);
        }
    });
    tracing::info!(target: "puente::service", %address, "listening");
    Ok(Running { address, shared, handle, server })
}
