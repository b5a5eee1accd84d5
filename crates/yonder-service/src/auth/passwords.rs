//! Passwords, stored as Argon2id hashes (RFC 9106).

use argon2::Argon2;
use argon2::password_hash::phc::PasswordHash;
use argon2::password_hash::{PasswordHasher as _, PasswordVerifier as _};
use secrecy::{ExposeSecret as _, SecretString};

use zxcvbn::{Score, zxcvbn};

use yonder_records::ServiceError;

/// Minimum length of a password, in characters.
const SHORTEST: usize = 10;
/// Maximum length, so that hashing stays cheap.
const LONGEST: usize = 256;

/// Checks length and strength of a new password.
pub(crate) fn check_new_password(password: &SecretString) -> Result<(), ServiceError> {
    let length = password.expose_secret().chars().count();
    if (SHORTEST..=LONGEST).contains(&length) {
        // Repetitions, sequences, common passwords, and words with the usual substitutions.
        if zxcvbn(password.expose_secret(), &[]).score() >= Score::Two {
            return Ok(());
        }
        return Err(ServiceError::Invalid {
            field: "password",
            detail: "the password is easily guessed".to_owned(),
            hint: "Three or four words make a good password.",
        });
    }
    let detail = format!("the password has {length} characters; {SHORTEST} to {LONGEST} are needed");
    Err(ServiceError::Invalid {
        field: "password",
        detail,
        hint: "Three or four words make a good password.",
    })
}

/// Returns the hash of a password. Takes tens of milliseconds of one core, by design.
pub(crate) fn hash_password(password: &SecretString) -> Result<String, ServiceError> {
    Argon2::default()
        .hash_password(password.expose_secret().as_bytes())
        .map(|hash| hash.to_string())
        .map_err(|_| ServiceError::Internal("a password cannot be hashed"))
}

/// Returns true if the password matches the hash. Without a hash it takes the same time, so that the existence of a
/// name is not revealed.
pub(crate) fn verify_password(password: &SecretString, hash: Option<&str>) -> bool {
    const NOBODY: &str =
        "$argon2id$v=19$m=19456,t=2,p=1$AAAAAAAAAAAAAAAAAAAAAA$AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA";
    let Ok(parsed) = PasswordHash::new(hash.unwrap_or(NOBODY)) else { return false };
    let matches = Argon2::default().verify_password(password.expose_secret().as_bytes(), &parsed).is_ok();
    matches && hash.is_some()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_password_is_verified_against_its_hash_alone() {
        let hash = hash_password(&"night desk lamp".into()).unwrap();
        assert!(hash.starts_with("$argon2id$"));
        assert!(verify_password(&"night desk lamp".into(), Some(&hash)));
        assert!(!verify_password(&"night desk".into(), Some(&hash)));
        assert!(!verify_password(&"night desk lamp".into(), None));
        assert!(!verify_password(&"x".into(), Some("nonsense")));
    }

    #[test]
    fn short_passwords_are_refused() {
        assert!(check_new_password(&"short".into()).is_err());
        assert!(check_new_password(&"long enough".into()).is_ok());
        assert!(check_new_password(&"three lamps at night".into()).is_ok());
        for guessed in ["aaaaaaaaaa", "1234567890", "password123", "qwertyuiop", "abcabcabcabc"] {
            assert!(check_new_password(&guessed.into()).is_err(), "{guessed}");
        }
    }
}
