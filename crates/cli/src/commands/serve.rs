//! `puente serve`

use std::net::SocketAddr;
use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};

use puente_service::{
    AccessKeys, Api, ApiOptions, Bound, FolderState, Listen, Metrics, NewKey, ProjectFolder, Running, ServeOptions,
    Served, Settling, SurveyOutcome, TlsFiles, Traces, environment, logging,
};

use sd_notify::NotifyState;

use crate::exit::Failure;
use crate::output;

/// The address that is listened on where none is given.
pub(crate) const LISTEN: &str = "127.0.0.1:4810";

/// Serve the API and the console.
#[derive(Debug, clap::Args)]
#[command(after_help = "\
Production needs a secret in the project file; development does without and listens on this machine only.
SIGHUP reloads the project, and in development every change of its files does. A broken file changes nothing.

Example:
  puente serve --development
  PUENTE_SECRET=$(openssl rand -hex 32) puente serve --listen 0.0.0.0:4810")]
pub(crate) struct Serve {
    /// The address to listen on; or `unix:PATH`, a socket in the file system; or `systemd`, the one that it hands over.
    #[arg(long, value_name = "ADDRESS", env = "PUENTE_LISTEN", default_value = LISTEN)]
    listen: Listen,
    /// For development: generates a secret where there is none, believes the tokens of `puente token`, and listens on a
    /// loopback address only.
    #[arg(long)]
    development: bool,
    /// Threads that serve HTTP; one per processor where left out.
    #[arg(long, value_name = "NUMBER")]
    workers: Option<usize>,
}

impl Serve {
    pub(crate) fn run(self, project: &Path) -> Result<(), Failure> {
        if self.development && !self.listen.is_local() {
            return Err(Failure::wrong(format!(
                "`--development` listens on a loopback address only, and {} is none; leave one of the two out",
                self.listen
            )));
        }
        logging::start();
        let folder = match self.development {
            true => ProjectFolder::open_or_begin(project)?,
            false => super::open(project)?,
        };
        super::block_on(async {
            let is_empty = folder.project.sources.is_empty();
            let serving = Serving { development: self.development, workers: self.workers, surveyed: None };
            let has_tls = folder.project.service.tls.is_some();
            let started = start(folder, self.listen, serving).await?;
            let bound = started.running.bound.clone();
            match &bound {
                Bound::Address(address) => {
                    let scheme = if has_tls { "https" } else { "http" };
                    output::note(format!("console {scheme}://{address}/  API {scheme}://{address}/graphql"));
                }
                Bound::Unix(_) => output::note(format!("console and API at {bound}")),
            }
            if let Some(address) = bound.address().filter(|_| is_empty) {
                started.lead_the_first_one(address)?;
            }
            tell_manager(NotifyState::Ready);
            started.serve(self.development).await;
            Ok(())
        })?
    }
}

/// A service that has started.
pub(crate) struct Started {
    pub(crate) running: Running,
    pub(crate) access_keys: Arc<AccessKeys>,
    signals: Signals,
}

/// How a folder is served.
pub(crate) struct Serving {
    pub(crate) development: bool,
    pub(crate) workers: Option<usize>,
    /// What a survey found just now.
    pub(crate) surveyed: Option<SurveyOutcome>,
}

/// Starts the service of a folder.
pub(crate) async fn start(folder: ProjectFolder, listen: Listen, serving: Serving) -> Result<Started, Failure> {
    let Serving { development, workers, surveyed } = serving;
    let owner_key = environment::read(environment::OWNER_KEY);
    check_secrets(&folder, owner_key.as_deref(), development)?;
    let traces = folder.project.service.traces.as_deref().map(Traces::to).transpose().map_err(Failure::wrong)?;
    let options = folder.api_options(folder.secret(development)?, &|_| None)?;
    let options = ApiOptions { traces: traces.map(Arc::new), ..options };
    let api = Arc::new(Api::new(options, Arc::new(Metrics::default())));
    let access_keys = Arc::new(AccessKeys::open(&folder.private_folder()?.join("records.db"))?);
    let identity = folder.identity(development)?;
    let options = ServeOptions {
        listen,
        hosts: folder.project.service.hosts.clone(),
        origins: folder.project.service.origins.clone(),
        owner_key,
        workers,
        tls: folder.project.service.tls.as_ref().map(|files| TlsFiles {
            certificate: folder.path.join(&files.certificate),
            key: folder.path.join(&files.key),
        }),
        drain: Duration::from_secs(folder.project.service.drain_seconds),
        metrics_listen: folder.project.service.metrics_listen,
        look_for_drift: Some(puente_service::LOOK_FOR_DRIFT),
        folder,
        development,
        surveyed,
    };
    let served = Served { api, identity };
    let running = puente_service::serve(served, Arc::clone(&access_keys), options).await?;
    // Heeded from here on: whoever is told that the service is up may signal at once.
    Ok(Started { running, access_keys, signals: Signals::new() })
}

