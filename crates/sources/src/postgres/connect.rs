//! Reaching the server: its address, TLS, and a pool of read-only sessions.

use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};

use deadpool_postgres::{
    ClientWrapper, Manager, ManagerConfig, Object, Pool, PoolError, RecyclingMethod, Runtime, TimeoutType,
};
use puente_core::error::{Code, Detail, Problem};
use puente_core::project::SourceSettings;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::client::verify_server_cert_signed_by_trust_anchor;
use rustls::crypto::{CryptoProvider, ring, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::pem::PemObject as _;
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::server::ParsedCertificate;
use rustls::{ClientConfig, DigitallySignedStruct, RootCertStore, SignatureScheme};
use tokio::time::timeout_at;
use tokio_postgres::config::{Host, SslMode};
use tokio_postgres_rustls::MakeRustlsConnect;

use super::fault;
use super::socket::Connecting;
use crate::backoff::Backoff;
use crate::server::{CONNECT_TIMEOUT, CONNECTIONS, gate, turn};
use crate::tls::{self, Verify};
use puente_run::turns::{Gate, Load, Party, Turn};

/// One server and the sessions on it.
pub(super) struct Server {
    pool: Pool,
    pub(super) connecting: Connecting,
    backoff: Backoff,
    gate: Gate,
    wait: Duration,
    pub(super) prepared: bool,
}

/// A session of the pool, and its caller's turn to use it.
pub(super) struct Session {
    client: Object,
    _turn: Turn,
}

impl std::ops::Deref for Session {
    type Target = Object;

    fn deref(&self) -> &Object {
        &self.client
    }
}

impl Session {
    /// Takes the session out of the pool, which may then make another.
    pub(super) fn give_up(self) -> ClientWrapper {
        Object::take(self.client)
    }
}

impl std::fmt::Debug for Server {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Server").field("pool", &self.pool.status()).finish_non_exhaustive()
    }
}

/// An address taken apart.
pub(super) struct Address {
    pub(super) config: tokio_postgres::Config,
    pub(super) tls: MakeRustlsConnect,
}

/// Bytes that the answer to a statement may always have.
const LEAST_ANSWER: usize = 64 << 20;

impl Server {
    pub(super) fn new(url: &str, settings: &SourceSettings, base: &Path, most_bytes: usize) -> Result<Self, Problem> {
        let Address { mut config, tls } = address(url, settings, base)?;
        if settings.prepared {
            // A proxy that hands out a connection per transaction takes no settings of a session. Compiling a plan (`jit`)
            // takes seconds for a nested ask that answers in milliseconds.
            config.options(
                "-c default_transaction_read_only=on -c timezone=UTC -c bytea_output=hex -c extra_float_digits=1 \
                 -c client_encoding=UTF8 -c jit=off",
            );
        }
        let connections = settings.connections.unwrap_or(CONNECTIONS);
        // What a row holds beside the bytes that are written of it; and keys of many rows, however small an answer has to be.
        const TIMES: usize = 4;
        let most_bytes = most_bytes.saturating_mul(TIMES).max(LEAST_ANSWER);
        let connecting = Connecting::new(config.clone(), tls, most_bytes);
        let manager = ManagerConfig { recycling_method: RecyclingMethod::Fast };
        let manager = Manager::from_connect(config, connecting.clone(), manager);
        let pool = Pool::builder(manager)
            .max_size(connections)
            .wait_timeout(Some(Duration::from_millis(settings.wait_ms)))
            .create_timeout(Some(CONNECT_TIMEOUT))
            .runtime(Runtime::Tokio1)
            .build()
            .map_err(|error| {
                Problem::new(Code::SourceUnavailable, "no pool of connections").with_detail(Detail::plain(error))
            })?;
        let gate = gate(connections);
        let wait = Duration::from_millis(settings.wait_ms);
        Ok(Server { pool, connecting, backoff: Backoff::default(), gate, wait, prepared: settings.prepared })
    }

