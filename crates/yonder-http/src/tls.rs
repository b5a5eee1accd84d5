//! TLS of the HTTP server, with a certificate that is reloaded when its files change.

use std::fmt;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, SystemTime};

use parking_lot::{Mutex, RwLock};
use rustls::crypto::ring;
use rustls::pki_types::pem::PemObject as _;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::server::{ClientHello, ResolvesServerCert};
use rustls::sign::CertifiedKey;
use tokio::time::sleep;

/// Interval of checks of the files.
const CHECK_INTERVAL: Duration = Duration::from_secs(5);

/// Files of a certificate.
#[derive(Debug, Clone)]
pub struct TlsFiles {
    /// Certificate chain in PEM, the certificate of the service first.
    pub certificate: PathBuf,
    /// Private key in PEM.
    pub key: PathBuf,
}

/// Error of a certificate.
#[derive(Debug, thiserror::Error)]
pub enum TlsError {
    /// A file cannot be read.
    #[error("{path} cannot be read: {source}")]
    Unreadable {
        /// Path.
        path: String,
        /// I/O error.
        source: io::Error,
    },
    /// A file contains no certificate or no key.
    #[error("{path} contains no {what} in PEM")]
    Missing {
        /// Path.
        path: String,
        /// `certificate` or `private key`.
        what: &'static str,
    },
    /// Certificate and key do not match, or are invalid.
    #[error("the certificate cannot be used: {0}")]
    Unusable(#[from] rustls::Error),
}

/// Modification times of both files; `None` if unknown.
type Times = (Option<SystemTime>, Option<SystemTime>);

/// Certificate in use.
pub struct Certificate {
    files: TlsFiles,
    times: Mutex<Times>,
    current: RwLock<Arc<CertifiedKey>>,
}

impl fmt::Debug for Certificate {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Certificate").field("files", &self.files).finish_non_exhaustive()
    }
}

impl Certificate {
    /// Loads a certificate.
    ///
    /// # Errors
    /// [`TlsError`].
    pub fn load(files: TlsFiles) -> Result<Self, TlsError> {
        let times = times(&files);
        let current = RwLock::new(Arc::new(read(&files)?));
        Ok(Self { files, times: Mutex::new(times), current })
    }

    /// Reloads the files if they have changed. An invalid certificate is logged, and the previous one stays in use. Blocks.
    pub(crate) fn reload(&self) {
        let times = times(&self.files);
        {
            let mut known = self.times.lock();
            if *known == times {
                return;
            }
            *known = times;
        }
        match read(&self.files) {
            Ok(certificate) => {
                *self.current.write() = Arc::new(certificate);
                tracing::info!(certificate = %self.files.certificate.display(), "certificate replaced");
            }
            Err(error) => tracing::error!(%error, "the new certificate is not used"),
        }
    }

    /// Reloads the files whenever they change. Never ends. Must be called within a tokio runtime.
    ///
    /// # Cancel safety
    /// Safe.
    pub async fn watch(self: Arc<Self>) {
        loop {
            sleep(CHECK_INTERVAL).await;
            let certificate = Arc::clone(&self);
            // A panic is logged by the runtime.
            let _reloaded = tokio::task::spawn_blocking(move || certificate.reload()).await;
        }
    }

    /// Returns the certificate itself, in DER.
    #[must_use]
    pub fn der(&self) -> Vec<u8> {
        self.current.read().cert.first().map(|der| der.to_vec()).unwrap_or_default()
    }

    /// Returns a configuration with the certificate.
    ///
    /// # Errors
    /// [`TlsError::Unusable`].
    pub fn server_config(self: &Arc<Self>) -> Result<rustls::ServerConfig, TlsError> {
        let builder = rustls::ServerConfig::builder_with_provider(Arc::new(ring::default_provider()));
        let builder = builder.with_safe_default_protocol_versions()?;
        Ok(builder.with_no_client_auth().with_cert_resolver(Arc::clone(self) as Arc<dyn ResolvesServerCert>))
    }
}

