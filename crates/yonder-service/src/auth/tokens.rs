//! API tokens.

use std::time::Instant;

use secrecy::{ExposeSecret as _, SecretString};
use yonder_core::Role;

use super::Auth;
use super::sessions::TOUCH_EVERY_S;
use yonder_records::ServiceError;
use yonder_records::secrets::same_secret;
use yonder_records::time;

impl Auth {
    /// Returns name, responsible person and role of a token. The local token has all permissions.
    ///
    /// # Errors
    /// [`ServiceError::SignInNeeded`] for an unknown or expired token, or if the records cannot be read.
    pub fn bearer(&self, secret: &SecretString) -> Result<(String, Option<String>, Role), ServiceError> {
        if same_secret(&self.local_token, secret.expose_secret()) {
            return Ok(("local".to_owned(), None, Role::Admin));
        }
        let (now, now_s) = (Instant::now(), time::now_s());
        let (known, generation) = {
            let cache = self.known_tokens.lock();
            (cache.get(secret, now), cache.generation())
        };
        if let Some(token) = known.filter(|token| token.expires_s.is_none_or(|end| end > now_s)) {
            return Ok((format!("{} (token)", token.name), token.maker, token.role));
        }
        let token = self.records.store.token(secret, now_s)?.ok_or(ServiceError::SignInNeeded)?;
        self.known_tokens.lock().insert(secret, token.clone(), generation, now);
        let is_old = token.used_s.is_none_or(|used_s| now_s - used_s >= TOUCH_EVERY_S);
        if is_old && self.touches.lock().is_due(&token.name, now_s) {
            // A full disk must not keep programs from reading.
            if let Err(error) = self.records.store.touch_token(&token.name, now_s) {
                tracing::debug!(%error, "the use of a token could not be noted");
            }
        }
        Ok((format!("{} (token)", token.name), token.maker, token.role))
    }
}
