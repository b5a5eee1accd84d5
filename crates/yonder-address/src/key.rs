//! Stream keys.

use std::fmt;

use secrecy::{ExposeSecret as _, SecretString};

use crate::repair::{Repair, bare, note};

/// Maximum length of a key, in characters. Platforms with signed parameters reach a few hundred.
const MAX_KEY: usize = 1024;
/// Minimum length of a key of which characters are shown.
const LONG_ENOUGH: usize = 12;
/// Number of characters shown of a long key.
const SHOWN: usize = 4;

/// Error for an invalid stream key. Never contains the key.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum KeyError {
    /// Empty after trimming.
    #[error("the stream key is empty")]
    Empty,
    /// A blank inside.
    #[error("the stream key holds a blank at position {0}")]
    Blank(usize),
    /// A control character inside.
    #[error("the stream key holds a control character at position {0}")]
    Control(usize),
    /// Too long.
    #[error("the stream key is longer than {MAX_KEY} characters")]
    TooLong,
    /// The address of another server.
    #[error("an address was pasted where the stream key belongs, and it is not of this server")]
    OtherAddress,
}

/// Stream key. `Display` and `Debug` show at most its last four characters.
#[derive(Clone)]
pub struct StreamKey(SecretString);

impl StreamKey {
    /// Parses a key and records corrections.
    ///
    /// # Errors
    /// [`KeyError`], which never repeats the key.
    pub(crate) fn read(text: &str, repairs: &mut Vec<Repair>) -> Result<Self, KeyError> {
        let text = bare(text, repairs);
        let key: String = text.chars().filter(|c| !matches!(c, '\r' | '\n')).collect();
        if key.len() != text.len() {
            note(repairs, Repair::Unfolded);
        }
        let bare = key.trim_start_matches('/');
        if bare.len() != key.len() {
            note(repairs, Repair::Slashes);
        }
        if bare.is_empty() {
            return Err(KeyError::Empty);
        }
        if bare.contains("://") {
            return Err(KeyError::OtherAddress);
        }
        if let Some(at) = bare.chars().position(char::is_whitespace) {
            return Err(KeyError::Blank(at + 1));
        }
        if let Some(at) = bare.chars().position(char::is_control) {
            return Err(KeyError::Control(at + 1));
        }
        if bare.chars().count() > MAX_KEY {
            return Err(KeyError::TooLong);
        }
        Ok(Self(bare.to_owned().into()))
    }

    /// Creates a key that was checked before it was stored.
    #[must_use]
    pub fn from_stored(key: SecretString) -> Self {
        Self(key)
    }

    /// Returns the key, for the protocol and for sealing.
    #[must_use]
    pub fn expose(&self) -> &str {
        self.0.expose_secret()
    }

    /// Returns the last characters, to distinguish keys: four of a long key, none of a short one.
    #[must_use]
    pub fn ending(&self) -> String {
        let count = self.expose().chars().count();
        let shown = if count >= LONG_ENOUGH { SHOWN } else { 0 };
        self.expose().chars().skip(count - shown).collect()
    }
}

impl fmt::Debug for StreamKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "StreamKey(…{})", self.ending())
    }
}