    /// A session, when it is the caller's turn, for as long as it is kept.
    ///
    /// # Errors
    /// `TOO_BUSY` for who filled the line; `TIMED_OUT` at the deadline; `SOURCE_UNAVAILABLE` where the server is out of reach.
    pub(super) async fn session(&self, caller: &Party, deadline: Instant) -> Result<Session, Problem> {
        let turn = turn(&self.gate, caller, deadline, self.wait).await?;
        match timeout_at(deadline.into(), self.client()).await {
            Ok(client) => client.map(|client| Session { client, _turn: turn }),
            Err(_) => {
                // Whoever has a turn need not wait for others: it is the server that does not answer.
                self.backoff.failed();
                let text = "the request waited too long for the database; ask again in a moment";
                Err(Problem::new(Code::TimedOut, text))
            }
        }
    }

    /// A session without a turn.
    async fn client(&self) -> Result<Object, Problem> {
        if !self.backoff.may_try() {
            let text = "the database cannot be reached; it is tried again in a moment";
            return Err(Problem::new(Code::SourceUnavailable, text));
        }
        match self.pool.get().await {
            Ok(client) => {
                self.backoff.succeeded();
                Ok(client)
            }
            Err(PoolError::Timeout(TimeoutType::Wait)) => {
                let text = "every connection to the database is busy; ask again in a moment";
                Err(Problem::new(Code::SourceUnavailable, text))
            }
            Err(error) => {
                self.backoff.failed();
                Err(match &error {
                    PoolError::Backend(error) => fault::unreachable(error),
                    other => Problem::new(Code::SourceUnavailable, "the database cannot be reached")
                        .with_detail(Detail::plain(other)),
                })
            }
        }
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
        let client = self.client().await?;
        client.batch_execute("select 1").await.map_err(|error| fault::problem(&error))
    }

    /// The session was found dead: those beside it may be, too.
    pub(super) fn lost(&self) {
        self.pool.retain(|client, _| !client.is_closed());
    }
}

/// A session of one's own, outside any pool; it ends when the client is dropped.
///
/// # Errors
/// `SOURCE_UNAVAILABLE` where the server cannot be reached.
pub async fn connect(settings: &SourceSettings, base: &Path) -> Result<tokio_postgres::Client, Problem> {
    let Address { config, tls } = address(&settings.url.0, settings, base)?;
    let (client, connection) = config.connect(tls).await.map_err(|error| fault::unreachable(&error))?;
    tokio::spawn(async move {
        if let Err(error) = connection.await {
            tracing::debug!(target: "puente::source", detail = fault::told(&error).told(), "a session ended");
        }
    });
    Ok(client)
}

/// Takes an address apart. `sslmode` and `sslrootcert` are ours to understand, the rest is the driver's.
pub(super) fn address(url: &str, settings: &SourceSettings, base: &Path) -> Result<Address, Problem> {
    let wrong = |text: String| Problem::new(Code::SourceUnavailable, format!("the source's `url`: {text}"));
    // Several hosts are none to whoever reads addresses in general: one stands for them meanwhile.
    const ONE: &str = "several.invalid";
    let at = hosts_at(url);
    let written = &url[at.clone()];
    let is_plain = !written.is_empty() && !written.contains(',');
    let with_one = if is_plain { url.to_owned() } else { format!("{}{ONE}{}", &url[..at.start], &url[at.end..]) };
    let mut parsed = url::Url::parse(&with_one).map_err(|error| wrong(format!("it is not an address ({error})")))?;
    let wanted = tls::take(&mut parsed, settings);
    let plain = match is_plain {
        true => parsed.as_str().to_owned(),
        // `?host=a,b&port=1,2` says the same as `a:1,b:2`.
        false if written.is_empty() => {
            let hosts = take_hosts(&mut parsed);
            parsed.as_str().replacen(ONE, &hosts, 1)
        }
        false => parsed.as_str().replacen(ONE, written, 1),
    };
    let mut config: tokio_postgres::Config = plain.parse().map_err(|error: tokio_postgres::Error| {
        wrong(std::error::Error::source(&error).map_or_else(|| error.to_string(), ToString::to_string))
    })?;
    let local = config.get_hosts().iter().all(|host| match host {
        Host::Tcp(name) => tls::is_local(name),
        #[cfg(unix)]
        Host::Unix(_) => true,
    });
    let verify = wanted.verify(local).map_err(wrong)?;
    config.ssl_mode(if verify == Verify::Disable { SslMode::Disable } else { SslMode::Require });
    config.connect_timeout(CONNECT_TIMEOUT);
    if config.get_application_name().is_none() {
        config.application_name("puente");
    }
    let root = wanted.root.map(|file| base.join(file));
    Ok(Address { config, tls: MakeRustlsConnect::new(tls_config(verify, root.as_deref()).map_err(wrong)?) })
}

