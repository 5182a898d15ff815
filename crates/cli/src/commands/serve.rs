//! `puente serve`

use std::net::SocketAddr;
use std::path::Path;
use std::sync::Arc;

use puente_service::{ProjectFolder, Records, Running, ServeOptions, environment, logging};

use crate::exit::Failure;
use crate::output;

/// The address that is listened on where none is given.
pub(crate) const LISTEN: &str = "127.0.0.1:4810";

/// Serve the API and the console.
#[derive(Debug, clap::Args)]
#[command(after_help = "\
Production needs a secret in the project file; development does without and listens on this machine only.

Example:
  puente serve --development
  PUENTE_SECRET=$(openssl rand -hex 32) puente serve --listen 0.0.0.0:4810")]
pub(crate) struct Serve {
    /// The address to listen on.
    #[arg(long, value_name = "ADDRESS", env = "PUENTE_LISTEN", default_value = LISTEN)]
    listen: SocketAddr,
    /// For development: generates a secret where there is none, and listens on a loopback address only.
    #[arg(long)]
    development: bool,
    /// Threads that serve HTTP; one per processor where left out.
    #[arg(long, value_name = "NUMBER")]
    workers: Option<usize>,
}

impl Serve {
    pub(crate) fn run(self, project: &Path) -> Result<(), Failure> {
        if self.development && !self.listen.ip().is_loopback() {
            return Err(Failure::wrong(format!(
                "`--development` listens on a loopback address only, and {} is none; leave one of the two out",
                self.listen
            )));
        }
        logging::start();
        let folder = super::open(project)?;
        let secret = folder.secret(self.development)?;
        super::block_on(async {
            let (running, _) = start(&folder, secret, self.listen, self.workers).await?;
            output::note(format!("console http://{0}/console  API http://{0}/graphql", running.address));
            wait_for_signal().await;
            running.stop().await;
            Ok(())
        })?
    }
}

/// Starts the service of a folder; also gives its records.
pub(crate) async fn start(
    folder: &ProjectFolder,
    secret: Vec<u8>,
    listen: SocketAddr,
    workers: Option<usize>,
) -> Result<(Running, Arc<Records>), Failure> {
    let api = super::open_api(folder, secret)?;
    let records = Arc::new(Records::open(&folder.private_folder()?.join("records.db"))?);
    let options = ServeOptions {
        listen,
        hosts: folder.project.service.hosts.clone(),
        origins: folder.project.service.origins.clone(),
        owner_key: environment::read(environment::OWNER_KEY),
        workers,
    };
    let running = puente_service::serve(api, Arc::clone(&records), options).await?;
    Ok((running, records))
}

/// Waits for the signal to stop: SIGINT or SIGTERM.
pub(crate) async fn wait_for_signal() {
    #[cfg(unix)]
    {
        use tokio::signal::unix::{SignalKind, signal};
        if let Ok(mut terminate) = signal(SignalKind::terminate()) {
            tokio::select! {
                _ = tokio::signal::ctrl_c() => {}
                _ = terminate.recv() => {}
            }
            return;
        }
    }
    let _ = tokio::signal::ctrl_c().await;
}