/// Secrets that others could guess or read are for development.
fn check_secrets(folder: &ProjectFolder, owner_key: Option<&str>, development: bool) -> Result<(), Failure> {
    let mut weak: Vec<String> = folder.project.exposed.iter().map(ToString::to_string).collect();
    weak.extend(owner_key.and_then(environment::too_short));
    if weak.is_empty() {
        return Ok(());
    }
    if !development {
        let text = format!("{}\nproduction refuses this; `--development` only warns of it", weak.join("\n"));
        return Err(Failure::wrong(text));
    }
    for text in weak {
        tracing::warn!(target: "puente::service", "{text}; production refuses this");
    }
    Ok(())
}

impl Started {
    /// Tells where to begin a project in which there is nothing yet: the console, opened with a key for it.
    fn lead_the_first_one(&self, address: SocketAddr) -> Result<(), Failure> {
        if environment::read(environment::OWNER_KEY).is_some() {
            return Ok(());
        }
        const NAME: &str = "first-steps";
        let known = self.access_keys.keys()?;
        if known.iter().any(|key| key.name == NAME && key.revoked_at.is_none()) {
            self.access_keys.revoke_key(NAME)?;
        }
        let new = NewKey { name: NAME, role: puente_core::access::OWNER, ..NewKey::default() };
        let key = self.access_keys.create_key(&new)?;
        output::note(format!("there is no project here yet; begin one at http://{address}/#key={key}"));
        Ok(())
    }

    /// Serves until the signal to stop; reloads the project at SIGHUP, and in development whenever its files change.
    pub(crate) async fn serve(mut self, development: bool) {
        let mut settling = Settling::default();
        loop {
            match self.signals.next(development).await {
                Wake::Stop => break,
                Wake::Look => {
                    let folder = self.running.folder();
                    let known = settling.last_seen().unwrap_or(&folder.state);
                    let now = FolderState::read(&folder.path, known);
                    if settling.look(now, &folder.state, Instant::now()) && !self.reload() {
                        settling.refuse();
                    }
                }
                Wake::Reload => {
                    self.reload();
                }
            }
        }
        tell_manager(NotifyState::Stopping);
        self.running.stop().await;
    }
}

impl Started {
    /// Reads the project again. Was it taken over?
    fn reload(&self) -> bool {
        match self.running.reload() {
            Ok(widened) => {
                tracing::info!(target: "puente::service", "the project was reloaded");
                for text in widened {
                    tracing::warn!(target: "puente::service", "grants are wider than before: {text}");
                }
                true
            }
            Err(error) => {
                tracing::error!(
                    target: "puente::service",
                    "the project cannot be reloaded, and what was read before stays in force: {error}"
                );
                false
            }
        }
    }
}

/// Tells the service manager that started this how things are, if one did.
fn tell_manager(state: NotifyState<'_>) {
    if let Err(error) = sd_notify::notify(false, &[state]) {
        tracing::warn!(target: "puente::service", %error, "the service manager cannot be told");
    }
}

/// Why the service wakes up.
enum Wake {
    /// It is to stop: SIGINT or SIGTERM.
    Stop,
    /// It is to reload the project: SIGHUP.
    Reload,
    /// Time to look whether the files changed.
    Look,
}

/// The signals that the service heeds.
struct Signals {
    #[cfg(unix)]
    terminate: Option<tokio::signal::unix::Signal>,
    #[cfg(unix)]
    hang_up: Option<tokio::signal::unix::Signal>,
}

impl Signals {
    #[cfg(unix)]
    fn new() -> Self {
        use tokio::signal::unix::{SignalKind, signal};
        Signals { terminate: signal(SignalKind::terminate()).ok(), hang_up: signal(SignalKind::hangup()).ok() }
    }

    #[cfg(not(unix))]
    fn new() -> Self {
        Signals {}
    }

    async fn next(&mut self, looks: bool) -> Wake {
        const BETWEEN_LOOKS: Duration = Duration::from_millis(100);
        let look = async {
            if looks {
                tokio::time::sleep(BETWEEN_LOOKS).await;
            } else {
                std::future::pending::<()>().await;
            }
        };
        #[cfg(unix)]
        {
            async fn received(signal: &mut Option<tokio::signal::unix::Signal>) {
                match signal {
                    Some(signal) => {
                        signal.recv().await;
                    }
                    None => std::future::pending().await,
                }
            }
            tokio::select! {
                _ = tokio::signal::ctrl_c() => Wake::Stop,
                () = received(&mut self.terminate) => Wake::Stop,
                () = received(&mut self.hang_up) => Wake::Reload,
                () = look => Wake::Look,
            }
        }
        #[cfg(not(unix))]
        tokio::select! {
            _ = tokio::signal::ctrl_c() => Wake::Stop,
            () = look => Wake::Look,
        }
    }
}
