//! Passphrases of SRT encryption.

use std::fmt;

use secrecy::{ExposeSecret as _, SecretString};

/// Lengths that the protocol allows, in bytes (6.1.4: 10 to 80; receivers commonly keep one for a terminator).
const RANGE: std::ops::RangeInclusive<usize> = 10..=79;

/// Error for an invalid passphrase. Never contains it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum PassphraseError {
    /// Too short or too long.
    #[error("the passphrase has {0} bytes; SRT wants 10 to 79")]
    Length(usize),
    /// A control character inside.
    #[error("the passphrase holds a control character at position {0}")]
    Control(usize),
}

/// Passphrase. `Display` and `Debug` show nothing of it.
#[derive(Clone)]
pub struct Passphrase(SecretString);

impl Passphrase {
    /// Parses a passphrase, typically from a file: a line end is removed, blanks are not.
    ///
    /// # Errors
    /// [`PassphraseError`], which never repeats it.
    pub fn parse(text: &str) -> Result<Self, PassphraseError> {
        let text = text.trim_end_matches(['\r', '\n']);
        if let Some(at) = text.chars().position(char::is_control) {
            return Err(PassphraseError::Control(at + 1));
        }
        if !RANGE.contains(&text.len()) {
            return Err(PassphraseError::Length(text.len()));
        }
        Ok(Self(text.to_owned().into()))
    }

    /// Creates a passphrase that was checked before it was stored.
    #[must_use]
    pub fn from_stored(passphrase: SecretString) -> Self {
        Self(passphrase)
    }

    /// Returns the passphrase, for the key derivation and for sealing.
    #[must_use]
    pub fn expose(&self) -> &str {
        self.0.expose_secret()
    }
}

impl fmt::Debug for Passphrase {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Passphrase")
    }
}

/// Length of the AES key derived from a passphrase.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum KeyLength {
    /// AES-128.
    #[default]
    Aes128,
    /// AES-192.
    Aes192,
    /// AES-256.
    Aes256,
}

impl KeyLength {
    /// All lengths.
    pub const ALL: [Self; 3] = [Self::Aes128, Self::Aes192, Self::Aes256];

    /// Returns the length in bytes.
    #[must_use]
    pub fn bytes(self) -> usize {
        match self {
            Self::Aes128 => 16,
            Self::Aes192 => 24,
            Self::Aes256 => 32,
        }
    }

    /// Returns the length in bits.
    #[must_use]
    pub fn bits(self) -> u16 {
        match self {
            Self::Aes128 => 128,
            Self::Aes192 => 192,
            Self::Aes256 => 256,
        }
    }

    /// Returns the length with this number of bits.
    #[must_use]
    pub fn from_bits(bits: u16) -> Option<Self> {
        Self::ALL.into_iter().find(|length| length.bits() == bits)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("too short", Err(PassphraseError::Length(9)))]
    #[case("long enough", Ok("long enough"))]
    #[case("with a line end\r\n", Ok("with a line end"))]
    #[case("tab\tinside it", Err(PassphraseError::Control(4)))]
    fn passphrase_length_is_checked(#[case] text: &str, #[case] read: Result<&str, PassphraseError>) {
        assert_eq!(Passphrase::parse(text).map(|p| p.expose().to_owned()), read.map(str::to_owned));
    }

    #[test]
    fn passphrase_is_not_displayed() {
        let passphrase = Passphrase::parse("planted-passphrase").unwrap();
        assert_eq!(format!("{passphrase:?}"), "Passphrase");
    }
}
