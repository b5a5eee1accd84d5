//! Sealing of secrets: XChaCha20-Poly1305 with a master key, from a file of mode 0600 or passed in.

use std::fs::{self, File, OpenOptions};
use std::io::{self, Write as _};
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::{Path, PathBuf};

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use chacha20poly1305::aead::{Aead as _, KeyInit as _, Payload};
use chacha20poly1305::{XChaCha20Poly1305, XNonce};
use hmac::{Hmac, Mac as _};
use secrecy::{ExposeSecret as _, SecretString};
use sha2::Sha256;
use zeroize::Zeroizing;

const KEY_BYTES: usize = 32;
const NONCE_BYTES: usize = 24;
/// Context of the key derivation for keyed hashes.
const HASH_CONTEXT: &[u8] = b"yonder-relay keyed hash of stream keys";
/// File name extension of the next master key.
const NEXT_EXTENSION: &str = "next";

/// Error of sealing.
#[derive(Debug, thiserror::Error)]
pub enum SealError {
    /// The key file cannot be read or written.
    #[error("the master key {path} cannot be used")]
    File {
        /// Path.
        path: String,
        /// I/O error.
        source: io::Error,
    },
    /// The key file is missing.
    #[error("the master key {path} is missing")]
    Missing {
        /// Path.
        path: String,
    },
    /// The key file has other content.
    #[error("the master key {path} does not hold 32 bytes in Base64")]
    NotAKey {
        /// Path.
        path: String,
    },
    /// The system has no randomness.
    #[error("the system gives no random numbers")]
    NoRandom,
    /// Sealed with another key, or damaged.
    #[error("a secret was sealed under another master key, or is damaged")]
    WrongKey,
}

/// Key that seals all secrets.
#[derive(Clone)]
pub struct MasterKey {
    cipher: XChaCha20Poly1305,
    hash_key: Zeroizing<[u8; KEY_BYTES]>,
    /// File of the key.
    file: Option<PathBuf>,
}

impl std::fmt::Debug for MasterKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("MasterKey")
    }
}

impl MasterKey {
    /// Loads the key from a file.
    ///
    /// # Errors
    /// [`SealError::Missing`], or another error of the file.
    pub fn load(path: &Path) -> Result<Self, SealError> {
        let shown = path.display().to_string();
        match fs::read_to_string(path) {
            Ok(text) => {
                let key =
                    Self::from_base64(&Zeroizing::new(text)).ok_or(SealError::NotAKey { path: shown })?;
                Ok(Self { file: Some(path.to_owned()), ..key })
            }
            Err(error) if error.kind() == io::ErrorKind::NotFound => Err(SealError::Missing { path: shown }),
            Err(source) => Err(SealError::File { path: shown, source }),
        }
    }

    /// Generates a key and writes it to a new file.
    ///
    /// # Errors
    /// [`SealError`] if the file cannot be written, or the system has no randomness.
    pub fn create(path: &Path) -> Result<Self, SealError> {
        let mut bytes = Zeroizing::new([0_u8; KEY_BYTES]);
        getrandom::fill(bytes.as_mut_slice()).map_err(|_| SealError::NoRandom)?;
        let text = Zeroizing::new(STANDARD.encode(bytes.as_slice()));
        let written = OpenOptions::new()
            .write(true)
            .create_new(true)
            .mode(0o600)
            .open(path)
            .and_then(|mut file| writeln!(file, "{}", text.as_str()).and_then(|()| file.sync_all()))
            .and_then(|()| sync_folder(path));
        written.map_err(|source| SealError::File { path: path.display().to_string(), source })?;
        Ok(Self { file: Some(path.to_owned()), ..Self::from_bytes(&bytes) })
    }

    /// Returns the path at which the next key is stored until the records are sealed with it.
    #[must_use]
    pub fn next_path(path: &Path) -> PathBuf {
        let mut name = path.as_os_str().to_owned();
        name.push(".");
        name.push(NEXT_EXTENSION);
        name.into()
    }

    /// Replaces the key in `path` with this one, by renaming its file.
    ///
    /// # Errors
    /// [`SealError::File`] if that fails.
    pub fn replace(self, path: &Path) -> Result<Self, SealError> {
        if let Some(file) = &self.file {
            let renamed = fs::rename(file, path).and_then(|()| sync_folder(path));
            renamed.map_err(|source| SealError::File { path: path.display().to_string(), source })?;
        }
        Ok(Self { file: Some(path.to_owned()), ..self })
    }

