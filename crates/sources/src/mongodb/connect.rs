//! Reaching the deployment: its address, TLS, the driver's client and its sessions.

use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use bson::doc;
use mongodb::options::{ClientOptions, ServerAddress, Tls, TlsOptions, WriteConcern};
use mongodb::{Client, ClientSession, Database};
use puente_core::error::{Code, Problem};
use puente_core::project::SourceSettings;
use tokio::sync::OnceCell;
use tokio::time::timeout_at;

use super::fault;
use crate::backoff::Backoff;
use crate::server::{CONNECT_TIMEOUT, CONNECTIONS, gate, turn};
use crate::tls::is_local;
use puente_run::turns::{Gate, Load, Party, Turn};

/// The deployment that a source's address names.
#[derive(Debug)]
pub(super) struct Server {
    settings: SourceSettings,
    base: PathBuf,
    /// Made with the first request: its tasks run where it was made.
    client: OnceCell<Reached>,
    backoff: Backoff,
    /// Did no server answer lately? Then one is asked whether it is there before a request waits for it.
    is_doubtful: AtomicBool,
    gate: Gate,
    wait: Duration,
}

/// What was reached.
#[derive(Debug, Clone)]
pub(super) struct Reached {
    pub(super) database: Database,
    /// Has it transactions and snapshots? A standalone server has not.
    pub(super) has_transactions: bool,
}

/// A session of the driver, and its caller's turn to use it.
pub(super) struct Session {
    pub(super) session: ClientSession,
    pub(super) reached: Reached,
    /// Was a transaction begun on it?
    pub(super) in_transaction: bool,
    pub(super) _turn: Turn,
}

impl Server {
    pub(super) fn new(settings: &SourceSettings, base: &Path) -> Result<Self, Problem> {
        Ok(Server {
            settings: settings.clone(),
            base: base.to_owned(),
            client: OnceCell::new(),
            backoff: Backoff::default(),
            is_doubtful: AtomicBool::new(false),
            gate: gate(settings.connections.unwrap_or(CONNECTIONS)),
            wait: Duration::from_millis(settings.wait_ms),
        })
    }

    /// May several documents be changed without a transaction?
    pub(super) fn without_transactions(&self) -> bool {
        self.settings.without_transactions
    }

    /// A session, when it is the caller's turn, for as long as it is kept.
    ///
    /// # Errors
    /// `TOO_BUSY` for who filled the line; `TIMED_OUT` at the deadline; `SOURCE_UNAVAILABLE` where no server is in reach.
    pub(super) async fn session(&self, caller: &Party, deadline: Instant) -> Result<Session, Problem> {
        let turn = turn(&self.gate, caller, deadline, self.wait).await?;
        let reached = self.reached(deadline).await?;
        let session = reached.database.client().start_session().await.map_err(|error| fault::problem(&error))?;
        Ok(Session { session, reached, in_transaction: false, _turn: turn })
    }

    /// How much there is to do.
    pub(super) fn load(&self) -> Load {
        self.gate.load()
    }

    /// Can a server be reached?
    ///
    /// # Errors
    /// `SOURCE_UNAVAILABLE`, with the reason.
    pub(super) async fn reach(&self) -> Result<(), Problem> {
        let deadline = Instant::now() + CONNECT_TIMEOUT;
        let reached = self.reached(deadline).await?;
        let ping = reached.database.run_command(doc! { "ping": 1 });
        match timeout_at(deadline.into(), ping).await {
            Ok(Ok(_)) => {
                self.backoff.succeeded();
                Ok(())
            }
            Ok(Err(error)) => {
                self.lost();
                Err(fault::problem(&error))
            }
            Err(_) => {
                self.lost();
                Err(does_not_answer())
            }
        }
    }

    /// The client, once a server answered it.
    async fn reached(&self, deadline: Instant) -> Result<Reached, Problem> {
        if !self.backoff.may_try() {
            let text = "the database cannot be reached; it is tried again in a moment";
            return Err(Problem::new(Code::SourceUnavailable, text));
        }
        let deadline = deadline.min(Instant::now() + CONNECT_TIMEOUT);
        let reaching = async {
            let reached = self.client.get_or_try_init(|| open(&self.settings, &self.base)).await?;
            if self.is_doubtful.load(Ordering::Relaxed) {
                let asked = reached.database.run_command(doc! { "ping": 1 }).await;
                asked.map_err(|error| fault::unreachable(&error))?;
                self.is_doubtful.store(false, Ordering::Relaxed);
            }
            Ok(reached)
        };
        match timeout_at(deadline.into(), reaching).await {
            Ok(Ok(reached)) => {
                self.backoff.succeeded();
                Ok(reached.clone())
            }
            Ok(Err(problem)) => {
                self.backoff.failed();
                Err(problem)
            }
            Err(_) => {
                self.backoff.failed();
                Err(does_not_answer())
            }
        }
    }