/// Where the hosts of an address are: `db1:5432,db2:5432`; an empty place where they are among its parameters.
fn hosts_at(url: &str) -> std::ops::Range<usize> {
    let Some(start) = url.find("://").map(|at| at + 3) else { return 0..url.len() };
    let end = url[start..].find(['/', '?', '#']).map_or(url.len(), |at| start + at);
    url[start..end].rfind('@').map_or(start, |at| start + at + 1)..end
}

/// The hosts among the parameters of an address, each with its port, which are taken out of it.
fn take_hosts(parsed: &mut url::Url) -> String {
    let pairs: Vec<(String, String)> = parsed.query_pairs().into_owned().collect();
    let value = |wanted: &str| pairs.iter().find(|(name, _)| name == wanted).map(|(_, value)| value.as_str());
    let hosts: Vec<&str> = value("host").unwrap_or_default().split(',').collect();
    let ports: Vec<&str> = value("port").map(|ports| ports.split(',').collect()).unwrap_or_default();
    // One port is that of all.
    let port = |at: usize| ports.get(at).or(ports.first().filter(|_| ports.len() == 1));
    let named = |(at, host): (usize, &&str)| {
        // A folder with a socket in it.
        let host = host.replace('/', "%2F");
        port(at).map_or_else(|| host.clone(), |port| format!("{host}:{port}"))
    };
    let all = hosts.iter().enumerate().map(named).collect::<Vec<_>>().join(",");
    let rest: Vec<&(String, String)> = pairs.iter().filter(|(name, _)| name != "host" && name != "port").collect();
    match rest.is_empty() {
        true => parsed.set_query(None),
        false => drop(parsed.query_pairs_mut().clear().extend_pairs(rest)),
    }
    all
}

fn tls_config(verify: Verify, root: Option<&Path>) -> Result<ClientConfig, String> {
    let provider = Arc::new(ring::default_provider());
    let builder = ClientConfig::builder_with_provider(Arc::clone(&provider))
        .with_safe_default_protocol_versions()
        .map_err(|error| format!("TLS cannot be set up ({error})"))?;
    Ok(match verify {
        Verify::Full => builder.with_root_certificates(roots(root)?).with_no_client_auth(),
        Verify::Ca => {
            let verifier = AnyName { roots: roots(root)?, provider };
            builder.dangerous().with_custom_certificate_verifier(Arc::new(verifier)).with_no_client_auth()
        }
        Verify::Require | Verify::Disable => {
            let verifier = AnyCertificate { provider };
            builder.dangerous().with_custom_certificate_verifier(Arc::new(verifier)).with_no_client_auth()
        }
    })
}

/// The authorities that are trusted: those of the file, else the system's.
fn roots(file: Option<&Path>) -> Result<RootCertStore, String> {
    let mut store = RootCertStore::empty();
    let Some(file) = file else {
        store.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
        return Ok(store);
    };
    let failed = |error: &dyn std::fmt::Display| format!("the root certificate {}: {error}", file.display());
    for certificate in CertificateDer::pem_file_iter(file).map_err(|error| failed(&error))? {
        store.add(certificate.map_err(|error| failed(&error))?).map_err(|error| failed(&error))?;
    }
    if store.is_empty() { Err(failed(&"there is no certificate in it")) } else { Ok(store) }
}

/// `sslmode=verify-ca`: a certificate of a trusted authority, whatever its name says.
#[derive(Debug)]
struct AnyName {
    roots: RootCertStore,
    provider: Arc<CryptoProvider>,
}

/// `sslmode=require`: encryption without knowing who answers.
#[derive(Debug)]
struct AnyCertificate {
    provider: Arc<CryptoProvider>,
}

