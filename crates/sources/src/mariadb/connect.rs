//! Reaching the server: its address, TLS, and a pool of read-only sessions.

use std::path::Path;
use std::time::{Duration, Instant};

use deadpool::managed::{Manager, Metrics, Object, Pool, PoolError, RecycleResult};
use mysql_async::prelude::Queryable as _;
use mysql_async::{Conn, Opts, OptsBuilder, SslOpts};
use puente_core::error::{Code, Detail, Problem};
use puente_core::project::SourceSettings;
use tokio::time::{timeout, timeout_at};

use super::fault;
use crate::backoff::Backoff;
use crate::server::{CANCEL_TIMEOUT, CONNECT_TIMEOUT, CONNECTIONS, gate, turn};
use crate::tls::{self, Verify};
use puente_run::turns::{Gate, Load, Party, Turn};

/// A session that was taken longer ago is asked whether it is there before it is taken again.
const UNASKED: Duration = Duration::from_secs(1);

/// What makes sessions. They are given back only when nothing of theirs is left to be read, so that there is nothing to clear
/// before the next request; the driver's own pool hands each to a task that looks.
#[derive(Debug)]
struct Sessions(Opts);

impl Manager for Sessions {
    type Type = Conn;
    type Error = mysql_async::Error;

    async fn create(&self) -> Result<Conn, mysql_async::Error> {
        Conn::new(self.0.clone()).await
    }

    async fn recycle(&self, session: &mut Conn, metrics: &Metrics) -> RecycleResult<mysql_async::Error> {
        // The server may have ended it meanwhile, and a change is not tried again on another.
        if metrics.last_used() > UNASKED {
            session.ping().await?;
        }
        Ok(())
    }
}

/// One server and the sessions on it.
#[derive(Debug)]
pub(super) struct Server {
    pool: Pool<Sessions>,
    options: Opts,
    backoff: Backoff,
    gate: Gate,
    wait: Duration,
    /// Is the address that of a MySQL server?
    is_mysql: bool,
}

/// A session of the pool, and its caller's turn to use it. It goes back to the pool only by [`Session::give_back`]; else it ends,
/// and a transaction with it.
pub(super) struct Session {
    connection: Option<Object<Sessions>>,
    _turn: Turn,
}

/// Why a session has its connection until it is dropped.
const HELD: &str = "a session holds its connection until it is given back or up";

impl std::ops::Deref for Session {
    type Target = Conn;

    fn deref(&self) -> &Conn {
        self.connection.as_ref().expect(HELD)
    }
}

impl std::ops::DerefMut for Session {
    fn deref_mut(&mut self) -> &mut Conn {
        self.connection.as_mut().expect(HELD)
    }
}

impl Session {
    /// Gives the session back: it has no transaction, and nothing of its answers is left to be read.
    pub(super) fn give_back(mut self) {
        drop(self.connection.take());
    }

    /// Ends the session: a late cancellation must not hit the next request.
    pub(super) async fn give_up(mut self) {
        if let Some(connection) = self.connection.take() {
            let _ = timeout(CANCEL_TIMEOUT, Object::take(connection).disconnect()).await;
        }
    }
}

impl Drop for Session {
    fn drop(&mut self) {
        // Ending takes a message to the server, which a task of its own sends.
        if let Some(connection) = self.connection.take() {
            tokio::spawn(timeout(CANCEL_TIMEOUT, Object::take(connection).disconnect()));
        }
    }
}

/// What every reading session begins with: instants in UTC, one snapshot per transaction, no writes.
const SESSION: &[&str] = &[
    "set session time_zone = '+00:00'",
    // Eight bytes for each character that an order looks at.
    "set session max_sort_length = 8192",
    // Lists in JSON are put together of their items: as long as a value of a column can be.
    "set session group_concat_max_len = 1073741824",
    "set session transaction isolation level repeatable read",
    "set session transaction read only",
    // What does not fit a column is refused, not cut to fit.
    "set session sql_mode = concat(@@session.sql_mode, ',STRICT_ALL_TABLES')",
];

impl Server {
    pub(super) fn new(url: &str, settings: &SourceSettings, base: &Path) -> Result<Self, Problem> {
        let connections = settings.connections.unwrap_or(CONNECTIONS);
        let options: Opts = options(url, settings, base)?.init(SESSION.to_vec()).stmt_cache_size(0).into();
        let pool = Pool::builder(Sessions(options.clone())).max_size(connections).build();
        Ok(Server {
            pool: pool.map_err(|error| Problem::new(Code::SourceUnavailable, error.to_string()))?,
            options,
            backoff: Backoff::default(),
            gate: gate(connections),
            wait: Duration::from_millis(settings.wait_ms),
            is_mysql: url.starts_with("mysql:"),
        })
    }

    /// A session, when it is the caller's turn, for as long as it is kept.
    ///
    /// # Errors
    /// `TOO_BUSY` for who filled the line; `TIMED_OUT` at the deadline; `SOURCE_UNAVAILABLE` where the server is out of reach.
    pub(super) async fn session(&self, caller: &Party, deadline: Instant) -> Result<Session, Problem> {
        let turn = turn(&self.gate, caller, deadline, self.wait).await?;
        self.connection(deadline).await.map(|connection| Session { connection: Some(connection), _turn: turn })
    }

    /// How much there is to do.
    pub(super) fn load(&self) -> Load {
        self.gate.load()
    }

    /// Can the server be reached? Not in anybody's turn.
    ///
    /// # Errors
    /// `SOURCE_UNAVAILABLE`, with the reason.
    pub(super) async fn reach(&self) -> Result<(), Problem> {
        let mut connection = self.connection(Instant::now() + CONNECT_TIMEOUT).await?;
        let reached = connection.ping().await;
        if reached.is_err() {
            drop(Object::take(connection));
            self.lost();
        }
        reached.map_err(|error| fault::problem(&error))
    }

