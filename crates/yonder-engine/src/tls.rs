//! TLS with cameras and platforms: the system's authorities, a pinned certificate, or a private authority in addition.

use std::fmt::Write as _;
use std::io;
use std::sync::{Arc, OnceLock};

use parking_lot::Mutex;
use sha2::{Digest as _, Sha256};
use tokio::net::TcpStream;
use tokio_rustls::TlsConnector;
use tokio_rustls::client::TlsStream;
use tokio_rustls::rustls::client::WebPkiServerVerifier;
use tokio_rustls::rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use tokio_rustls::rustls::crypto::{CryptoProvider, ring, verify_tls12_signature, verify_tls13_signature};
use tokio_rustls::rustls::pki_types::pem::PemObject as _;
use tokio_rustls::rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use tokio_rustls::rustls::{
    CertificateError, ClientConfig, DigitallySignedStruct, Error, RootCertStore, SignatureScheme,
};

/// SHA-256 fingerprint of a certificate.
pub type Fingerprint = [u8; 32];

/// Error of a TLS handshake.
#[derive(Debug)]
pub(crate) enum TlsError {
    /// The certificate is not trusted: its fingerprint, and the reason.
    Untrusted { fingerprint: Fingerprint, detail: String },
    /// Any other error.
    Failed(String),
}

/// Formats a fingerprint: pairs of hexadecimal digits with colons between them.
#[must_use]
pub fn fingerprint_text(fingerprint: &Fingerprint) -> String {
    let mut text = String::new();
    for (at, byte) in fingerprint.iter().enumerate() {
        // Writing to a string cannot fail.
        let _ = write!(text, "{}{byte:02X}", if at == 0 { "" } else { ":" });
    }
    text
}

/// Private certificate authorities, trusted in addition to the system's.
#[derive(Debug, Clone)]
pub struct PrivateAuthority {
    pem: Arc<str>,
    roots: Arc<RootCertStore>,
}

impl PrivateAuthority {
    /// Parses one or more certificates in PEM.
    ///
    /// # Errors
    /// A message about the fault.
    pub fn from_pem(pem: &str) -> Result<Self, String> {
        let mut roots = RootCertStore::clone(&authorities());
        let mut count = 0;
        for certificate in CertificateDer::pem_slice_iter(pem.as_bytes()) {
            let certificate =
                certificate.map_err(|error| format!("the certificate cannot be read ({error})"))?;
            roots.add(certificate).map_err(|error| format!("the certificate cannot be used ({error})"))?;
            count += 1;
        }
        if count == 0 {
            return Err(
                "there is no certificate in it; it begins with -----BEGIN CERTIFICATE-----".to_owned()
            );
        }
        Ok(Self { pem: pem.into(), roots: Arc::new(roots) })
    }

    /// Returns the certificates in PEM.
    #[must_use]
    pub fn pem(&self) -> &str {
        &self.pem
    }
}

/// Trust anchors.
#[derive(Debug, Clone)]
pub(crate) enum Trust {
    /// The system's authorities.
    System,
    /// The certificate with this fingerprint only.
    Pinned(Fingerprint),
    /// The system's and these authorities.
    Private(PrivateAuthority),
}

/// Performs a TLS handshake with `host` over `stream`.
///
/// # Errors
/// [`TlsError`] when the certificate is not trusted or the handshake fails.
pub(crate) async fn secure(
    stream: TcpStream,
    host: &str,
    trust: Trust,
) -> Result<TlsStream<TcpStream>, TlsError> {
    let failed = |error: &dyn std::fmt::Display| TlsError::Failed(error.to_string());
    // A certificate has no zone of an address.
    let host = host.split_once('%').map_or(host, |(address, _)| address);
    let name = ServerName::try_from(host.to_owned()).map_err(|error| failed(&error))?;
    let seen = Arc::new(Mutex::new(None));
    let verifier = PeerVerifier { trust, seen: Arc::clone(&seen), provider: provider() };
    let config = ClientConfig::builder_with_provider(provider())
        .with_safe_default_protocol_versions()
        .map_err(|error| failed(&error))?
        .dangerous()
        .with_custom_certificate_verifier(Arc::new(verifier))
        .with_no_client_auth();
    let connected = TlsConnector::from(Arc::new(config)).connect(name, stream).await;
    connected.map_err(|error| {
        let refused = seen.lock().take();
        match (refused, certificate_error(&error)) {
            (Some(fingerprint), Some(detail)) => TlsError::Untrusted { fingerprint, detail },
            _ => failed(&error),
        }
    })
}

