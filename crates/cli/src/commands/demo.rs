//! `puente demo`

use std::net::SocketAddr;
use std::path::PathBuf;

use puente_service::{ProjectFolder, environment, logging};

use crate::exit::Failure;
use crate::output::{self, faint, heading};

/// Make the demo project in a folder and serve it: a network of mountain huts.
#[derive(Debug, clap::Args)]
#[command(after_help = "Example:\n  puente demo --dir /tmp/huts")]
pub(crate) struct Demo {
    /// Where the demo is made; kept if it is there already.
    #[arg(long, value_name = "DIR", default_value = "huts-demo")]
    dir: PathBuf,
    /// The address to listen on.
    #[arg(long, value_name = "ADDRESS", env = "PUENTE_LISTEN", default_value = super::serve::LISTEN)]
    listen: SocketAddr,
}

impl Demo {
    pub(crate) fn run(self) -> Result<(), Failure> {
        if !self.listen.ip().is_loopback() {
            return Err(Failure::wrong(format!(
                "the demo listens on a loopback address only, and {} is none",
                self.listen
            )));
        }
        logging::start();
        let start = std::time::Instant::now();
        puente_demo::write(&self.dir).map_err(Failure::wrong)?;
        let folder = ProjectFolder::open(&self.dir)?;
        puente_service::survey(&folder)?;
        output::say(format!(
            "The mountain huts are in {} ({:.1} s).",
            self.dir.display(),
            start.elapsed().as_secs_f64()
        ));
        super::block_on(self.serve(&folder))?
    }

    async fn serve(&self, folder: &ProjectFolder) -> Result<(), Failure> {
        let secret = folder.secret(true)?;
        let (running, records) = super::serve::start(folder, secret, self.listen, None).await?;
        let key = match environment::read(environment::OWNER_KEY) {
            Some(key) => key,
            None => {
                // The keys of earlier starts were shown once and are lost: they are revoked.
                for old in
                    records.keys()?.iter().filter(|key| key.name.starts_with("demo-") && key.revoked_at.is_none())
                {
                    records.revoke_key(&old.name)?;
                }
                let number = records.keys()?.len() + 1;
                records.create_key(&format!("demo-{number}"), puente_core::access::OWNER)?
            }
        };
        let address = running.address;
        let dir = self.dir.display();
        output::say(format!("\n{}  http://{address}/console#key={key}", heading("Console")));
        output::say(format!("{}      http://{address}/graphql", heading("API")));
        output::say(format!("{}  {key}", heading("Key    ")));
        output::say(heading("\nThree asks to try"));
        for (what, document) in puente_demo::ASKS {
            output::say(faint(&format!("  # {what}")));
            output::say(format!("  puente ask --project {dir} --table '{document}'"));
        }
        output::say(faint("\nOver HTTP"));
        output::say(format!(
            "  curl -s http://{address}/graphql -H 'Authorization: Bearer {key}' \\\n    -H 'Content-Type: application/json' -d '{{\"query\":\"{{ huts(first: 3) {{ nodes {{ name }} }} }}\"}}'"
        ));
        output::say(faint("\nCtrl-C stops it."));
        super::serve::wait_for_signal().await;
        running.stop().await;
        Ok(())
    }
}
