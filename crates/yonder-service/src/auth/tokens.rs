//! API tokens.

use std::time::Instant;

use secrecy::{ExposeSecret as _, SecretString};
use yonder_api::{MadeToken, NewToken, Token as TokenFacts};
use yonder_core::Role;
use yonder_store::{Identity, NewToken as NewStored, RecordKind, Token};

use super::Auth;
use super::people::check_person_name;
use super::sessions::TOUCH_EVERY_S;
use crate::change::Actor;
use crate::error::ServiceError;
use crate::records::{Records, Transaction};
use crate::secrets::{random_token, same_secret};
use crate::time;
use crate::views::{role_facts, role_of};

const DAY_S: i64 = 86_400;
/// Maximum lifetime of a token, in days.
const LONGEST_DAYS: u32 = 3_650;
/// Default lifetime, in days.
const DEFAULT_DAYS: u32 = 90;

fn facts(token: Token, identity: Identity) -> TokenFacts {
    let text = |seconds| time::text(time::from_s(seconds));
    TokenFacts {
        name: token.name,
        id: identity.uid,
        revision: identity.revision,
        role: role_facts(token.role),
        by: token.made_by,
        since: text(token.created_s),
        void: token.expires_s.is_some_and(|end| end <= time::now_s()),
        expires: token.expires_s.map(text),
        used: token.used_s.map(text),
    }
}

impl Records {
    /// Returns all tokens by name.
    ///
    /// # Errors
    /// If the records cannot be read.
    pub fn tokens(&self) -> Result<Vec<TokenFacts>, ServiceError> {
        let identities = self.store.identities(RecordKind::Token)?;
        let identity = |token: &Token| identities.get(&token.name).cloned().unwrap_or_default();
        let stored = self.store.tokens()?.into_iter();
        Ok(stored
            .map(|token| (identity(&token), token))
            .map(|(identity, token)| facts(token, identity))
            .collect())
    }
}

impl Transaction<'_> {
    /// Creates a token.
    ///
    /// # Errors
    /// [`ServiceError::Invalid`] for name or duration, a name that is taken, or if the records cannot be written.
    pub fn add_token(&self, new: &NewToken, by: &Actor) -> Result<MadeToken, ServiceError> {
        let name = check_person_name(&new.name)?;
        let days = new.days.unwrap_or(DEFAULT_DAYS);
        if days > LONGEST_DAYS {
            return Err(ServiceError::Invalid {
                field: "days",
                detail: format!("{days} days are not from 1 to {LONGEST_DAYS}"),
                hint: "Give a number of days, or 0 for a token that does not expire.",
            });
        }
        let secret = SecretString::from(random_token());
        let created_s = time::now_s();
        self.store.add_token(&NewStored {
            name: &name,
            role: new.role.map_or(Role::Viewer, role_of),
            token: &secret,
            made_by: &by.name,
            maker: by.person.as_deref(),
            created_s,
            expires_s: (days > 0).then(|| created_s + i64::from(days) * DAY_S),
        })?;
        let stored = self.store.token(&secret, created_s)?;
        let stored = stored.ok_or(ServiceError::Internal("a token vanished"))?;
        let identity = self.store.identity(RecordKind::Token, &stored.name)?.unwrap_or_default();
        let token = facts(stored, identity);
        Ok(MadeToken { token, secret: secret.into() })
    }

    /// Revokes a token.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or if the records cannot be read or written.
    pub fn remove_token(&self, name: &str) -> Result<(), ServiceError> {
        self.store.remove_token(name).map_err(|error| self.explain(error))
    }
}

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
