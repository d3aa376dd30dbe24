//! TLS of the listeners: certificates and keys from files, read again when the files change.
//!
//! Connections that exist keep the certificate that they began with; new ones get the one that was read last. Files that cannot be
//! read, or that do not belong together, change nothing: the log says what is wrong, and the former certificate stays in use.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, SystemTime};

use arc_swap::ArcSwap;
use kanzlei_model::time::Timestamp;
use rustls::ServerConfig;
use rustls::crypto::ring;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::server::{ClientHello, ResolvesServerCert};
use rustls::sign::CertifiedKey;

use crate::error::{Error, Result};

/// How often the files are looked at.
const LOOKED_AT: Duration = Duration::from_secs(2);
/// The largest file that is read, in bytes.
const MOST: u64 = 256 << 10;

/// The certificate of a listener.
#[derive(Debug)]
pub struct Certificate {
    /// The listener, as settings name it: `listen.public`.
    listener: &'static str,
    certificate: PathBuf,
    key: PathBuf,
    current: ArcSwap<CertifiedKey>,
}

/// What changes when a file is written.
type Written = [Option<(SystemTime, u64)>; 2];

impl Certificate {
    /// Reads the files of a listener; nothing where none are set.
    ///
    /// # Errors
    /// One file without the other, and files that cannot be used.
    pub fn read(listener: &'static str, certificate: &str, key: &str) -> Result<Option<Arc<Self>>> {
        match (certificate, key) {
            ("", "") => Ok(None),
            ("", _) | (_, "") => {
                let detail =
                    format!("`{listener}_certificate` and `{listener}_key` belong together; one of them is not set");
                Err(Error::Config(detail))
            }
            (certificate, key) => {
                let (certificate, key) = (PathBuf::from(certificate), PathBuf::from(key));
                let current = load(&certificate, &key)
                    .map_err(|why| Error::Config(format!("`{listener}_certificate`, `{listener}_key`: {why}")))?;
                let current = ArcSwap::from_pointee(current);
                Ok(Some(Arc::new(Certificate { listener, certificate, key, current })))
            }
        }
    }

    /// The settings of its connections: TLS 1.2 and 1.3. The listener adds HTTP/2 and HTTP/1.1 (ALPN).
    ///
    /// # Errors
    /// A provider of TLS primitives without these versions.
    pub fn server(self: &Arc<Self>) -> Result<ServerConfig> {
        let builder = ServerConfig::builder_with_provider(Arc::new(ring::default_provider()));
        let builder = builder.with_safe_default_protocol_versions();
        let builder = builder.map_err(|error| Error::Config(format!("`{}` cannot use TLS: {error}", self.listener)))?;
        Ok(builder.with_no_client_auth().with_cert_resolver(Arc::new(Resolver(self.clone()))))
    }

    /// When the certificate of the chain's first member ends.
    ///
    /// # Errors
    /// When it cannot be read as X.509.
    pub fn ends(&self) -> std::result::Result<Timestamp, String> {
        let current = self.current.load();
        let first = current.cert.first().ok_or("the chain is empty")?;
        let (_, parsed) = x509_parser::parse_x509_certificate(first).map_err(|error| error.to_string())?;
        Ok(Timestamp::from_micros(parsed.validity().not_after.timestamp().saturating_mul(1_000_000)))
    }

    /// The setting of its listener: `listen.public`.
    pub fn listener(&self) -> &'static str {
        self.listener
    }

    fn written(&self) -> Written {
        [&self.certificate, &self.key].map(|path| {
            let about = std::fs::metadata(path).ok()?;
            Some((about.modified().ok()?, about.len()))
        })
    }

    /// Reads the files again.
    fn again(&self) {
        match load(&self.certificate, &self.key) {
            Ok(read) => {
                self.current.store(Arc::new(read));
                tracing::info!(listener = self.listener, file = %self.certificate.display(), "another certificate is in use");
            }
            Err(why) => {
                tracing::error!(
                    listener = self.listener,
                    why,
                    "the changed certificate is not used; the former one stays"
                );
            }
        }
    }
}

/// Reads certificates again when their files change, until the process ends.
pub async fn follow(certificates: Vec<Arc<Certificate>>) {
    let mut known: Vec<Written> = certificates.iter().map(|one| one.written()).collect();
    loop {
        tokio::time::sleep(LOOKED_AT).await;
        for (certificate, known) in certificates.iter().zip(&mut known) {
            let found = certificate.written();
            if found == *known {
                continue;
            }
            // Both files are written one after the other: one that does not fit yet is tried again when the other changes.
            *known = found;
            certificate.again();
        }
    }
}

#[derive(Debug)]
struct Resolver(Arc<Certificate>);

impl ResolvesServerCert for Resolver {
    fn resolve(&self, _: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        Some(self.0.current.load_full())
    }
}

/// A chain of certificates and its key, which belong together.
fn load(certificate: &Path, key: &Path) -> std::result::Result<CertifiedKey, String> {
    let text = |path: &Path| -> std::result::Result<Vec<u8>, String> {
        let about = std::fs::metadata(path).map_err(|error| format!("{}: {error}", path.display()))?;
        if about.len() > MOST {
            return Err(format!("{} has more than {MOST} bytes", path.display()));
        }
        std::fs::read(path).map_err(|error| format!("{}: {error}", path.display()))
    };
    let chain = CertificateDer::pem_slice_iter(&text(certificate)?).collect::<std::result::Result<Vec<_>, _>>();
    let chain = chain.map_err(|error| format!("{} holds no certificates in PEM: {error}", certificate.display()))?;
    if chain.is_empty() {
        return Err(format!("{} holds no certificate in PEM", certificate.display()));
    }
    let private = PrivateKeyDer::from_pem_slice(&text(key)?)
        .map_err(|error| format!("{} holds no private key in PEM: {error}", key.display()))?;
    let private = ring::sign::any_supported_type(&private)
        .map_err(|error| format!("the key of {} cannot be used: {error}", key.display()))?;
    let read = CertifiedKey::new(chain, private);
    read.keys_match()
        .map_err(|error| format!("{} is not the key of {}: {error}", key.display(), certificate.display()))?;
    Ok(read)
}
