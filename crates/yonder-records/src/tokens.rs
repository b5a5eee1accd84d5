//! API tokens.

use secrecy::SecretString;
use yonder_api::{MadeToken, NewToken, Token as TokenFacts};
use yonder_core::Role;
use yonder_store::{Identity, NewToken as NewStored, RecordKind, Token};

use super::{Records, Transaction};
use crate::change::Actor;
use crate::error::ServiceError;
use crate::people::check_person_name;
use crate::secrets::random_token;
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
