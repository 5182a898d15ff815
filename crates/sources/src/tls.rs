//! What an address says of TLS: how much of the server's certificate is checked. One rule for every engine.

use puente_core::project::SourceSettings;
use url::Url;

/// How much of the server's certificate is checked.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Verify {
    /// No TLS at all.
    Disable,
    /// Encryption, whoever answers.
    Require,
    /// Signed by a trusted authority.
    Ca,
    /// Signed by a trusted authority for this host.
    Full,
}

/// What an address and the project file say of TLS.
#[derive(Debug)]
pub(crate) struct Wanted {
    mode: Option<String>,
    /// The file of the authorities that are trusted, if not the system's.
    pub(crate) root: Option<String>,
}

/// Takes `sslmode` and `sslrootcert` out of an address: no driver understands them as we do.
pub(crate) fn take(url: &mut Url, settings: &SourceSettings) -> Wanted {
    let pairs: Vec<(String, String)> = url.query_pairs().into_owned().collect();
    let mut wanted = Wanted { mode: None, root: settings.root_certificate.clone() };
    url.set_query(None);
    for (name, value) in pairs {
        match name.as_str() {
            "sslmode" => wanted.mode = Some(value),
            "sslrootcert" => wanted.root = Some(value),
            _ => {
                url.query_pairs_mut().append_pair(&name, &value);
            }
        }
    }
    wanted
}

/// Is it a name of this very machine?
pub(crate) fn is_local(host: &str) -> bool {
    matches!(host, "localhost" | "127.0.0.1" | "::1" | "[::1]")
}

impl Wanted {
    /// How much is checked. What goes to this machine itself crosses no network.
    pub(crate) fn verify(&self, local: bool) -> Result<Verify, String> {
        match self.mode.as_deref() {
            None if local && self.root.is_none() => Ok(Verify::Disable),
            None | Some("verify-full") => Ok(Verify::Full),
            Some("verify-ca") => Ok(Verify::Ca),
            Some("require") => Ok(Verify::Require),
            Some("disable") => Ok(Verify::Disable),
            Some(other) => {
                Err(format!("`sslmode` expects disable, require, verify-ca or verify-full, found `{other}`"))
            }
        }
    }
}