impl ResolvesServerCert for Certificate {
    fn resolve(&self, _: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        Some(Arc::clone(&self.current.read()))
    }
}

fn times(files: &TlsFiles) -> Times {
    let changed = |path: &Path| fs::metadata(path).and_then(|metadata| metadata.modified()).ok();
    (changed(&files.certificate), changed(&files.key))
}

fn read(files: &TlsFiles) -> Result<CertifiedKey, TlsError> {
    let text = |path: &Path| {
        fs::read(path).map_err(|source| TlsError::Unreadable { path: path.display().to_string(), source })
    };
    let missing = |path: &Path, what| TlsError::Missing { path: path.display().to_string(), what };
    let pem = text(&files.certificate)?;
    let chain: Vec<CertificateDer<'static>> = CertificateDer::pem_slice_iter(&pem)
        .collect::<Result<_, _>>()
        .map_err(|_| missing(&files.certificate, "certificate"))?;
    if chain.is_empty() {
        return Err(missing(&files.certificate, "certificate"));
    }
    let key =
        PrivateKeyDer::from_pem_slice(&text(&files.key)?).map_err(|_| missing(&files.key, "private key"))?;
    Ok(CertifiedKey::from_der(chain, key, &ring::default_provider())?)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn pair(host: &str) -> (String, String) {
        let made = rcgen::generate_simple_self_signed([host.to_owned()]).unwrap();
        (made.cert.pem(), made.signing_key.serialize_pem())
    }

    fn files(folder: &Path, (certificate, key): (&str, &str)) -> TlsFiles {
        let files = TlsFiles { certificate: folder.join("cert.pem"), key: folder.join("key.pem") };
        fs::write(&files.certificate, certificate).unwrap();
        fs::write(&files.key, key).unwrap();
        files
    }

    #[test]
    fn certificate_is_replaced_when_its_files_change_and_kept_when_they_are_unusable() {
        let folder = tempfile::tempdir().unwrap();
        let (first, second) = (pair("relay.example.net"), pair("relay.example.net"));
        let certificate = Certificate::load(files(folder.path(), (&first.0, &first.1))).unwrap();
        let in_use = || certificate.current.read().cert[0].clone();
        let before = in_use();
        certificate.reload();
        assert_eq!(in_use(), before);
        // A certificate whose key has not been replaced yet.
        let replace = |file: &str, text: &str| {
            let path = folder.path().join(file);
            fs::write(&path, text).unwrap();
            let later = SystemTime::now() + Duration::from_secs(u64::try_from(text.len()).unwrap());
            fs::File::options().write(true).open(path).unwrap().set_modified(later).unwrap();
        };
        replace("cert.pem", &second.0);
        certificate.reload();
        assert_eq!(in_use(), before);
        replace("key.pem", &second.1);
        certificate.reload();
        assert_ne!(in_use(), before);
    }

    #[rstest]
    #[case::no_certificate("nothing", None, "contains no certificate")]
    #[case::no_key("", Some("nothing"), "contains no private key")]
    fn certificate_errors_name_the_fault(
        #[case] certificate: &str,
        #[case] key: Option<&str>,
        #[case] expected: &str,
    ) {
        let folder = tempfile::tempdir().unwrap();
        let good = pair("relay.example.net");
        let certificate = if certificate.is_empty() { &good.0 } else { certificate };
        let files = files(folder.path(), (certificate, key.unwrap_or(&good.1)));
        let error = Certificate::load(files).unwrap_err().to_string();
        assert!(error.contains(expected) && error.contains(".pem"), "{error}");
    }

    #[test]
    fn a_key_of_another_certificate_is_refused() {
        let folder = tempfile::tempdir().unwrap();
        let (one, other) = (pair("relay.example.net"), pair("relay.example.net"));
        let error = Certificate::load(files(folder.path(), (&one.0, &other.1))).unwrap_err();
        assert!(matches!(error, TlsError::Unusable(_)), "{error}");
    }
}
