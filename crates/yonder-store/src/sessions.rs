//! Sessions of signed-in people. Only hashes of their tokens are stored.
//!
//! Sessions that cannot be written stay in memory, so that people can sign in and out on a full disk; a restart ends them.

use std::collections::HashSet;

use rusqlite::{Connection, OptionalExtension as _, Row, params};
use secrecy::{ExposeSecret as _, SecretString};
use sha2::{Digest as _, Sha256};
use yonder_core::Role;

use crate::error::StoreError;
use crate::people::{Person, person_named, role};
use crate::record_kind::RecordKind;
use crate::store::Store;
use crate::unsaved::UnsavedSession;

/// Digits of a token's hash that identify a session, too few to guess the token.
const ID_DIGITS: usize = 16;

/// Session to be stored.
#[derive(Debug)]
pub struct NewSession<'a> {
    /// Secret of the cookie.
    pub token: &'a SecretString,
    /// CSRF token, required for changes.
    pub csrf: &'a str,
    /// `User-Agent` of the browser.
    pub agent: &'a str,
    /// Network address of the client.
    pub address: &'a str,
    /// Begin, in seconds since 1970.
    pub begun_s: i64,
    /// Expiry, in seconds since 1970.
    pub expires_s: i64,
}

/// Open session.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Session {
    /// ID.
    pub id: String,
    /// Name of the person.
    pub person: String,
    /// Role.
    pub role: Role,
    /// CSRF token, required for changes.
    pub csrf: String,
    /// `User-Agent` of the browser.
    pub agent: String,
    /// Network address from which it was begun; empty if unknown.
    pub address: String,
    /// Begin, in seconds since 1970.
    pub begun_s: i64,
    /// Last use, to the minute.
    pub seen_s: i64,
    /// Expiry, in seconds since 1970.
    pub expires_s: i64,
}

impl UnsavedSession {
    /// Returns the session, as long as its person exists.
    fn read(&self, connection: &Connection) -> Result<Option<Session>, StoreError> {
        let mut statement = connection.prepare_cached("SELECT name, role FROM person WHERE id = ?1")?;
        let session = |row: &Row<'_>| {
            Ok(Session {
                id: session_id(&self.token_hash),
                person: row.get("name")?,
                role: role(row)?,
                csrf: self.csrf.clone(),
                agent: self.agent.clone(),
                address: self.address.clone(),
                begun_s: self.begun_s,
                seen_s: self.begun_s,
                expires_s: self.expires_s,
            })
        };
        Ok(statement.query_row([self.person], session).optional()?)
    }
}

/// Returns the ID of a session: the first digits of its token hash.
fn session_id(token_hash: &[u8]) -> String {
    hex::encode(token_hash.get(..ID_DIGITS / 2).unwrap_or(token_hash))
}

/// Returns the stored hash of a token.
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
        address: row.get("address")?,
        begun_s: row.get("begun_s")?,
        seen_s: row.get("seen_s")?,
        expires_s: row.get("expires_s")?,
    })
}

impl Store {
    /// Stores a session, and removes expired ones. If the disk fails, it is kept in memory.
    ///
    /// # Errors
    /// A database error other than of the disk.
    pub fn add_session(&self, person: &Person, new: &NewSession<'_>) -> Result<(), StoreError> {
        let stored = self.write(|transaction| {
            transaction.execute("DELETE FROM session WHERE expires_s <= ?1", [new.begun_s])?;
            transaction.execute(
                "INSERT INTO session (token_hash, person, csrf, expires_s, begun_s, seen_s, agent, address)
                 VALUES (?1, ?2, ?3, ?4, ?5, ?5, ?6, ?7)",
                params![
                    token_hash(new.token),
                    person.id,
                    new.csrf,
                    new.expires_s,
                    new.begun_s,
                    new.agent,
                    new.address
                ],
            )?;
            Ok(())
        });
        match stored {
            Err(error) if error.is_of_disk() => {
                tracing::warn!(%error, "a session could not be stored: it ends with the service");
                self.unsaved_sessions.lock().begun.push(UnsavedSession {
                    token_hash: token_hash(new.token),
                    person: person.id,
                    csrf: new.csrf.to_owned(),
                    agent: new.agent.to_owned(),
                    address: new.address.to_owned(),
                    begun_s: new.begun_s,
                    expires_s: new.expires_s,
                });
                Ok(())
            }
            stored => stored,
        }
    }

    /// Returns the session of a token, unless it has expired.
    ///
    /// # Errors
    /// A database error.
    pub fn session(&self, token: &SecretString, now_s: i64) -> Result<Option<Session>, StoreError> {
        let hash = token_hash(token);
        self.read(|connection| {
            let unsaved = self.unsaved_sessions.lock();
            if unsaved.ended.contains(&hash) {
                return Ok(None);
            }
            let begun =
                unsaved.begun.iter().find(|begun| begun.token_hash == hash && begun.expires_s > now_s);
            if let Some(begun) = begun {
                return begun.read(connection);
            }
            drop(unsaved);
            let select = format!("{SELECT} WHERE session.token_hash = ?1 AND session.expires_s > ?2");
            let mut statement = connection.prepare_cached(&select)?;
            Ok(statement.query_row(params![hash, now_s], session).optional()?)
        })
    }

