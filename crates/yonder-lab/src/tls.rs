//! Certificates for stand-ins, made on the spot.

use std::fmt;
use std::io;
use std::sync::Arc;

use rcgen::{CertifiedKey, generate_simple_self_signed};
use sha2::{Digest as _, Sha256};
use tokio_rustls::TlsAcceptor;
use tokio_rustls::rustls::ServerConfig;
use tokio_rustls::rustls::pki_types::{PrivateKeyDer, PrivatePkcs8KeyDer};

/// A self-signed certificate with its key, as cameras make for themselves.
#[derive(Clone)]
pub struct Certificate {
    config: Arc<ServerConfig>,
    fingerprint: [u8; 32],
}

impl fmt::Debug for Certificate {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Certificate").field("fingerprint", &self.fingerprint()).finish_non_exhaustive()
    }
}

impl Certificate {
    /// Makes one for a host name or address.
    ///
    /// # Errors
    /// When the name is none, or the system gives no randomness.
    pub fn self_signed(host: &str) -> io::Result<Self> {
        let CertifiedKey { cert, signing_key } =
            generate_simple_self_signed([host.to_owned()]).map_err(io::Error::other)?;
        let fingerprint = Sha256::digest(cert.der()).into();
        let key = PrivateKeyDer::from(PrivatePkcs8KeyDer::from(signing_key.serialize_der()));
        let provider = Arc::new(tokio_rustls::rustls::crypto::ring::default_provider());
        let config = ServerConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .and_then(|builder| builder.with_no_client_auth().with_single_cert(vec![cert.der().clone()], key))
            .map_err(io::Error::other)?;
        Ok(Self { config: Arc::new(config), fingerprint })
    }

    /// SHA-256 of the certificate in hexadecimal, pairs apart by colons.
    #[must_use]
    pub fn fingerprint(&self) -> String {
        self.fingerprint.iter().map(|byte| format!("{byte:02X}")).collect::<Vec<_>>().join(":")
    }

    /// SHA-256 of the certificate.
    #[must_use]
    pub fn digest(&self) -> [u8; 32] {
        self.fingerprint
    }

    pub(crate) fn acceptor(&self) -> TlsAcceptor {
        TlsAcceptor::from(Arc::clone(&self.config))
    }
}