fn certificate_error(error: &io::Error) -> Option<String> {
    match error.get_ref()?.downcast_ref::<Error>()? {
        Error::InvalidCertificate(error) => Some(sentence(error)),
        _ => None,
    }
}

fn sentence(error: &CertificateError) -> String {
    match error {
        CertificateError::UnknownIssuer => "it is signed by nobody known here".to_owned(),
        CertificateError::NotValidForName | CertificateError::NotValidForNameContext { .. } => {
            "it is made out for another name".to_owned()
        }
        CertificateError::Expired | CertificateError::ExpiredContext { .. } => "it has expired".to_owned(),
        CertificateError::NotValidYet | CertificateError::NotValidYetContext { .. } => {
            "it is not valid yet".to_owned()
        }
        CertificateError::ApplicationVerificationFailure => {
            "it is another one than the one that was kept".to_owned()
        }
        other => other.to_string(),
    }
}

fn provider() -> Arc<CryptoProvider> {
    static PROVIDER: OnceLock<Arc<CryptoProvider>> = OnceLock::new();
    Arc::clone(PROVIDER.get_or_init(|| Arc::new(ring::default_provider())))
}

/// Returns the system's authorities, read once. On a machine without any, only pinned certificates are trusted.
fn authorities() -> Arc<RootCertStore> {
    static ROOTS: OnceLock<Arc<RootCertStore>> = OnceLock::new();
    let read = || {
        let mut roots = RootCertStore::empty();
        let found = rustls_native_certs::load_native_certs();
        let (_added, ignored) = roots.add_parsable_certificates(found.certs);
        if ignored > 0 || !found.errors.is_empty() {
            tracing::debug!(
                ignored,
                errors = found.errors.len(),
                "some authorities of the system are left out"
            );
        }
        Arc::new(roots)
    };
    Arc::clone(ROOTS.get_or_init(read))
}

/// Verifies a certificate by the trust anchors, and stores the fingerprint of a refused one.
#[derive(Debug)]
struct PeerVerifier {
    trust: Trust,
    /// Fingerprint of the refused certificate.
    seen: Arc<Mutex<Option<Fingerprint>>>,
    provider: Arc<CryptoProvider>,
}

impl ServerCertVerifier for PeerVerifier {
    fn verify_server_cert(
        &self,
        end_entity: &CertificateDer<'_>,
        intermediates: &[CertificateDer<'_>],
        server_name: &ServerName<'_>,
        ocsp_response: &[u8],
        now: UnixTime,
    ) -> Result<ServerCertVerified, Error> {
        let fingerprint: Fingerprint = Sha256::digest(end_entity).into();
        let roots = match &self.trust {
            Trust::Pinned(_) | Trust::System => authorities(),
            Trust::Private(authority) => Arc::clone(&authority.roots),
        };
        let verdict = match self.trust {
            Trust::Pinned(pin) if pin == fingerprint => Ok(ServerCertVerified::assertion()),
            Trust::Pinned(_) => {
                Err(Error::InvalidCertificate(CertificateError::ApplicationVerificationFailure))
            }
            Trust::System | Trust::Private(_) => {
                if roots.is_empty() {
                    Err(Error::InvalidCertificate(CertificateError::UnknownIssuer))
                } else {
                    WebPkiServerVerifier::builder_with_provider(roots, Arc::clone(&self.provider))
                        .build()
                        .map_err(|error| Error::General(error.to_string()))?
                        .verify_server_cert(end_entity, intermediates, server_name, ocsp_response, now)
                }
            }
        };
        if verdict.is_err() {
            *self.seen.lock() = Some(fingerprint);
        }
        verdict
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        dss: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls12_signature(message, cert, dss, &self.provider.signature_verification_algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        dss: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls13_signature(message, cert, dss, &self.provider.signature_verification_algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider.signature_verification_algorithms.supported_schemes()
    }
}

/// Reads the system's certificate authorities in the background, so that the first TLS connection does not wait for the disk.
pub(crate) fn preload_authorities(runtime: &tokio::runtime::Handle) {
    runtime.spawn_blocking(authorities);
}

/// Returns the number of trusted certificate authorities of the system.
#[must_use]
pub fn count_authorities() -> usize {
    authorities().len()
}
