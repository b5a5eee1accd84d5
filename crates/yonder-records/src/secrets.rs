//! Random secrets, and their comparison.

use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use secrecy::{ExposeSecret as _, SecretString};
use subtle::ConstantTimeEq as _;

/// Returns 256 random bits as text for addresses and headers.
pub fn random_token() -> String {
    URL_SAFE_NO_PAD.encode(rand::random::<[u8; 32]>())
}

/// Compares secrets in constant time.
pub fn same_secret(a: &SecretString, b: &str) -> bool {
    a.expose_secret().as_bytes().ct_eq(b.as_bytes()).into()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tokens_are_long_and_never_the_same() {
        let (a, b) = (random_token(), random_token());
        assert_eq!(a.len(), 43);
        assert_ne!(a, b);
        assert!(same_secret(&a.as_str().into(), &a) && !same_secret(&a.as_str().into(), &b));
    }
}
