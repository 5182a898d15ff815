//! `puente demo`

use std::path::PathBuf;

use puente_core::catalog::Engine;
use puente_core::project::{self, SourceSettings};
use puente_service::{Listen, NewKey, ProjectFolder, SurveyOutcome, environment, logging};

use crate::exit::Failure;
use crate::output::{self, faint, heading};

/// Make the demo project in a folder and serve it: a network of mountain huts, and the log of its rescue service.
#[derive(Debug, clap::Args)]
#[command(after_help = "\
Example:
  puente demo --dir /tmp/huts
  puente demo --source postgres://me@localhost/huts     # loads them into an empty database of yours
  puente demo --source mongodb://localhost/huts         # reports, gear and crew as documents, beside the embedded huts
  puente demo --source '${HUTS_URL}'                    # an address with a password stays in the environment")]
pub(crate) struct Demo {
    /// Where the demo is made; kept if it is there already.
    #[arg(long, value_name = "DIR", default_value = "huts-demo")]
    dir: PathBuf,
    /// The address of an empty PostgreSQL or MariaDB database for the huts, instead of the embedded one; or of an empty MongoDB
    /// database for documents beside them.
    #[arg(long, value_name = "URL")]
    source: Option<String>,
    /// The address to listen on, or `unix:PATH`.
    #[arg(long, value_name = "ADDRESS", env = "PUENTE_LISTEN", default_value = super::serve::LISTEN)]
    listen: Listen,
}

impl Demo {
    pub(crate) fn run(self) -> Result<(), Failure> {
        if !self.listen.is_local() {
            return Err(Failure::wrong(format!(
                "the demo listens on a loopback address only, and {} is none",
                self.listen
            )));
        }
        logging::start();
        let start = std::time::Instant::now();
        let folder = match &self.source {
            None => {
                puente_demo::write(&self.dir).map_err(Failure::wrong)?;
                ProjectFolder::open(&self.dir)?
            }
            Some(url) => self.on_server(url)?,
        };
        let surveyed = puente_service::survey(&folder, None)?;
        output::say(format!(
            "The mountain huts are in {} ({:.1} s).",
            self.dir.display(),
            start.elapsed().as_secs_f64()
        ));
        super::block_on(self.serve(folder, surveyed))?
    }

    /// The demo in a database of the user's: loaded once, when the folder is made.
    fn on_server(&self, url: &str) -> Result<ProjectFolder, Failure> {
        super::init::refuse_password(url)?;
        let file = self.dir.join(puente_core::project::FILE);
        let is_new = !file.exists();
        let has_documents = engine(url)?.holds_documents();
        let written = match has_documents {
            true => puente_demo::write_with_documents(&self.dir, url),
            false => puente_demo::write_at(&self.dir, url),
        };
        written.map_err(Failure::wrong)?;
        let undo = |failure: Failure| {
            if is_new {
                // A project whose database was never filled would stand in the way of the next try.
                let _ = std::fs::remove_file(&file);
            }
            failure
        };
        let folder = ProjectFolder::open(&self.dir).map_err(|error| undo(error.into()))?;
        if is_new {
            let is_meant = |source: &&SourceSettings| !has_documents || source.name == puente_demo::DOCUMENTS;
            let source = folder.project.sources.iter().find(is_meant);
            let source =
                source.ok_or_else(|| Failure::wrong("the demo's project file names no such source".to_owned()))?;
            let load = puente_demo::load(source, &folder.path);
            super::block_on(load)?.map_err(|text| undo(Failure::unreachable(text)))?;
        }
        Ok(folder)
    }

    async fn serve(&self, folder: ProjectFolder, surveyed: SurveyOutcome) -> Result<(), Failure> {
        let serving = super::serve::Serving { development: true, workers: None, surveyed: Some(surveyed) };
        let started = super::serve::start(folder.clone(), self.listen.clone(), serving).await?;
        let access_keys = &started.access_keys;
        let key = match environment::read(environment::OWNER_KEY) {
            Some(key) => key,
            None => {
                // The keys of earlier starts were shown once and are lost: they are revoked.
                for old in
                    access_keys.keys()?.iter().filter(|key| key.name.starts_with("demo-") && key.revoked_at.is_none())
                {
                    access_keys.revoke_key(&old.name)?;
                }
                let number = access_keys.keys()?.len() + 1;
                let name = format!("demo-{number}");
                access_keys.create_key(&NewKey {
                    name: &name,
                    role: puente_core::access::OWNER,
                    ..NewKey::default()
                })?
            }
        };
        let address = started.running.bound.clone();
        let dir = self.dir.display();
        output::say(format!("\n{}  http://{address}/#key={key}", heading("Console")));
        output::say(format!("{}      http://{address}/graphql", heading("API")));
        output::say(format!("{}  {key}", heading("Key    ")));
        output::say(heading("\nQueries to try"));
        for (what, document) in puente_demo::ASKS {
            output::say(faint(&format!("  # {what}")));
            output::say(format!("  puente ask --project {dir} --table '{document}'"));
        }
        output::say(heading("\nThe same question, as each role"));
        for who in puente_demo::ASKERS {
            output::say(format!("  puente ask --project {dir} --table {who} '{}'", puente_demo::QUESTION));
        }
        output::say(heading("\nReports, which are JSON, as each role"));
        for (what, who, document) in puente_demo::REPORTS {
            output::say(faint(&format!("  # {what}")));
            output::say(format!("  puente ask --project {dir} --table {who} '{document}'"));
        }
        if folder.project.sources.iter().any(|source| source.name == puente_demo::DOCUMENTS) {
            output::say(heading("\nDocuments, and what they have to do with rows"));
            for (what, who, document) in puente_demo::DOCUMENT_ASKS {
                let who = if who.is_empty() { String::new() } else { format!("{who} ") };
                output::say(faint(&format!("  # {what}")));
                output::say(format!("  puente ask --project {dir} {who}'{document}'"));
            }
        }
        output::say(faint("\nOver HTTP"));
        output::say(format!(
            "  curl -s http://{address}/graphql -H 'Authorization: Bearer {key}' \\\n    -H 'Content-Type: application/json' -d '{{\"query\":\"{{ huts(first: 3) {{ nodes {{ name }} }} }}\"}}'"
        ));
        output::say(faint("\nCtrl-C stops it."));
        started.serve(true).await;
        Ok(())
    }
}

/// What kind of database an address names.
fn engine(url: &str) -> Result<Engine, Failure> {
    let text = format!("[source.demo]\nurl = {}\n", serde_json::Value::from(url));
    let project = project::read(&text, &environment::read).map_err(|mistakes| {
        Failure::wrong(mistakes.iter().map(|mistake| mistake.text.clone()).collect::<Vec<_>>().join("\n"))
    })?;
    Ok(project.sources[0].engine)
}