    /// A session without a turn. Whoever has a turn need not wait for others: where it takes too long, it is the server that
    /// does not answer.
    async fn connection(&self, deadline: Instant) -> Result<Object<Sessions>, Problem> {
        if !self.backoff.may_try() {
            let text = "the database cannot be reached; it is tried again in a moment";
            return Err(Problem::new(Code::SourceUnavailable, text));
        }
        let deadline = deadline.min(Instant::now() + CONNECT_TIMEOUT);
        match timeout_at(deadline.into(), self.pool.get()).await {
            Ok(Ok(connection)) => {
                self.backoff.succeeded();
                Ok(connection)
            }
            Ok(Err(error)) => {
                self.backoff.failed();
                Err(match error {
                    PoolError::Backend(error) => fault::unreachable(&error),
                    error => Problem::new(Code::SourceUnavailable, "the database cannot be reached")
                        .with_detail(Detail::plain(error)),
                })
            }
            Err(_) => {
                self.backoff.failed();
                let text = "the database does not answer; it is tried again in a moment";
                Err(Problem::new(Code::SourceUnavailable, text))
            }
        }
    }

    /// Does a session know `insert … returning`? MariaDB does, from its tenth version on; MySQL, whose versions are lower, does not.
    pub(super) fn returns_inserted(&self, session: &Conn) -> bool {
        !self.is_mysql && session.server_version().0 >= 10
    }

    /// The session was found dead: those beside it may be, too.
    pub(super) fn lost(&self) {
        self.pool.retain(|_, _| false);
    }

    /// A session outside the pool, to say that a statement is not wanted any more.
    pub(super) async fn aside(&self) -> Result<Conn, mysql_async::Error> {
        Conn::new(self.options.clone()).await
    }
}

/// A session of one's own, outside any pool, that may write.
///
/// # Errors
/// `SOURCE_UNAVAILABLE` where the server cannot be reached.
pub async fn connect(settings: &SourceSettings, base: &Path) -> Result<Conn, Problem> {
    let options = options(&settings.url.0, settings, base)?.init(SESSION[..1].to_vec());
    Conn::new(options).await.map_err(|error| fault::unreachable(&error))
}

/// Takes an address apart. `sslmode` and `sslrootcert` are ours to understand, the rest is the driver's.
fn options(url: &str, settings: &SourceSettings, base: &Path) -> Result<OptsBuilder, Problem> {
    let wrong = |text: String| Problem::new(Code::SourceUnavailable, format!("the source's `url`: {text}"));
    let (_, rest) = url.split_once(':').unwrap_or_default();
    let mut parsed =
        url::Url::parse(&format!("mysql:{rest}")).map_err(|error| wrong(format!("it is not an address ({error})")))?;
    let wanted = tls::take(&mut parsed, settings);
    let options = Opts::from_url(parsed.as_str()).map_err(|error| wrong(error.to_string()))?;
    if options.db_name().is_none() {
        return Err(wrong(
            "it names no database; write it after the host, such as mariadb://user@host/huts".to_owned(),
        ));
    }
    let verify = wanted.verify(tls::is_local(options.ip_or_hostname())).map_err(wrong)?;
    let trusted = match &wanted.root {
        None => SslOpts::default(),
        Some(file) => {
            let file = base.join(file);
            if !file.is_file() {
                return Err(wrong(format!("the root certificate {} is not there", file.display())));
            }
            SslOpts::default().with_root_certs(vec![file.into()])
        }
    };
    let tls = match verify {
        Verify::Disable => None,
        Verify::Full => Some(trusted),
        Verify::Ca => Some(trusted.with_danger_skip_domain_validation(true)),
        Verify::Require => {
            Some(trusted.with_danger_accept_invalid_certs(true).with_danger_skip_domain_validation(true))
        }
    };
    Ok(OptsBuilder::from_opts(options).ssl_opts(tls).prefer_socket(false).tcp_nodelay(true))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn opts(url: &str) -> Result<Opts, Problem> {
        let text = "[source.main]\nurl = \"mariadb://db.example/huts\"";
        let settings = puente_core::project::read(text, &|_| None).unwrap().sources.remove(0);
        options(url, &settings, Path::new(".")).map(Opts::from)
    }

    #[rstest]
    #[case("mariadb://u:p@127.0.0.1/huts", false)]
    #[case("mysql://u:p@db.example/huts", true)]
    #[case("mariadb://u:p@db.example:3307/huts?sslmode=disable", false)]
    #[case("mariadb://u:p@localhost/huts?sslmode=verify-full", true)]
    fn tls_is_verified_unless_the_address_says_otherwise(#[case] url: &str, #[case] tls: bool) {
        let found = opts(url).unwrap();
        assert_eq!(found.ssl_opts().is_some(), tls);
        assert!(found.ssl_opts().is_none_or(|tls| !tls.accept_invalid_certs() && !tls.skip_domain_validation()));
    }

    #[rstest]
    #[case("mariadb://h/d?sslmode=prefer", "verify-full, found `prefer`")]
    #[case("mariadb://h/d?sslmode=verify-full&sslrootcert=nowhere.pem", "nowhere.pem is not there")]
    #[case("mariadb://h", "names no database")]
    #[case("mariadb://h/d?colour=red", "colour")]
    fn an_address_that_cannot_be_understood_is_refused(#[case] url: &str, #[case] text: &str) {
        let problem = opts(url).err().unwrap();
        assert!(problem.message.contains(text), "{}", problem.message);
    }
}
