//! The way to the server: sockets of our own, because the driver holds an answer's every row whole before it hands it out,
//! and a row may hold lists of lists. What comes in one answer is counted where it arrives; over the limit the socket ends.

use std::io;
use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::task::{Context, Poll};

use futures_util::FutureExt as _;
use futures_util::future::BoxFuture;
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::TcpStream;
#[cfg(unix)]
use tokio::net::UnixStream;
use tokio::task::JoinHandle;
use tokio::time::timeout;
use tokio_postgres::config::{Host, TargetSessionAttrs};
use tokio_postgres::tls::MakeTlsConnect;
use tokio_postgres::{CancelToken, Client, Config, Error, SimpleQueryMessage};
use tokio_postgres_rustls::MakeRustlsConnect;

use crate::server::CONNECT_TIMEOUT;

/// The port where none is said.
const PORT: u16 = 5432;

/// Connects to a server.
#[derive(Clone)]
pub(super) struct Connecting {
    config: Config,
    tls: MakeRustlsConnect,
    most_bytes: usize,
    /// How many sockets ended because an answer was too large. The driver tells of such a session only that it is closed.
    ended: Arc<AtomicU64>,
}

impl Connecting {
    /// Whose answers have at most so many bytes.
    pub(super) fn new(config: Config, tls: MakeRustlsConnect, most_bytes: usize) -> Self {
        Connecting { config, tls, most_bytes, ended: Arc::default() }
    }

    /// How many sockets ended, so far, because an answer was too large.
    pub(super) fn ended(&self) -> u64 {
        self.ended.load(Ordering::Relaxed)
    }

    /// A session on the first of the hosts that takes one, and is what the address asks for.
    async fn session(&self) -> Result<(Client, JoinHandle<()>), Error> {
        let mut last = None;
        for host in 0..self.config.get_hosts().len().max(1) {
            match self.session_on(host).await {
                Ok(session) => return Ok(session),
                Err(error) => last = Some(error),
            }
        }
        Err(last.expect("at least one host was tried"))
    }

    async fn session_on(&self, host: usize) -> Result<(Client, JoinHandle<()>), Error> {
        let (socket, tls) = (self.socket(host).await, self.tls(host));
        let (client, connection) = self.config.connect_raw(socket, tls).await?;
        let task = tokio::spawn(async move {
            if let Err(error) = connection.await {
                tracing::debug!(target: "puente::source", detail = super::fault::told(&error).told(), "a session ended");
            }
        });
        let wanted = match self.config.get_target_session_attrs() {
            TargetSessionAttrs::ReadWrite => Some("off"),
            TargetSessionAttrs::ReadOnly => Some("on"),
            _ => None,
        };
        if let Some(wanted) = wanted {
            let told = client.simple_query("show transaction_read_only").await?;
            let is_wanted = told
                .iter()
                .any(|message| matches!(message, SimpleQueryMessage::Row(row) if row.get(0) == Some(wanted)));
            if !is_wanted {
                let refused = io::Error::other("the server is not of the kind that `target_session_attrs` asks for");
                // The driver has no errors of ours: a socket that fails makes one.
                return self
                    .config
                    .connect_raw(Socket::broken(refused), self.tls(host))
                    .await
                    .map(|_| unreachable!("it fails"));
            }
        }
        Ok((client, task))
    }

    /// Tells the server that a session's statement is not wanted any more. Which of several hosts it is on is not known: all hear it.
    pub(super) async fn cancel(&self, token: &CancelToken) -> Result<(), Error> {
        let mut told = Ok(());
        for host in 0..self.config.get_hosts().len().max(1) {
            told = token.cancel_query_raw(self.socket(host).await, self.tls(host)).await;
        }
        told
    }

    fn tls(&self, host: usize) -> <MakeRustlsConnect as MakeTlsConnect<Socket>>::TlsConnect {
        let name = match self.config.get_hosts().get(host) {
            Some(Host::Tcp(name)) => name.as_str(),
            _ => "",
        };
        let made = MakeTlsConnect::<Socket>::make_tls_connect(&mut self.tls.clone(), name);
        made.unwrap_or_else(|never| match never {})
    }