macro_rules! check_signatures_as_usual {
    () => {
        fn verify_tls12_signature(
            &self,
            message: &[u8],
            certificate: &CertificateDer<'_>,
            signature: &DigitallySignedStruct,
        ) -> Result<HandshakeSignatureValid, rustls::Error> {
            verify_tls12_signature(message, certificate, signature, &self.provider.signature_verification_algorithms)
        }

        fn verify_tls13_signature(
            &self,
            message: &[u8],
            certificate: &CertificateDer<'_>,
            signature: &DigitallySignedStruct,
        ) -> Result<HandshakeSignatureValid, rustls::Error> {
            verify_tls13_signature(message, certificate, signature, &self.provider.signature_verification_algorithms)
        }

        fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
            self.provider.signature_verification_algorithms.supported_schemes()
        }
    };
}

impl ServerCertVerifier for AnyName {
    fn verify_server_cert(
        &self,
        certificate: &CertificateDer<'_>,
        intermediates: &[CertificateDer<'_>],
        _: &ServerName<'_>,
        _: &[u8],
        now: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        verify_server_cert_signed_by_trust_anchor(
            &ParsedCertificate::try_from(certificate)?,
            &self.roots,
            intermediates,
            now,
            self.provider.signature_verification_algorithms.all,
        )?;
        Ok(ServerCertVerified::assertion())
    }

    check_signatures_as_usual!();
}

impl ServerCertVerifier for AnyCertificate {
    fn verify_server_cert(
        &self,
        _: &CertificateDer<'_>,
        _: &[CertificateDer<'_>],
        _: &ServerName<'_>,
        _: &[u8],
        _: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        Ok(ServerCertVerified::assertion())
    }

    check_signatures_as_usual!();
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn settings() -> SourceSettings {
        puente_core::project::read("[source.main]\nurl = \"postgres://db.example/huts\"", &|_| None)
            .unwrap()
            .sources
            .remove(0)
    }

    #[rstest]
    #[case("postgres://u:p@127.0.0.1/huts", SslMode::Disable)]
    #[case("postgres://u:p@db.example/huts", SslMode::Require)]
    #[case("postgres://u:p@db.example/huts?sslmode=disable", SslMode::Disable)]
    #[case("postgres://u:p@localhost/huts?sslmode=verify-ca&application_name=x", SslMode::Require)]
    fn tls_is_verified_unless_the_address_says_otherwise(#[case] url: &str, #[case] mode: SslMode) {
        let address = address(url, &settings(), Path::new(".")).unwrap();
        assert_eq!(address.config.get_ssl_mode(), mode);
        assert_eq!(address.config.get_dbname(), Some("huts"));
    }

    #[rstest]
    #[case("postgres://u:p@db1:5433,db2:5434/huts?sslmode=disable&target_session_attrs=read-write", &[5433, 5434])]
    #[case("postgres://u:p@db1,db2/huts", &[5432, 5432])]
    #[case("postgres://u:p@/huts?host=db1,db2&port=5433,5434", &[5433, 5434])]
    #[case("postgres:///huts?host=db1,db2&user=u&port=6000", &[6000, 6000])]
    #[case("postgres:///huts?host=db1,db2&user=u", &[5432, 5432])]
    fn an_address_may_name_several_hosts(#[case] url: &str, #[case] ports: &[u16]) {
        let address = address(url, &settings(), Path::new(".")).unwrap();
        let hosts: Vec<&Host> = address.config.get_hosts().iter().collect();
        assert_eq!(hosts, [&Host::Tcp("db1".to_owned()), &Host::Tcp("db2".to_owned())]);
        assert_eq!((address.config.get_ports(), address.config.get_dbname()), (ports, Some("huts")));
    }

    #[rstest]
    #[case("postgres://h/d?sslmode=prefer", "verify-full, found `prefer`")]
    #[case("postgres://h/d?sslrootcert=nowhere.pem", "nowhere.pem")]
    #[case("postgres://h/d?colour=red", "colour")]
    #[case("postgres://h:port/d", "not an address")]
    fn an_address_that_cannot_be_understood_is_refused(#[case] url: &str, #[case] text: &str) {
        let problem = address(url, &settings(), Path::new(".")).err().unwrap();
        assert!(problem.message.contains(text), "{}", problem.message);
    }
}
