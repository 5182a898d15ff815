//! Reaching the server: its address, TLS, and a pool of read-only sessions.

use std::path::Path;
use std::time::{Duration, Instant};

use mysql_async::prelude::Queryable as _;
use mysql_async::{Conn, Opts, OptsBuilder, Pool, PoolConstraints, PoolOpts, SslOpts};
use puente_core::error::{Code, Problem};
use puente_core::project::SourceSettings;
use tokio::time::{timeout, timeout_at};

use super::fault;
use crate::backoff::Backoff;
use crate::server::{CANCEL_TIMEOUT, CONNECT_TIMEOUT, CONNECTIONS, STATEMENTS_KEPT, gate, turn};
use crate::tls::{self, Verify};
use crate::turns::{Gate, Party, Turn};

/// One server and the sessions on it.
#[derive(Debug)]
pub(super) struct Server {
    pool: Pool,
    options: Opts,
    backoff: Backoff,
    gate: Gate,
    wait: Duration,
}

/// A session of the pool, and its caller's turn to use it.
pub(super) struct Session {
    connection: Conn,
    _turn: Turn,
}

impl std::ops::Deref for Session {
    type Target = Conn;

    fn deref(&self) -> &Conn {
        &self.connection
    }
}

impl std::ops::DerefMut for Session {
    fn deref_mut(&mut self) -> &mut Conn {
        &mut self.connection
    }
}

impl Session {
    /// Ends the session instead of giving it back: a late cancellation must not hit the next ask.
    pub(super) async fn give_up(self) {
        let _ = timeout(CANCEL_TIMEOUT, self.connection.disconnect()).await;
    }
}

/// What every reading session begins with: instants in UTC, one snapshot per transaction, no writes.
const SESSION: &[&str] = &[
    "set session time_zone = '+00:00'",
    // Eight bytes for each character that an order looks at.
    "set session max_sort_length = 8192",
    "set session transaction isolation level repeatable read",
    "set session transaction read only",
    // What does not fit a column is refused, not cut to fit.
    "set session sql_mode = concat(@@session.sql_mode, ',STRICT_ALL_TABLES')",
];

impl Server {
    pub(super) fn new(url: &str, settings: &SourceSettings, base: &Path) -> Result<Self, Problem> {
        let connections = settings.connections.unwrap_or(CONNECTIONS);
        let constraints = PoolConstraints::new(0, connections).unwrap_or_default();
        let pool = PoolOpts::default().with_constraints(constraints).with_reset_connection(false);
        let options: Opts = options(url, settings, base)?
            .pool_opts(pool)
            .init(SESSION.to_vec())
            .stmt_cache_size(STATEMENTS_KEPT)
            .into();
        Ok(Server {
            pool: Pool::new(options.clone()),
            options,
            backoff: Backoff::default(),
            gate: gate(connections),
            wait: Duration::from_millis(settings.wait_ms),
        })
    }

    /// A session, when it is the caller's turn, for as long as it is kept.
    ///
    /// # Errors
    /// `TOO_BUSY` for who filled the line; `TIMED_OUT` at the deadline; `SOURCE_UNAVAILABLE` where the server is out of reach.
    pub(super) async fn session(&self, caller: &Party, deadline: Instant) -> Result<Session, Problem> {
        let turn = turn(&self.gate, caller, deadline, self.wait).await?;
        self.connection(deadline).await.map(|connection| Session { connection, _turn: turn })
    }

    /// Can the server be reached? Not in anybody's turn.
    ///
    /// # Errors
    /// `SOURCE_UNAVAILABLE`, with the reason.
    pub(super) async fn reach(&self) -> Result<(), Problem> {
        let mut connection = self.connection(Instant::now() + CONNECT_TIMEOUT).await?;
        connection.ping().await.map_err(|error| fault::problem(&error))
    }

    /// A session without a turn. Whoever has a turn need not wait for others: where it takes too long, it is the server that
    /// does not answer.
    async fn connection(&self, deadline: Instant) -> Result<Conn, Problem> {
        if !self.backoff.may_try() {
            let text = "the database cannot be reached; it is tried again in a moment";
            return Err(Problem::new(Code::SourceUnavailable, text));
        }
        let deadline = deadline.min(Instant::now() + CONNECT_TIMEOUT);
        match timeout_at(deadline.into(), self.pool.get_conn()).await {
            Ok(Ok(connection)) => {
                self.backoff.succeeded();
                Ok(connection)
            }
            Ok(Err(error)) => {
                self.backoff.failed();
                Err(fault::unreachable(&error))
            }
            Err(_) => {
                self.backoff.failed();
                let text = "the database does not answer; it is tried again in a moment";
                Err(Problem::new(Code::SourceUnavailable, text))
            }
        }
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
        url::Url::parse(&format!("mysql:{rest}")).map_err(|error| wrong(format!("it is no address ({error})")))?;
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
        let settings = puente_core::project::read(text, &|_| None).unwrap().source;
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
