//! Sessions: the first person signs in by the set-up link, others by name and password.

use std::time::Instant;

use secrecy::SecretString;
use yonder_api::{Credentials, PasswordChange, Session as SessionFacts, SetUp, SignedIn};
use yonder_core::Role;
use yonder_store::{NewSession, Person, Session, StoreError};

use super::{Auth, SignInClient, Source, check_new_password, people, verify_password};
use yonder_records::ServiceError;
use yonder_records::secrets::{random_token, same_secret};
use yonder_records::time;
use yonder_records::views::role_facts;

/// Lifetime of a session, in seconds: a week.
pub const SESSION_S: i64 = 7 * 86_400;
/// Resolution of the last use, so that most reads do not write.
pub(super) const TOUCH_EVERY_S: i64 = 60;
/// Name under which attempts with a set-up code are counted.
const SET_UP: &str = "set-up";
/// Maximum characters of a refused name in the log.
const MAX_LOGGED_NAME: usize = 64;
/// Maximum characters of the `User-Agent` header.
const AGENT_LENGTH: usize = 200;

impl Auth {
    /// Returns the code of the one-time set-up link, until it is used.
    #[must_use]
    pub fn set_up_code(&self) -> Option<SecretString> {
        self.set_up_code.lock().clone()
    }

    /// Adds the first person as an admin, and creates a session. The link is used up.
    ///
    /// # Errors
    /// [`ServiceError::SetUpRefused`] for a wrong or used code, [`ServiceError::Invalid`] for name or password.
    pub fn set_up(
        &self,
        request: &SetUp,
        client: &SignInClient,
    ) -> Result<(SecretString, SignedIn), ServiceError> {
        let source = client.source();
        self.begin_attempt(source, SET_UP)?;
        let mut code = self.set_up_code.lock();
        let expected = code.as_ref().ok_or(ServiceError::SetUpRefused)?;
        if !same_secret(expected, request.code.expose()) {
            return Err(ServiceError::SetUpRefused);
        }
        let password = request.password.clone().into_inner();
        self.add_person(&request.name, &password, Role::Admin)?;
        *code = None;
        drop(code);
        self.attempts.lock().succeed(source, SET_UP);
        self.begin_session(&self.records.store.person(request.name.trim())?, client)
    }

    /// Creates a session: returns the token for the cookie, and the data for the console.
    ///
    /// # Errors
    /// [`ServiceError::SignInRefused`], or [`ServiceError::TooManyAttempts`] after several of those.
    pub fn sign_in(
        &self,
        credentials: &Credentials,
        client: &SignInClient,
    ) -> Result<(SecretString, SignedIn), ServiceError> {
        let name = credentials.name.trim();
        let person = self.verified(name, &credentials.password.clone().into_inner(), client.source())?;
        self.begin_session(&person, client)
    }

    /// Returns the person if the password is correct.
    fn verified(&self, name: &str, password: &SecretString, source: Source) -> Result<Person, ServiceError> {
        self.begin_attempt(source, name)?;
        let person = match self.records.store.person(name) {
            Ok(person) => Some(person),
            Err(StoreError::NotFound { .. }) => None,
            Err(error) => return Err(error.into()),
        };
        let hash = person.as_ref().map(|person| person.password_hash.as_str());
        let right = self.hashing.run(|| Ok(verify_password(password, hash)))?;
        let Some(person) = person.filter(|_| right) else {
            let name: String = name.chars().take(MAX_LOGGED_NAME).collect();
            tracing::warn!(?name, %source, "sign-in refused");
            return Err(ServiceError::SignInRefused);
        };
        self.attempts.lock().succeed(source, name);
        Ok(person)
    }

    /// Ends a session.
    ///
    /// # Errors
    /// If the records cannot be written.
    pub fn sign_out(&self, token: &SecretString) -> Result<(), ServiceError> {
        self.records.store.remove_session(token)?;
        self.clear_caches();
        Ok(())
    }

    /// Sets a new password of a signed-in person and ends their other sessions.
    ///
    /// # Errors
    /// [`ServiceError::SignInRefused`] for the current one, [`ServiceError::Invalid`] for the new one, and
    /// [`ServiceError::TooManyAttempts`].
    pub fn change_password(
        &self,
        session: &SecretString,
        change: PasswordChange,
        source: Source,
    ) -> Result<(), ServiceError> {
        let name = self.session(session)?.person;
        let new = change.new.into_inner();
        check_new_password(&new)?;
        self.verified(&name, &change.current.into_inner(), source)?;
        let hash = self.hash(&new)?;
        self.records.store.replace_password(&name, &hash, session)?;
        self.clear_caches();
        Ok(())
    }

    /// Returns open sessions, of one person or of all.
    ///
    /// # Errors
    /// If the records cannot be read or written.
    pub fn sessions(
        &self,
        whose: Option<&str>,
        asking: Option<&SecretString>,
    ) -> Result<Vec<SessionFacts>, ServiceError> {
        let now_s = time::now_s();
        let this = match asking {
            Some(token) => self.records.store.session(token, now_s)?.map(|session| session.id),
            None => None,
        };
        let facts = |session: Session| SessionFacts {
            this: this.as_ref() == Some(&session.id),
            id: session.id,
            person: session.person,
            agent: session.agent,
            address: session.address,
            since: time::text(time::from_s(session.begun_s)),
            seen: time::text(time::from_s(session.seen_s)),
            expires: time::text(time::from_s(session.expires_s)),
        };
        Ok(self.records.store.sessions(whose, now_s)?.into_iter().map(facts).collect())
    }

    /// Returns the session of a cookie token.
    ///
    /// # Errors
    /// [`ServiceError::SignInNeeded`] for an unknown or expired session, or if the records cannot be read.
    pub fn session(&self, token: &SecretString) -> Result<Session, ServiceError> {
        let (now, now_s) = (Instant::now(), time::now_s());
        let (known, generation) = {
            let cache = self.known_sessions.lock();
            (cache.get(token, now), cache.generation())
        };
        if let Some(session) = known.filter(|session| session.expires_s > now_s) {
            return Ok(session);
        }
        let session = self.records.store.session(token, now_s)?.ok_or(ServiceError::SignInNeeded)?;
        self.known_sessions.lock().insert(token, session.clone(), generation, now);
        if now_s - session.seen_s >= TOUCH_EVERY_S && self.touches.lock().is_due(&session.id, now_s) {
            // A full disk must not keep people from reading.
            if let Err(error) = self.records.store.touch_session(token, now_s) {
                tracing::debug!(%error, "the use of a session could not be noted");
            }
        }
        Ok(session)
    }

    pub(super) fn begin_session(
        &self,
        person: &Person,
        client: &SignInClient,
    ) -> Result<(SecretString, SignedIn), ServiceError> {
        let (token, csrf) = (SecretString::from(random_token()), random_token());
        let begun_s = time::now_s();
        let agent: String = client.agent.chars().take(AGENT_LENGTH).collect();
        let address = client.address.map(|address| address.to_string());
        let new = NewSession {
            token: &token,
            csrf: &csrf,
            agent: &agent,
            address: address.as_deref().unwrap_or_default(),
            begun_s,
            expires_s: begun_s + SESSION_S,
        };
        self.records.store.add_session(person, &new)?;
        self.journal.audit(&people::own_change(person, "signed-in", address));
        let signed_in = SignedIn { person: person.name.clone(), role: role_facts(person.role), token: csrf };
        Ok((token, signed_in))
    }
}