    /// Records the use of a session.
    ///
    /// # Errors
    /// A database error.
    pub fn touch_session(&self, token: &SecretString, now_s: i64) -> Result<(), StoreError> {
        self.write(|transaction| {
            let update = "UPDATE session SET seen_s = ?2 WHERE token_hash = ?1";
            transaction.execute(update, params![token_hash(token), now_s])?;
            Ok(())
        })
    }

    /// Returns open sessions of all people or of one, the last used first.
    ///
    /// # Errors
    /// A database error.
    pub fn sessions(&self, person: Option<&str>, now_s: i64) -> Result<Vec<Session>, StoreError> {
        self.read(|connection| {
            let select = format!(
                "{SELECT} WHERE session.expires_s > ?1 AND (?2 IS NULL OR person.name = ?2)
                 ORDER BY session.seen_s DESC, id"
            );
            let mut statement = connection.prepare_cached(&select)?;
            let stored = statement.query_map(params![now_s, person], session)?;
            let mut all = stored.collect::<Result<Vec<_>, _>>()?;
            let unsaved = self.unsaved_sessions.lock();
            let ended: HashSet<String> = unsaved.ended.iter().map(|hash| session_id(hash)).collect();
            all.retain(|session| !ended.contains(&session.id));
            for begun in unsaved.begun.iter().filter(|begun| begun.expires_s > now_s) {
                all.extend(
                    begun.read(connection)?.filter(|known| person.is_none_or(|name| name == known.person)),
                );
            }
            Ok(all)
        })
    }

    /// Ends the session of a token, even if the disk fails.
    ///
    /// # Errors
    /// A database error other than of the disk.
    pub fn remove_session(&self, token: &SecretString) -> Result<(), StoreError> {
        let hash = token_hash(token);
        self.unsaved_sessions.lock().begun.retain(|begun| begun.token_hash != hash);
        let removed = self.write(|transaction| {
            transaction.execute("DELETE FROM session WHERE token_hash = ?1", [&hash])?;
            Ok(())
        });
        match removed {
            Err(error) if error.is_of_disk() => {
                self.unsaved_sessions.lock().ended.insert(hash);
                Ok(())
            }
            removed => removed,
        }
    }

    /// Ends the session with this ID, optionally only if it belongs to `person`.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or a database error.
    pub fn end_session(&self, id: &str, person: Option<&str>) -> Result<(), StoreError> {
        let not_found = || StoreError::NotFound { kind: RecordKind::Session, name: id.to_owned() };
        if id.len() != ID_DIGITS {
            return Err(not_found());
        }
        if self.end_unsaved_session(id, person)? {
            return Ok(());
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

    /// Ends a session that is only in memory; false if there is none.
    fn end_unsaved_session(&self, id: &str, person: Option<&str>) -> Result<bool, StoreError> {
        self.read(|connection| {
            let mut unsaved = self.unsaved_sessions.lock();
            let at = unsaved.begun.iter().position(|begun| session_id(&begun.token_hash) == id);
            let Some((at, begun)) = at.and_then(|at| Some((at, unsaved.begun.get(at)?))) else {
                return Ok(false);
            };
            let known = begun.read(connection)?;
            let is_theirs = known.is_some_and(|known| person.is_none_or(|name| name == known.person));
            if is_theirs {
                unsaved.begun.remove(at);
            }
            Ok(is_theirs)
        })
    }

    /// Replaces a person's password, and ends all their sessions except `kept`.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or a database error.
    pub fn replace_password(
        &self,
        person: &str,
        password_hash: &str,
        kept: &SecretString,
    ) -> Result<(), StoreError> {
        self.write(|transaction| {
            let id = person_named(transaction, person)?.id;
            let current_hash = token_hash(kept);
            let remains = |begun: &UnsavedSession| begun.person != id || begun.token_hash == current_hash;
            self.unsaved_sessions.lock().begun.retain(remains);
            let update = "UPDATE person SET password_hash = ?2 WHERE name = ?1";
            transaction.execute(update, params![person, password_hash])?;
            transaction.execute(
                "DELETE FROM session WHERE person = (SELECT id FROM person WHERE name = ?1) AND token_hash <> ?2",
                params![person, token_hash(kept)],
            )?;
            Ok(())
        })
    }
}

impl Store {
    /// Ends the sessions of a person that are only in memory.
    pub(crate) fn end_unsaved_sessions_of(&self, person: i64) {
        self.unsaved_sessions.lock().begun.retain(|begun| begun.person != person);
    }
}