    /// A socket to one of the hosts; where it cannot be connected, one that fails.
    async fn socket(&self, host: usize) -> Socket {
        let ports = self.config.get_ports();
        let port = ports.get(host).or_else(|| ports.first()).copied().unwrap_or(PORT);
        let connected = timeout(CONNECT_TIMEOUT, self.connect(host, port)).await;
        let wire = connected.unwrap_or_else(|_| Err(io::Error::from(io::ErrorKind::TimedOut)));
        let wire = wire.unwrap_or_else(|error| Wire::Broken(Some(error)));
        Socket { wire, left: self.most_bytes, most: self.most_bytes, ended: Arc::clone(&self.ended) }
    }

    async fn connect(&self, host: usize, port: u16) -> io::Result<Wire> {
        let tcp = |stream: TcpStream| {
            stream.set_nodelay(true)?;
            if self.config.get_keepalives() {
                let keepalive = socket2::TcpKeepalive::new().with_time(self.config.get_keepalives_idle());
                socket2::SockRef::from(&stream).set_tcp_keepalive(&keepalive)?;
            }
            Ok(Wire::Tcp(stream))
        };
        if let Some(address) = self.config.get_hostaddrs().get(host) {
            return tcp(TcpStream::connect((*address, port)).await?);
        }
        match self.config.get_hosts().get(host) {
            None => Err(io::Error::other("the address names no host")),
            Some(Host::Tcp(name)) => tcp(TcpStream::connect((name.as_str(), port)).await?),
            #[cfg(unix)]
            Some(Host::Unix(folder)) => {
                Ok(Wire::Unix(UnixStream::connect(folder.join(format!(".s.PGSQL.{port}"))).await?))
            }
        }
    }
}

impl deadpool_postgres::Connect for Connecting {
    fn connect(&self, _: &Config) -> BoxFuture<'_, Result<(Client, JoinHandle<()>), Error>> {
        self.session().boxed()
    }
}

/// A socket that ends where an answer is too large. Whatever is written begins a new answer.
pub(super) struct Socket {
    wire: Wire,
    left: usize,
    most: usize,
    ended: Arc<AtomicU64>,
}

enum Wire {
    Tcp(TcpStream),
    #[cfg(unix)]
    Unix(UnixStream),
    /// One that was never connected: its first use tells why.
    Broken(Option<io::Error>),
}

impl Socket {
    fn broken(error: io::Error) -> Self {
        Socket { wire: Wire::Broken(Some(error)), left: 0, most: 0, ended: Arc::default() }
    }
}

fn broken(error: &mut Option<io::Error>) -> io::Error {
    error.take().unwrap_or_else(|| io::Error::from(io::ErrorKind::NotConnected))
}

impl AsyncRead for Socket {
    fn poll_read(mut self: Pin<&mut Self>, context: &mut Context<'_>, into: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        let before = into.filled().len();
        let read = match &mut self.wire {
            Wire::Tcp(stream) => Pin::new(stream).poll_read(context, into),
            #[cfg(unix)]
            Wire::Unix(stream) => Pin::new(stream).poll_read(context, into),
            Wire::Broken(error) => Poll::Ready(Err(broken(error))),
        };
        if matches!(read, Poll::Ready(Ok(()))) {
            match self.left.checked_sub(into.filled().len() - before) {
                Some(left) => self.left = left,
                None => {
                    self.ended.fetch_add(1, Ordering::Relaxed);
                    return Poll::Ready(Err(io::Error::other("an answer is larger than it may be")));
                }
            }
        }
        read
    }
}

impl AsyncWrite for Socket {
    fn poll_write(mut self: Pin<&mut Self>, context: &mut Context<'_>, bytes: &[u8]) -> Poll<io::Result<usize>> {
        self.left = self.most;
        match &mut self.wire {
            Wire::Tcp(stream) => Pin::new(stream).poll_write(context, bytes),
            #[cfg(unix)]
            Wire::Unix(stream) => Pin::new(stream).poll_write(context, bytes),
            Wire::Broken(error) => Poll::Ready(Err(broken(error))),
        }
    }

    fn poll_flush(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        match &mut self.wire {
            Wire::Tcp(stream) => Pin::new(stream).poll_flush(context),
            #[cfg(unix)]
            Wire::Unix(stream) => Pin::new(stream).poll_flush(context),
            Wire::Broken(error) => Poll::Ready(Err(broken(error))),
        }
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        match &mut self.wire {
            Wire::Tcp(stream) => Pin::new(stream).poll_shutdown(context),
            #[cfg(unix)]
            Wire::Unix(stream) => Pin::new(stream).poll_shutdown(context),
            Wire::Broken(_) => Poll::Ready(Ok(())),
        }
    }
}