    /// Returns the file of the key.
    #[must_use]
    pub fn file(&self) -> Option<&Path> {
        self.file.as_deref()
    }

    /// Creates a key from bytes.
    #[must_use]
    pub fn from_bytes(bytes: &[u8; KEY_BYTES]) -> Self {
        let hash_key = Zeroizing::new(keyed_hash(bytes, HASH_CONTEXT));
        Self { cipher: XChaCha20Poly1305::new(bytes.into()), hash_key, file: None }
    }

    fn from_base64(text: &str) -> Option<Self> {
        let bytes = Zeroizing::new(STANDARD.decode(text.trim()).ok()?);
        bytes.first_chunk::<KEY_BYTES>().filter(|_| bytes.len() == KEY_BYTES).map(Self::from_bytes)
    }

    /// Seals a secret; `label` binds it to its place, so that sealed values cannot be swapped.
    pub(crate) fn seal(&self, secret: &SecretString, label: &str) -> Result<Vec<u8>, SealError> {
        let mut nonce = [0_u8; NONCE_BYTES];
        getrandom::fill(&mut nonce).map_err(|_| SealError::NoRandom)?;
        let payload = Payload { msg: secret.expose_secret().as_bytes(), aad: label.as_bytes() };
        let sealed = self.cipher.encrypt(&XNonce::from(nonce), payload).map_err(|_| SealError::WrongKey)?;
        Ok([&nonce[..], &sealed].concat())
    }

    /// Decrypts a sealed secret.
    pub(crate) fn open(&self, sealed: &[u8], label: &str) -> Result<SecretString, SealError> {
        let (nonce, rest) = sealed.split_first_chunk::<NONCE_BYTES>().ok_or(SealError::WrongKey)?;
        let payload = Payload { msg: rest, aad: label.as_bytes() };
        let opened = self.cipher.decrypt(&XNonce::from(*nonce), payload).map_err(|_| SealError::WrongKey)?;
        String::from_utf8(opened).map(SecretString::from).map_err(|_| SealError::WrongKey)
    }

    /// Returns the keyed hash of a secret (HMAC-SHA-256): equal secrets have equal hashes, and guesses cannot be tested
    /// without the key.
    pub(crate) fn hash(&self, secret: &SecretString) -> [u8; KEY_BYTES] {
        keyed_hash(&self.hash_key, secret.expose_secret().as_bytes())
    }
}

/// HMAC-SHA-256 (RFC 2104).
fn keyed_hash(key: &[u8; KEY_BYTES], message: &[u8]) -> [u8; KEY_BYTES] {
    // The key is padded with zeros to the block size (RFC 2104, section 2).
    let mut block = Zeroizing::new([0; 2 * KEY_BYTES]);
    block[..KEY_BYTES].copy_from_slice(key);
    let mut mac = <Hmac<Sha256> as hmac::KeyInit>::new(&(*block).into());
    mac.update(message);
    mac.finalize().into_bytes().into()
}

/// Makes a new or renamed file durable.
fn sync_folder(path: &Path) -> io::Result<()> {
    let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty());
    File::open(folder.unwrap_or_else(|| Path::new(".")))?.sync_all()
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
        assert!(matches!(MasterKey::load(&path), Err(SealError::Missing { .. })));
        let sealed = MasterKey::create(&path).unwrap().seal(&"x".into(), "l").unwrap();
        assert_eq!(fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o600);
        assert!(MasterKey::create(&path).is_err(), "a key is never overwritten");
        assert!(MasterKey::load(&path).unwrap().open(&sealed, "l").is_ok());
        fs::write(&path, "short").unwrap();
        assert!(matches!(MasterKey::load(&path), Err(SealError::NotAKey { .. })));
    }

    #[test]
    fn a_keyed_hash_depends_on_key_and_secret() {
        let (one, two) = (MasterKey::from_bytes(&[1; 32]), MasterKey::from_bytes(&[2; 32]));
        assert_eq!(one.hash(&"a".into()), one.hash(&"a".into()));
        assert_ne!(one.hash(&"a".into()), one.hash(&"b".into()));
        assert_ne!(one.hash(&"a".into()), two.hash(&"a".into()));
    }
}
