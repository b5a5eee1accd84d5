//! Signing in: the first person by the set-up link, everybody after that by name and password.

use std::time::Instant;

use secrecy::SecretString;
use yonder_api::{Credentials, SetUp, SignedIn};
use yonder_core::check_name;
use yonder_store::{Person, Session, StoreError};

use super::{Service, lock};
use crate::auth;
use crate::error::ServiceError;
use crate::time;

/// How long a session lasts, in seconds: a week.
pub(crate) const SESSION_S: i64 = 7 * 86_400;

impl Service {
    /// The code of the one-time set-up link, until it has been used.
    #[must_use]
    pub fn set_up_code(&self) -> Option<SecretString> {
        lock(&self.set_up_code).clone()
    }

    /// Makes the first person and signs them in. The link is used up.
    ///
    /// # Errors
    /// [`ServiceError::SetUpRefused`] for a wrong or used code, [`ServiceError::Invalid`] for name or password.
    pub fn set_up(&self, request: &SetUp) -> Result<(SecretString, SignedIn), ServiceError> {
        let mut code = lock(&self.set_up_code);
        let expected = code.as_ref().ok_or(ServiceError::SetUpRefused)?;
        if !auth::same_secret(expected, request.code.expose()) {
            return Err(ServiceError::SetUpRefused);
        }
        self.add_person(&request.name, &request.password.clone().into_inner())?;
        *code = None;
        drop(code);
        self.begin_session(&self.store.person(request.name.trim())?)
    }

    /// Adds a person who may sign in.
    ///
    /// # Errors
    /// [`ServiceError::Invalid`] for name or password, a name that is taken, or when the records cannot be
    /// written.
    pub fn add_person(&self, name: &str, password: &SecretString) -> Result<(), ServiceError> {
        let name = check_name(name).map_err(|error| ServiceError::name(&error))?;
        auth::check_new_password(password)?;
        self.store.add_person(&name, &auth::hash_password(password)?, time::now_s())?;
        tracing::info!(person = name, "person added");
        Ok(())
    }

    /// Gives a person a password; somebody new may then sign in.
    ///
    /// # Errors
    /// As [`Service::add_person`], but for a name that is taken.
    pub fn set_person(&self, name: &str, password: &SecretString) -> Result<(), ServiceError> {
        if self.store.person(name).is_err() {
            self.add_person(name, password)?;
            // With somebody there, the set-up link is of no use to anybody else.
            *lock(&self.set_up_code) = None;
            return Ok(());
        }
        auth::check_new_password(password)?;
        Ok(self.store.set_password(name, &auth::hash_password(password)?)?)
    }

    /// Signs a person in: the session's token for the cookie, and what the console needs.
    ///
    /// # Errors
    /// [`ServiceError::SignInRefused`], or [`ServiceError::TooManyAttempts`] after some of those.
    pub fn sign_in(&self, credentials: &Credentials) -> Result<(SecretString, SignedIn), ServiceError> {
        let name = credentials.name.trim();
        if let Some(wait) = lock(&self.attempts).wait(name, Instant::now()) {
            return Err(ServiceError::TooManyAttempts(wait.as_secs() + 1));
        }
        let person = match self.store.person(name) {
            Ok(person) => Some(person),
            Err(StoreError::NotFound { .. }) => None,
            Err(error) => return Err(error.into()),
        };
        let hash = person.as_ref().map(|person| person.password_hash.as_str());
        let right = auth::verify_password(&credentials.password.clone().into_inner(), hash);
        let Some(person) = person.filter(|_| right) else {
            lock(&self.attempts).note_failure(name, Instant::now());
            tracing::warn!(person = name, "sign-in refused");
            return Err(ServiceError::SignInRefused);
        };
        lock(&self.attempts).note_success(name);
        self.begin_session(&person)
    }

    /// Ends a session.
    ///
    /// # Errors
    /// When the records cannot be written.
    pub fn sign_out(&self, token: &SecretString) -> Result<(), ServiceError> {
        Ok(self.store.remove_session(token)?)
    }

    /// The session of a cookie's token.
    pub(crate) fn session(&self, token: &SecretString) -> Result<Session, ServiceError> {
        self.store.session(token, time::now_s())?.ok_or(ServiceError::SignInNeeded)
    }

    /// True for the token of the home folder.
    pub(crate) fn is_local_token(&self, token: &str) -> bool {
        auth::same_secret(&self.local_token, token)
    }

    fn begin_session(&self, person: &Person) -> Result<(SecretString, SignedIn), ServiceError> {
        let (token, csrf) = (SecretString::from(auth::random_token()), auth::random_token());
        let now = time::now_s();
        self.store.add_session(&token, person, &csrf, now, now + SESSION_S)?;
        Ok((token, SignedIn { person: person.name.clone(), token: csrf }))
    }
}
