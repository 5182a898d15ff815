//! What is listened on: an address, a socket in the file system, or sockets that a service manager hands over.

use std::fmt;
use std::net::{SocketAddr, TcpListener};
use std::path::PathBuf;
use std::str::FromStr;

/// Where a service is to be reached.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Listen {
    /// At an address; port 0 takes a free one.
    Address(SocketAddr),
    /// At a socket in the file system.
    Unix(PathBuf),
    /// Where the service manager has a socket for it (`LISTEN_FDS`).
    Given,
}

/// Where it is reached.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Bound {
    /// At an address.
    Address(SocketAddr),
    /// At a socket in the file system.
    Unix(PathBuf),
}

impl Listen {
    /// Can it be reached from this machine alone?
    pub fn is_local(&self) -> bool {
        match self {
            Listen::Address(address) => address.ip().is_loopback(),
            Listen::Unix(_) => true,
            Listen::Given => false,
        }
    }
}

impl fmt::Display for Listen {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Listen::Address(address) => address.fmt(f),
            Listen::Unix(path) => write!(f, "unix:{}", path.display()),
            Listen::Given => f.write_str("systemd"),
        }
    }
}

impl FromStr for Listen {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        if let Some(path) = text.strip_prefix("unix:").filter(|path| !path.is_empty()) {
            return Ok(Listen::Unix(PathBuf::from(path)));
        }
        if text == "systemd" {
            return Ok(Listen::Given);
        }
        // The one name that means the same everywhere.
        let address = match text.split_once(':') {
            Some(("localhost", port)) => format!("127.0.0.1:{port}"),
            _ => text.to_owned(),
        };
        address.parse().map(Listen::Address).map_err(|_| {
            let expected = "expected an IP address with a port, such as `127.0.0.1:4810`, `0.0.0.0:80` or `[::1]:4810`";
            format!("{expected}; or `unix:PATH`; or `systemd`, for the socket that it hands over; found `{text}`")
        })
    }
}

impl fmt::Display for Bound {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Bound::Address(address) => address.fmt(f),
            Bound::Unix(path) => write!(f, "unix:{}", path.display()),
        }
    }
}

impl Bound {
    /// The address, where it is one.
    pub fn address(&self) -> Option<SocketAddr> {
        if let Bound::Address(address) = self { Some(*address) } else { None }
    }
}

/// A socket that is listened on.
#[derive(Debug)]
pub(super) enum Socket {
    Tcp(TcpListener),
    #[cfg(unix)]
    Unix(std::os::unix::net::UnixListener, PathBuf),
}

/// Opens the socket.
///
/// # Errors
/// Why it cannot be listened there, with the remedy.
pub(super) fn open(listen: &Listen) -> Result<(Socket, Bound), String> {
    let failed =
        |error: std::io::Error| format!("cannot listen on {listen}: {error}; `--listen` takes another address");
    match listen {
        Listen::Address(address) => tcp(TcpListener::bind(address).map_err(failed)?).map_err(failed),
        Listen::Unix(path) => unix(path).map_err(failed),
        Listen::Given => given(),
    }
}

fn tcp(listener: TcpListener) -> std::io::Result<(Socket, Bound)> {
    let address = listener.local_addr()?;
    Ok((Socket::Tcp(listener), Bound::Address(address)))
}

#[cfg(unix)]
fn unix(path: &std::path::Path) -> std::io::Result<(Socket, Bound)> {
    use std::os::unix::fs::{FileTypeExt as _, PermissionsExt as _};
    use std::os::unix::net::{UnixListener, UnixStream};
    // What an instance left behind that ended early is taken over; what somebody listens on is not.
    let is_socket = std::fs::symlink_metadata(path).is_ok_and(|about| about.file_type().is_socket());
    if is_socket && UnixStream::connect(path).is_err() {
        std::fs::remove_file(path)?;
    }
    let listener = UnixListener::bind(path)?;
    // Who may reach it is whoever may write to it: the owner and the group.
    std::fs::set_permissions(path, std::fs::Permissions::from_mode(0o660))?;
    Ok((Socket::Unix(listener, path.to_owned()), Bound::Unix(path.to_owned())))
}

#[cfg(not(unix))]
fn unix(_: &std::path::Path) -> std::io::Result<(Socket, Bound)> {
    Err(std::io::Error::other("this system has no sockets in its file system"))
}

fn given() -> Result<(Socket, Bound), String> {
    const NOTHING: &str = "no socket was handed over: start it by a socket unit, or name an address with `--listen`";
    let mut handed = listenfd::ListenFd::from_env();
    if let Ok(Some(listener)) = handed.take_tcp_listener(0) {
        return tcp(listener).map_err(|error| format!("the socket that was handed over cannot be used: {error}"));
    }
    #[cfg(unix)]
    if let Ok(Some(listener)) = handed.take_unix_listener(0) {
        let path = listener.local_addr().ok().and_then(|address| address.as_pathname().map(ToOwned::to_owned));
        let path = path.unwrap_or_default();
        // Whoever made it takes it away.
        return Ok((Socket::Unix(listener, PathBuf::new()), Bound::Unix(path)));
    }
    Err(NOTHING.to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_sockets_and_what_is_handed_over_are_told_apart() {
        let parse = |text: &str| text.parse::<Listen>();
        assert_eq!(parse("localhost:4941"), Ok(Listen::Address("127.0.0.1:4941".parse().unwrap())));
        assert_eq!(parse("[::1]:80"), Ok(Listen::Address("[::1]:80".parse().unwrap())));
        assert_eq!(parse("unix:/run/puente.sock"), Ok(Listen::Unix("/run/puente.sock".into())));
        assert_eq!(parse("systemd"), Ok(Listen::Given));
        for wrong in ["4941", "huts.example:80", "unix:", "localhost", "127.0.0.1"] {
            let told = parse(wrong).unwrap_err();
            assert!(told.contains("`127.0.0.1:4810`") && told.ends_with(&format!("found `{wrong}`")), "{told}");
        }
        assert!(parse("unix:x").unwrap().is_local() && !parse("0.0.0.0:1").unwrap().is_local());
    }
}
