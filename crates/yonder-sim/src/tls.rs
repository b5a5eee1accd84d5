//! Certificates for stand-ins, made on the spot.

use std::fmt;
use std::io;
use std::sync::Arc;

use rcgen::{
    BasicConstraints, CertificateParams, CertifiedIssuer, CertifiedKey, IsCa, KeyPair,
    generate_simple_self_signed,
};
use sha2::{Digest as _, Sha256};
use tokio_rustls::TlsAcceptor;
use tokio_rustls::rustls::ServerConfig;
use tokio_rustls::rustls::pki_types::{CertificateDer, PrivateKeyDer, PrivatePkcs8KeyDer};

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
        Self::new(vec![cert.der().clone()], &signing_key, fingerprint)
    }

    fn new(chain: Vec<CertificateDer<'static>>, key: &KeyPair, fingerprint: [u8; 32]) -> io::Result<Self> {
        let key = PrivateKeyDer::from(PrivatePkcs8KeyDer::from(key.serialize_der()));
        let provider = Arc::new(tokio_rustls::rustls::crypto::ring::default_provider());
        let config = ServerConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .and_then(|builder| builder.with_no_client_auth().with_single_cert(chain, key))
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

/// An authority of our own, for platforms on this machine.
pub struct TestAuthority {
    issuer: CertifiedIssuer<'static, KeyPair>,
}

impl fmt::Debug for TestAuthority {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("TestAuthority").finish_non_exhaustive()
    }
}

impl TestAuthority {
    /// Makes one.
    ///
    /// # Errors
    /// When the system gives no randomness.
    pub fn new() -> io::Result<Self> {
        let mut params = CertificateParams::new(Vec::new()).map_err(io::Error::other)?;
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        let key = KeyPair::generate().map_err(io::Error::other)?;
        let issuer = CertifiedIssuer::self_signed(params, key).map_err(io::Error::other)?;
        Ok(Self { issuer })
    }

    /// Its own certificate in PEM, for whoever is to trust it.
    #[must_use]
    pub fn pem(&self) -> String {
        self.issuer.pem()
    }

    /// Vouches for a host name or address.
    ///
    /// # Errors
    /// When the name is none, or the system gives no randomness.
    pub fn issue(&self, host: &str) -> io::Result<Certificate> {
        let key = KeyPair::generate().map_err(io::Error::other)?;
        let params = CertificateParams::new([host.to_owned()]).map_err(io::Error::other)?;
        let certificate = params.signed_by(&key, &self.issuer).map_err(io::Error::other)?;
        let fingerprint = Sha256::digest(certificate.der()).into();
        Certificate::new(vec![certificate.der().clone()], &key, fingerprint)
    }
}
