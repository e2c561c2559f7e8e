//! HTTPS: a certificate chain and its key from PEM files, which are read again when they change.

use crate::config::Tls;
use rustls::ServerConfig;
use rustls::crypto::CryptoProvider;
use rustls::pki_types::pem::{self, PemObject};
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::server::{ClientHello, ResolvesServerCert};
use rustls::sign::CertifiedKey;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError, RwLock};
use std::time::{Duration, Instant};
use tokio::net::TcpStream;
use tokio_rustls::TlsAcceptor;
use tokio_rustls::server::TlsStream;

/// How often the files are looked at, while connections come.
const LOOK_EVERY: Duration = Duration::from_secs(5);
/// How long a handshake may take.
const HANDSHAKE: Duration = Duration::from_secs(10);

/// Why HTTPS cannot be served.
#[derive(Debug, thiserror::Error)]
pub enum TlsError {
    /// A file cannot be read, or is no PEM file of its kind.
    #[error("{key} = {path}: {message}")]
    File {
        key: &'static str,
        path: PathBuf,
        message: String,
    },
    /// The two do not go together.
    #[error("tls.key is not the key of the certificate in tls.certificate: {0}")]
    Pair(rustls::Error),
    /// The library does not work with these settings.
    #[error("TLS cannot be set up: {0}")]
    Setup(rustls::Error),
}

fn file(key: &'static str, path: &Path, message: String) -> TlsError {
    TlsError::File {
        key,
        path: path.to_owned(),
        message,
    }
}

fn bytes(key: &'static str, path: &Path) -> Result<Vec<u8>, TlsError> {
    std::fs::read(path).map_err(|error| file(key, path, format!("it cannot be read: {error}")))
}

/// The contents of both files.
#[derive(PartialEq)]
struct Contents {
    certificate: Vec<u8>,
    key: Vec<u8>,
}

impl Contents {
    fn read(files: &Tls) -> Result<Contents, TlsError> {
        Ok(Contents {
            certificate: bytes("tls.certificate", &files.certificate)?,
            key: bytes("tls.key", &files.key)?,
        })
    }

    fn parse(&self, files: &Tls, provider: &CryptoProvider) -> Result<CertifiedKey, TlsError> {
        let no_certificate = |error: pem::Error| {
            let message = format!("it holds no certificate (PEM): {error}");
            file("tls.certificate", &files.certificate, message)
        };
        let chain: Vec<_> = CertificateDer::pem_slice_iter(&self.certificate)
            .collect::<Result<_, _>>()
            .map_err(no_certificate)?;
        if chain.is_empty() {
            return Err(no_certificate(pem::Error::NoItemsFound));
        }
        let key = PrivateKeyDer::from_pem_slice(&self.key).map_err(|error| {
            let message = format!("it holds no private key (PEM): {error}");
            file("tls.key", &files.key, message)
        })?;
        CertifiedKey::from_der(chain, key, provider).map_err(TlsError::Pair)
    }
}

/// The certificate that is served now.
struct Certificate {
    files: Tls,
    provider: Arc<CryptoProvider>,
    served: RwLock<Arc<CertifiedKey>>,
    /// What was read last, whether it could be used or not.
    contents: Mutex<Contents>,
    looked: Mutex<Instant>,
}

impl std::fmt::Debug for Certificate {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Certificate")
            .field("files", &self.files)
            .finish_non_exhaustive()
    }
}

impl ResolvesServerCert for Certificate {
    fn resolve(&self, _: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        let served = self.served.read().unwrap_or_else(PoisonError::into_inner);
        Some(Arc::clone(&served))
    }
}

impl Certificate {
    fn is_due(&self) -> bool {
        let mut looked = self.looked.lock().unwrap_or_else(PoisonError::into_inner);
        let due = looked.elapsed() >= LOOK_EVERY;
        if due {
            *looked = Instant::now();
        }
        due
    }

    /// Reads the files again. What cannot be used is not served: the certificate stays as it is.
    fn reload(&self) {
        let changed = Contents::read(&self.files).and_then(|contents| {
            let mut before = self.contents.lock().unwrap_or_else(PoisonError::into_inner);
            if *before == contents {
                return Ok(None);
            }
            let parsed = contents.parse(&self.files, &self.provider);
            *before = contents;
            parsed.map(Some)
        });
        match changed {
            Ok(None) => {}
            Ok(Some(key)) => {
                *self.served.write().unwrap_or_else(PoisonError::into_inner) = Arc::new(key);
                tracing::info!("the TLS certificate has changed and is served from now on");
            }
            Err(error) => {
                tracing::error!(%error, "the new TLS certificate cannot be used; the one before is still served");
            }
        }
    }
}

/// Makes HTTPS connections of accepted ones.
#[derive(Clone)]
pub struct HttpsAcceptor {
    certificate: Arc<Certificate>,
    acceptor: TlsAcceptor,
}

impl HttpsAcceptor {
    /// An acceptor with the files of the configuration; none where it serves plain HTTP.
    ///
    /// # Errors
    /// Where a file cannot be read, or the two do not go together.
    pub fn new(files: &Tls) -> Result<Option<HttpsAcceptor>, TlsError> {
        if !files.is_on() {
            return Ok(None);
        }
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let contents = Contents::read(files)?;
        let served = contents.parse(files, &provider)?;
        let certificate = Arc::new(Certificate {
            files: files.clone(),
            provider: Arc::clone(&provider),
            served: RwLock::new(Arc::new(served)),
            contents: Mutex::new(contents),
            looked: Mutex::new(Instant::now()),
        });
        let mut config = ServerConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .map_err(TlsError::Setup)?
            .with_no_client_auth()
            .with_cert_resolver(Arc::clone(&certificate) as Arc<dyn ResolvesServerCert>);
        config.alpn_protocols = vec![b"http/1.1".to_vec()];
        Ok(Some(HttpsAcceptor {
            certificate,
            acceptor: TlsAcceptor::from(Arc::new(config)),
        }))
    }

    /// Makes the handshake with a client.
    ///
    /// # Errors
    /// Where the client does not speak TLS, or takes too long.
    pub async fn accept(&self, stream: TcpStream) -> io::Result<TlsStream<TcpStream>> {
        if self.certificate.is_due() {
            let certificate = Arc::clone(&self.certificate);
            let _ = tokio::task::spawn_blocking(move || certificate.reload()).await;
        }
        tokio::time::timeout(HANDSHAKE, self.acceptor.accept(stream))
            .await
            .unwrap_or_else(|_| Err(io::ErrorKind::TimedOut.into()))
    }
}
