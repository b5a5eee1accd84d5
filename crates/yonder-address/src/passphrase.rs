//! Passphrases of encrypted SRT.

use std::fmt;

use secrecy::{ExposeSecret as _, SecretString};

/// Lengths that the protocol allows, in bytes (6.1.4: 10 to 80; receivers commonly keep one for a terminator).
const RANGE: std::ops::RangeInclusive<usize> = 10..=79;

/// Why a passphrase was refused. Never holds it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum PassphraseError {
    /// Too short or too long.
    #[error("the passphrase has {0} bytes; SRT wants 10 to 79")]
    Length(usize),
    /// A control character inside.
    #[error("the passphrase holds a control character at position {0}")]
    Control(usize),
}

/// A passphrase. Displaying and debugging show nothing of it.
#[derive(Clone)]
pub struct Passphrase(SecretString);

impl Passphrase {
    /// Reads a passphrase as it came out of a file: the line end is not part of it, blanks are.
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

    /// A passphrase that was checked before it was stored.
    #[must_use]
    pub fn from_stored(passphrase: SecretString) -> Self {
        Self(passphrase)
    }

    /// The passphrase itself, for the key derivation and for the sealed store.
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

/// Length of the AES key that is made from a passphrase.
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
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Aes128, Self::Aes192, Self::Aes256];

    /// Bytes of the key.
    #[must_use]
    pub fn bytes(self) -> usize {
        match self {
            Self::Aes128 => 16,
            Self::Aes192 => 24,
            Self::Aes256 => 32,
        }
    }

    /// Bits of the key.
    #[must_use]
    pub fn bits(self) -> u16 {
        match self {
            Self::Aes128 => 128,
            Self::Aes192 => 192,
            Self::Aes256 => 256,
        }
    }

    /// From its bits.
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
    fn passphrases_have_a_length(#[case] text: &str, #[case] read: Result<&str, PassphraseError>) {
        assert_eq!(Passphrase::parse(text).map(|p| p.expose().to_owned()), read.map(str::to_owned));
    }

    #[test]
    fn nothing_of_it_is_shown() {
        let passphrase = Passphrase::parse("planted-passphrase").unwrap();
        assert_eq!(format!("{passphrase:?}"), "Passphrase");
    }
}
