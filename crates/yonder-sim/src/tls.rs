//! Generated certificates for stand-ins.

use std::fmt;
use std::io;
use std::sync::Arc;

use rcgen::{
    BasicConstraints, CertificateParams, CertifiedIssuer, CertifiedKey, IsCa, KeyPair,
    generate_simple_self_signed,
};
use sha2::{Digest as _, Sha256};
use tokio_rustls::TlsAcceptor;
use tokio_rustls::rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use tokio_rustls::rustls::crypto::{CryptoProvider, verify_tls12_signature, verify_tls13_signature};
use tokio_rustls::rustls::pki_types::{
    CertificateDer, PrivateKeyDer, PrivatePkcs8KeyDer, ServerName, UnixTime,
};
use tokio_rustls::rustls::{ClientConfig, DigitallySignedStruct, ServerConfig, SignatureScheme};

/// Verifier that accepts every certificate, as many field encoders do. Signatures of the handshake are verified.
#[derive(Debug)]
struct AcceptAny(Arc<CryptoProvider>);

impl ServerCertVerifier for AcceptAny {
    fn verify_server_cert(
        &self,
        _: &CertificateDer<'_>,
        _: &[CertificateDer<'_>],
        _: &ServerName<'_>,
        _: &[u8],
        _: UnixTime,
    ) -> Result<ServerCertVerified, tokio_rustls::rustls::Error> {
        Ok(ServerCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, tokio_rustls::rustls::Error> {
        verify_tls12_signature(message, cert, signature, &self.0.signature_verification_algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, tokio_rustls::rustls::Error> {
        verify_tls13_signature(message, cert, signature, &self.0.signature_verification_algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.0.signature_verification_algorithms.supported_schemes()
    }
}

/// Returns the settings of a client that accepts every certificate.
pub(crate) fn unverified_client() -> io::Result<ClientConfig> {
    let provider = Arc::new(tokio_rustls::rustls::crypto::ring::default_provider());
    let builder = ClientConfig::builder_with_provider(Arc::clone(&provider))
        .with_safe_default_protocol_versions()
        .map_err(io::Error::other)?;
    let verifier = Arc::new(AcceptAny(provider));
    Ok(builder.dangerous().with_custom_certificate_verifier(verifier).with_no_client_auth())
}

/// Self-signed certificate with its key, as cameras generate them.
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
    /// Generates a certificate for a host name or address.
    ///
    /// # Errors
    /// When the name is invalid, or the system has no randomness.
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

    /// Returns the SHA-256 fingerprint of the certificate, in hexadecimal pairs with colons.
    #[must_use]
    pub fn fingerprint(&self) -> String {
        self.fingerprint.iter().map(|byte| format!("{byte:02X}")).collect::<Vec<_>>().join(":")
    }

    /// Returns the SHA-256 fingerprint of the certificate.
    #[must_use]
    pub fn digest(&self) -> [u8; 32] {
        self.fingerprint
    }

    pub(crate) fn acceptor(&self) -> TlsAcceptor {
        TlsAcceptor::from(Arc::clone(&self.config))
    }
}

/// Certificate authority for stand-in platforms.
pub struct TestAuthority {
    issuer: CertifiedIssuer<'static, KeyPair>,
}

impl fmt::Debug for TestAuthority {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("TestAuthority").finish_non_exhaustive()
    }
}

impl TestAuthority {
    /// Generates an authority.
    ///
    /// # Errors
    /// When the system has no randomness.
    pub fn new() -> io::Result<Self> {
        let mut params = CertificateParams::new(Vec::new()).map_err(io::Error::other)?;
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        let key = KeyPair::generate().map_err(io::Error::other)?;
        let issuer = CertifiedIssuer::self_signed(params, key).map_err(io::Error::other)?;
        Ok(Self { issuer })
    }

    /// Returns the certificate of the authority in PEM.
    #[must_use]
    pub fn pem(&self) -> String {
        self.issuer.pem()
    }

    /// Issues a certificate for a host name or address.
    ///
    /// # Errors
    /// When the name is invalid, or the system has no randomness.
    pub fn issue(&self, host: &str) -> io::Result<Certificate> {
        let key = KeyPair::generate().map_err(io::Error::other)?;
        let params = CertificateParams::new([host.to_owned()]).map_err(io::Error::other)?;
        let certificate = params.signed_by(&key, &self.issuer).map_err(io::Error::other)?;
        let fingerprint = Sha256::digest(certificate.der()).into();
        Certificate::new(vec![certificate.der().clone()], &key, fingerprint)
    }
}
