//! TLS for whoever has no proxy in front: a certificate and its key from files, read again when they change, so that who renews them
//! need not start anything anew. HTTP/2 comes with it.

use std::path::PathBuf;
use std::sync::{Arc, PoisonError, RwLock};
use std::time::{Duration, SystemTime};

use rustls::ServerConfig;
use rustls::crypto::ring;
use rustls::pki_types::pem::PemObject as _;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::server::{ClientHello, ResolvesServerCert};
use rustls::sign::CertifiedKey;

/// The files of a certificate.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TlsFiles {
    /// The certificate and those of its authorities that clients may lack, in PEM.
    pub certificate: PathBuf,
    /// The private key, in PEM.
    pub key: PathBuf,
}

/// The certificate as it is at this moment.
#[derive(Debug)]
pub(super) struct Certificate {
    files: TlsFiles,
    now: RwLock<(Arc<CertifiedKey>, Written)>,
}

/// When files were last written.
type Written = [Option<SystemTime>; 2];

/// How often it is looked whether the files changed.
const BETWEEN_LOOKS: Duration = Duration::from_secs(2);

impl TlsFiles {
    fn written(&self) -> Written {
        [&self.certificate, &self.key].map(|file| std::fs::metadata(file).and_then(|about| about.modified()).ok())
    }

    /// Reads them.
    ///
    /// # Errors
    /// What is wrong, with the file.
    fn read(&self) -> Result<CertifiedKey, String> {
        let (certificate, key) = (self.certificate.display(), self.key.display());
        let chain: Result<Vec<_>, _> =
            CertificateDer::pem_file_iter(&self.certificate).and_then(|chain| chain.collect());
        let chain = chain.map_err(|error| format!("the certificate {certificate} cannot be read: {error}"))?;
        if chain.is_empty() {
            return Err(format!("{certificate} has no certificate: it begins with `-----BEGIN CERTIFICATE-----`"));
        }
        let private = PrivateKeyDer::from_pem_file(&self.key)
            .map_err(|error| format!("the private key {key} cannot be read: {error}"))?;
        CertifiedKey::from_der(chain, private, &ring::default_provider())
            .map_err(|error| format!("the certificate {certificate} and the private key {key} do not fit: {error}"))
    }
}

impl Certificate {
    /// The certificate of files.
    ///
    /// # Errors
    /// What is wrong with them.
    pub(super) fn of(files: &TlsFiles) -> Result<Arc<Self>, String> {
        let written = files.written();
        let now = RwLock::new((Arc::new(files.read()?), written));
        Ok(Arc::new(Certificate { files: files.clone(), now }))
    }

    /// What is told to clients.
    pub(super) fn config(self: &Arc<Self>) -> Result<ServerConfig, String> {
        let versions = ServerConfig::builder_with_provider(Arc::new(ring::default_provider()))
            .with_safe_default_protocol_versions()
            .map_err(|error| format!("no TLS: {error}"))?;
        let resolver: Arc<dyn ResolvesServerCert> = Arc::clone(self) as Arc<dyn ResolvesServerCert>;
        Ok(versions.with_no_client_auth().with_cert_resolver(resolver))
    }

    /// Reads the files again where they changed. What cannot be used changes nothing.
    fn look(&self) {
        let written = self.files.written();
        if self.now.read().unwrap_or_else(PoisonError::into_inner).1 == written {
            return;
        }
        match self.files.read() {
            Ok(read) => {
                *self.now.write().unwrap_or_else(PoisonError::into_inner) = (Arc::new(read), written);
                tracing::info!(target: "puente::service", "the certificate was read again");
            }
            Err(error) => {
                self.now.write().unwrap_or_else(PoisonError::into_inner).1 = written;
                tracing::error!(target: "puente::service", %error, "the certificate that was read before stays in force");
            }
        }
    }

    /// Looks at the files again and again.
    pub(super) async fn watch(self: Arc<Self>) {
        loop {
            tokio::time::sleep(BETWEEN_LOOKS).await;
            let looking = Arc::clone(&self);
            let _ = tokio::task::spawn_blocking(move || looking.look()).await;
        }
    }
}

impl ResolvesServerCert for Certificate {
    fn resolve(&self, _: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        Some(Arc::clone(&self.now.read().unwrap_or_else(PoisonError::into_inner).0))
    }
}
