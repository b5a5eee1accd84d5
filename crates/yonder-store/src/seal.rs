//! Sealing secrets: XChaCha20-Poly1305 under a master key that is never stored beside the records in clear
//! reach of others: it lies in a file of mode 0600, or is handed in.

use std::fs::{self, OpenOptions};
use std::io::{self, Write as _};
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::Path;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use chacha20poly1305::aead::{Aead as _, KeyInit as _, Payload};
use chacha20poly1305::{XChaCha20Poly1305, XNonce};
use secrecy::{ExposeSecret as _, SecretString};
use zeroize::Zeroizing;

const KEY_BYTES: usize = 32;
const NONCE_BYTES: usize = 24;

/// Why a secret cannot be sealed or opened.
#[derive(Debug, thiserror::Error)]
pub enum SealError {
    /// The key file cannot be read or written.
    #[error("the master key {path} cannot be used")]
    File {
        /// Path.
        path: String,
        /// Why.
        source: io::Error,
    },
    /// The key file holds something else.
    #[error("the master key {path} does not hold 32 bytes in Base64")]
    NotAKey {
        /// Path.
        path: String,
    },
    /// The system gives no random numbers.
    #[error("the system gives no random numbers")]
    NoRandom,
    /// Sealed under another key, or damaged.
    #[error("a secret was sealed under another master key, or is damaged")]
    WrongKey,
}

/// The key that all secrets are sealed under.
pub struct MasterKey(XChaCha20Poly1305);

impl std::fmt::Debug for MasterKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("MasterKey")
    }
}

impl MasterKey {
    /// Reads the key from a file, or makes one where there is none.
    ///
    /// # Errors
    /// [`SealError`] when the file cannot be used.
    pub fn load_or_create(path: &Path) -> Result<Self, SealError> {
        let shown = path.display().to_string();
        let at = |source| SealError::File { path: shown.clone(), source };
        match fs::read_to_string(path) {
            Ok(text) => Self::from_base64(&Zeroizing::new(text)).ok_or(SealError::NotAKey { path: shown }),
            Err(error) if error.kind() == io::ErrorKind::NotFound => {
                let mut bytes = Zeroizing::new([0_u8; KEY_BYTES]);
                getrandom::fill(bytes.as_mut_slice()).map_err(|_| SealError::NoRandom)?;
                let text = Zeroizing::new(STANDARD.encode(bytes.as_slice()));
                let mut file =
                    OpenOptions::new().write(true).create_new(true).mode(0o600).open(path).map_err(at)?;
                writeln!(file, "{}", text.as_str()).and_then(|()| file.sync_all()).map_err(at)?;
                Ok(Self::from_bytes(&bytes))
            }
            Err(error) => Err(at(error)),
        }
    }

    /// A key of the given bytes.
    #[must_use]
    pub fn from_bytes(bytes: &[u8; KEY_BYTES]) -> Self {
        Self(XChaCha20Poly1305::new(bytes.into()))
    }

    fn from_base64(text: &str) -> Option<Self> {
        let bytes = Zeroizing::new(STANDARD.decode(text.trim()).ok()?);
        bytes.first_chunk::<KEY_BYTES>().filter(|_| bytes.len() == KEY_BYTES).map(Self::from_bytes)
    }

    /// Seals a secret; `label` ties it to its place, so that sealed values cannot be swapped.
    pub(crate) fn seal(&self, secret: &SecretString, label: &str) -> Result<Vec<u8>, SealError> {
        let mut nonce = [0_u8; NONCE_BYTES];
        getrandom::fill(&mut nonce).map_err(|_| SealError::NoRandom)?;
        let payload = Payload { msg: secret.expose_secret().as_bytes(), aad: label.as_bytes() };
        let sealed = self.0.encrypt(&XNonce::from(nonce), payload).map_err(|_| SealError::WrongKey)?;
        Ok([&nonce[..], &sealed].concat())
    }

    /// Opens a sealed secret.
    pub(crate) fn open(&self, sealed: &[u8], label: &str) -> Result<SecretString, SealError> {
        let (nonce, rest) = sealed.split_first_chunk::<NONCE_BYTES>().ok_or(SealError::WrongKey)?;
        let payload = Payload { msg: rest, aad: label.as_bytes() };
        let opened = self.0.decrypt(&XNonce::from(*nonce), payload).map_err(|_| SealError::WrongKey)?;
        String::from_utf8(opened).map(SecretString::from).map_err(|_| SealError::WrongKey)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::PermissionsExt as _;

    #[test]
    fn a_sealed_secret_opens_only_in_its_place_and_under_its_key() {
        let key = MasterKey::from_bytes(&[1; 32]);
        let sealed = key.seal(&"planted".into(), "destination-key:1").unwrap();
        assert!(!sealed.windows(7).any(|window| window == b"planted"));
        assert_eq!(key.open(&sealed, "destination-key:1").unwrap().expose_secret(), "planted");
        assert!(key.open(&sealed, "destination-key:2").is_err());
        assert!(MasterKey::from_bytes(&[2; 32]).open(&sealed, "destination-key:1").is_err());
        assert!(key.open(&sealed[..20], "destination-key:1").is_err());
    }

    #[test]
    fn the_same_secret_is_sealed_differently_each_time() {
        let key = MasterKey::from_bytes(&[1; 32]);
        assert_ne!(key.seal(&"x".into(), "l").unwrap(), key.seal(&"x".into(), "l").unwrap());
    }

    #[test]
    fn a_key_file_is_made_once_for_its_owner_alone() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("master.key");
        let sealed = MasterKey::load_or_create(&path).unwrap().seal(&"x".into(), "l").unwrap();
        assert_eq!(fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o600);
        assert!(MasterKey::load_or_create(&path).unwrap().open(&sealed, "l").is_ok());
        fs::write(&path, "short").unwrap();
        assert!(matches!(MasterKey::load_or_create(&path), Err(SealError::NotAKey { .. })));
    }
}