    /// No server answers: requests wait no longer than they have to until one does.
    pub(super) fn lost(&self) {
        self.is_doubtful.store(true, Ordering::Relaxed);
    }
}

fn does_not_answer() -> Problem {
    Problem::new(Code::SourceUnavailable, "the database does not answer; it is tried again in a moment")
}

/// Makes a client, and asks what it reached.
async fn open(settings: &SourceSettings, base: &Path) -> Result<Reached, Problem> {
    let options = options(settings, base).await?;
    let name = options.default_database.clone().unwrap_or_default();
    let client = Client::with_options(options).map_err(|error| fault::unreachable(&error))?;
    let hello = client.database("admin").run_command(doc! { "hello": 1 }).await;
    let hello = hello.map_err(|error| fault::unreachable(&error))?;
    let has_transactions = hello.contains_key("setName") || hello.get_str("msg").is_ok_and(|word| word == "isdbgrid");
    Ok(Reached { database: client.database(&name), has_transactions })
}

/// A database on a client of one's own.
///
/// # Errors
/// `SOURCE_UNAVAILABLE` where no server can be reached.
pub async fn connect(settings: &SourceSettings, base: &Path) -> Result<Database, Problem> {
    open(settings, base).await.map(|reached| reached.database)
}

/// What the address says, and what it leaves to us: TLS to other machines, writes that a majority has.
async fn options(settings: &SourceSettings, base: &Path) -> Result<ClientOptions, Problem> {
    let wrong = |text: String| Problem::new(Code::SourceUnavailable, format!("the source's `url`: {text}"));
    let parsed = ClientOptions::parse(&settings.url.0).await;
    let mut options = parsed.map_err(|error| match *error.kind {
        mongodb::error::ErrorKind::DnsResolve { .. } => fault::unreachable(&error),
        mongodb::error::ErrorKind::InvalidArgument { ref message, .. } => wrong(message.clone()),
        _ => wrong(error.to_string()),
    })?;
    if options.default_database.is_none() {
        return Err(wrong(
            "it names no database; write it after the hosts, such as mongodb://user@host/huts?authSource=admin"
                .to_owned(),
        ));
    }
    let is_here = |address: &ServerAddress| match address {
        ServerAddress::Tcp { host, .. } => is_local(host),
        _ => true,
    };
    if let Some(file) = &settings.root_certificate {
        let file = base.join(file);
        if !file.is_file() {
            return Err(wrong(format!("the root certificate {} is not there", file.display())));
        }
        options.tls = Some(Tls::Enabled(TlsOptions::builder().ca_file_path(file).build()));
    } else if options.tls.is_none() && !options.hosts.iter().all(is_here) {
        options.tls = Some(Tls::Enabled(TlsOptions::default()));
    }
    options.app_name.get_or_insert_with(|| "puente".to_owned());
    options.server_selection_timeout.get_or_insert(CONNECT_TIMEOUT);
    options.connect_timeout.get_or_insert(CONNECT_TIMEOUT);
    let connections = u32::try_from(settings.connections.unwrap_or(CONNECTIONS)).unwrap_or(u32::MAX);
    options.max_pool_size.get_or_insert(connections);
    options.write_concern.get_or_insert_with(WriteConcern::majority);
    Ok(options)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn settings(url: &str) -> SourceSettings {
        let text = format!("[source.main]\nurl = \"{url}\"");
        puente_core::project::read(&text, &|_| None).unwrap().sources.remove(0)
    }

    #[rstest]
    #[case("mongodb://127.0.0.1/huts", false)]
    #[case("mongodb://db.example/huts", true)]
    #[case("mongodb://127.0.0.1,db.example/huts", true)]
    #[case("mongodb://db.example/huts?tls=false", false)]
    #[case("mongodb://localhost/huts?tls=true", true)]
    #[tokio::test]
    async fn other_machines_are_spoken_to_over_tls(#[case] url: &str, #[case] tls: bool) {
        let found = options(&settings(url), Path::new(".")).await.unwrap();
        assert_eq!(matches!(found.tls, Some(Tls::Enabled(_))), tls);
        assert_eq!(found.write_concern, Some(WriteConcern::majority()));
    }

    #[rstest]
    #[case("mongodb://h", "names no database")]
    #[case("mongodb://h/d?readPreference=blue", "url`: 'blue' is not a valid read preference")]
    #[tokio::test]
    async fn an_address_that_cannot_be_understood_is_refused(#[case] url: &str, #[case] text: &str) {
        let problem = options(&settings(url), Path::new(".")).await.err().unwrap();
        assert!(problem.message.contains(text), "{}", problem.message);
    }
}
