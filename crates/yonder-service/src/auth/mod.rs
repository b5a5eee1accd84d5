//! Authentication: people by password and session, programs by token, with rate limits.

mod attempts;
mod cache;
mod client;
mod hashing;
mod passwords;
mod people;
mod sessions;
mod tokens;
mod touches;

use std::sync::Arc;
use std::time::Instant;

use parking_lot::Mutex;
use secrecy::SecretString;
use yonder_store::{Session, Token};

use crate::journal::Journal;
use attempts::Attempts;
pub use attempts::Source;
use cache::TokenCache;
pub use client::SignInClient;
use hashing::Hashing;
use passwords::{check_new_password, hash_password, verify_password};
pub use sessions::SESSION_S;
use touches::Touches;
use yonder_records::Records;
use yonder_records::ServiceError;
use yonder_records::secrets::random_token;

/// Verification of passwords, sessions and tokens.
#[derive(Debug)]
pub struct Auth {
    records: Arc<Records>,
    journal: Arc<Journal>,
    /// Token in the data directory, for local clients.
    local_token: SecretString,
    /// Code of the one-time set-up link, until it is used.
    set_up_code: Mutex<Option<SecretString>>,
    attempts: Mutex<Attempts>,
    hashing: Hashing,
    touches: Mutex<Touches>,
    known_sessions: Mutex<TokenCache<Session>>,
    known_tokens: Mutex<TokenCache<Token>>,
}

impl Auth {
    /// Without people, a set-up code is generated.
    ///
    /// # Errors
    /// If the records cannot be read.
    pub(crate) fn new(
        records: Arc<Records>,
        journal: Arc<Journal>,
        local_token: SecretString,
    ) -> Result<Self, ServiceError> {
        let set_up_code = if records.store.has_people()? { None } else { Some(random_token().into()) };
        Ok(Self {
            records,
            journal,
            local_token,
            set_up_code: Mutex::new(set_up_code),
            attempts: Mutex::default(),
            hashing: Hashing::default(),
            touches: Mutex::default(),
            known_sessions: Mutex::default(),
            known_tokens: Mutex::default(),
        })
    }

    /// Hashes a new password.
    ///
    /// [`ServiceError::Invalid`] for a weak or too long password, [`ServiceError::TooManyAttempts`] while too many are
    /// waiting. [`ServiceError::Invalid`] for one that is too short or too long, [`ServiceError::TooManyAttempts`]
    /// while too many wait.
    fn hash(&self, password: &SecretString) -> Result<String, ServiceError> {
        check_new_password(password)?;
        self.hashing.run(|| hash_password(password))
    }

    /// Begins an attempt to sign in or to use a code.
    ///
    /// # Errors
    /// [`ServiceError::TooManyAttempts`] after too many failures.
    fn begin_attempt(&self, source: Source, name: &str) -> Result<(), ServiceError> {
        let begun = self.attempts.lock().begin(source, name, Instant::now());
        begun.map_err(|wait| {
            tracing::warn!(%source, wait_s = wait.as_secs() + 1, "too many failed attempts");
            ServiceError::TooManyAttempts(wait.as_secs() + 1)
        })
    }

    /// Clears the caches of sessions and tokens after a change of one of them or of a person.
    pub(crate) fn clear_caches(&self) {
        self.known_sessions.lock().clear();
        self.known_tokens.lock().clear();
    }
}
