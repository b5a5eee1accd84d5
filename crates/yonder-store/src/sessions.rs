//! Sessions of people who are signed in. Their tokens are kept as hashes only.

use rusqlite::{OptionalExtension as _, Row, params};
use secrecy::{ExposeSecret as _, SecretString};
use sha2::{Digest as _, Sha256};
use yonder_core::Role;

use crate::error::{Kind, StoreError};
use crate::people::{Person, role};
use crate::store::Store;

/// Digits of a token's hash that tell sessions apart. They help nobody to guess the token.
const ID_DIGITS: usize = 16;

/// A session that begins.
#[derive(Debug)]
pub struct NewSession<'a> {
    /// Secret of the cookie.
    pub token: &'a SecretString,
    /// Token that changes must carry.
    pub csrf: &'a str,
    /// What the browser says of itself.
    pub agent: &'a str,
    /// Now, in seconds since 1970.
    pub begun_s: i64,
    /// When it ends by itself.
    pub expires_s: i64,
}

/// A signed-in session.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Session {
    /// Tells it apart from others.
    pub id: String,
    /// Who it belongs to.
    pub person: String,
    /// What they may do.
    pub role: Role,
    /// Token that changes must carry.
    pub csrf: String,
    /// What the browser said of itself.
    pub agent: String,
    /// When it began, in seconds since 1970.
    pub begun_s: i64,
    /// When it was last used, to the minute.
    pub seen_s: i64,
    /// When it ends by itself.
    pub expires_s: i64,
}

/// What is kept of a token.
pub(crate) fn token_hash(token: &SecretString) -> Vec<u8> {
    Sha256::digest(token.expose_secret()).to_vec()
}

const SELECT: &str =
    "SELECT session.*, substr(lower(hex(session.token_hash)), 1, 16) AS id, person.name, person.role
    FROM session JOIN person ON person.id = session.person";

fn session(row: &Row<'_>) -> rusqlite::Result<Session> {
    Ok(Session {
        id: row.get("id")?,
        person: row.get("name")?,
        role: role(row)?,
        csrf: row.get("csrf")?,
        agent: row.get("agent")?,
        begun_s: row.get("begun_s")?,
        seen_s: row.get("seen_s")?,
        expires_s: row.get("expires_s")?,
    })
}

impl Store {
    /// Keeps a session, and forgets those that have expired.
    ///
    /// # Errors
    /// The store's failure.
    pub fn add_session(&self, person: &Person, new: &NewSession<'_>) -> Result<(), StoreError> {
        self.write(|transaction| {
            transaction.execute("DELETE FROM session WHERE expires_s <= ?1", [new.begun_s])?;
            transaction.execute(
                "INSERT INTO session (token_hash, person, csrf, expires_s, begun_s, seen_s, agent)
                 VALUES (?1, ?2, ?3, ?4, ?5, ?5, ?6)",
                params![token_hash(new.token), person.id, new.csrf, new.expires_s, new.begun_s, new.agent],
            )?;
            Ok(())
        })
    }

    /// The session of a token, unless it has expired.
    ///
    /// # Errors
    /// The store's failure.
    pub fn session(&self, token: &SecretString, now_s: i64) -> Result<Option<Session>, StoreError> {
        self.read(|connection| {
            let select = format!("{SELECT} WHERE session.token_hash = ?1 AND session.expires_s > ?2");
            let mut statement = connection.prepare_cached(&select)?;
            Ok(statement.query_row(params![token_hash(token), now_s], session).optional()?)
        })
    }

    /// Notes that a session is in use.
    ///
    /// # Errors
    /// The store's failure.
    pub fn touch_session(&self, token: &SecretString, now_s: i64) -> Result<(), StoreError> {
        self.write(|transaction| {
            let update = "UPDATE session SET seen_s = ?2 WHERE token_hash = ?1";
            transaction.execute(update, params![token_hash(token), now_s])?;
            Ok(())
        })
    }

    /// Sessions that go on, the latest used first; of one person alone where one is named.
    ///
    /// # Errors
    /// The store's failure.
    pub fn sessions(&self, person: Option<&str>, now_s: i64) -> Result<Vec<Session>, StoreError> {
        self.read(|connection| {
            let select = format!(
                "{SELECT} WHERE session.expires_s > ?1 AND (?2 IS NULL OR person.name = ?2)
                 ORDER BY session.seen_s DESC, id"
            );
            let mut statement = connection.prepare_cached(&select)?;
            Ok(statement.query_map(params![now_s, person], session)?.collect::<Result<Vec<_>, _>>()?)
        })
    }

    /// Ends the session of a token.
    ///
    /// # Errors
    /// The store's failure.
    pub fn remove_session(&self, token: &SecretString) -> Result<(), StoreError> {
        self.write(|transaction| {
            transaction.execute("DELETE FROM session WHERE token_hash = ?1", [token_hash(token)])?;
            Ok(())
        })
    }

    /// Ends the session that is told apart by `id`; only if it is that person's, where one is named.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or the store's failure.
    pub fn end_session(&self, id: &str, person: Option<&str>) -> Result<(), StoreError> {
        let not_found = || StoreError::NotFound { kind: Kind::Session, name: id.to_owned() };
        if id.len() != ID_DIGITS {
            return Err(not_found());
        }
        self.write(|transaction| {
            let ended = transaction.execute(
                "DELETE FROM session WHERE substr(lower(hex(token_hash)), 1, 16) = ?1
                 AND (?2 IS NULL OR person = (SELECT id FROM person WHERE name = ?2))",
                params![id, person],
            )?;
            if ended == 0 { Err(not_found()) } else { Ok(()) }
        })
    }

    /// Replaces a person's password; all their sessions end but the one of `kept`.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or the store's failure.
    pub fn replace_password(
        &self,
        person: &str,
        password_hash: &str,
        kept: &SecretString,
    ) -> Result<(), StoreError> {
        self.write(|transaction| {
            let update = "UPDATE person SET password_hash = ?2 WHERE name = ?1";
            if transaction.execute(update, params![person, password_hash])? == 0 {
                return Err(StoreError::NotFound { kind: Kind::Person, name: person.to_owned() });
            }
            transaction.execute(
                "DELETE FROM session WHERE person = (SELECT id FROM person WHERE name = ?1) AND token_hash <> ?2",
                params![person, token_hash(kept)],
            )?;
            Ok(())
        })
    }
}
