//! People who may sign in, and their sessions. Tokens are kept as hashes only.

use rusqlite::{OptionalExtension as _, params};
use secrecy::{ExposeSecret as _, SecretString};
use sha2::{Digest as _, Sha256};

use crate::error::{Kind, StoreError};
use crate::store::{Store, unless_taken};

/// A person.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Person {
    /// Row.
    pub id: i64,
    /// Name.
    pub name: String,
    /// Password hash in the PHC string format.
    pub password_hash: String,
}

/// A signed-in session.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Session {
    /// Who it belongs to.
    pub person: String,
    /// Token that changes must carry.
    pub csrf: String,
}

fn token_hash(token: &SecretString) -> Vec<u8> {
    Sha256::digest(token.expose_secret()).to_vec()
}

impl Store {
    /// True once there is anybody who may sign in.
    ///
    /// # Errors
    /// The store's failure.
    pub fn has_people(&self) -> Result<bool, StoreError> {
        self.read(|c| Ok(c.query_row("SELECT EXISTS (SELECT 1 FROM person)", [], |row| row.get(0))?))
    }

    /// Adds a person.
    ///
    /// # Errors
    /// [`StoreError::NameTaken`], or the store's failure.
    pub fn add_person(&self, name: &str, password_hash: &str, now_s: i64) -> Result<(), StoreError> {
        self.write(|transaction| {
            let taken = || StoreError::NameTaken { kind: Kind::Person, name: name.to_owned() };
            transaction
                .execute(
                    "INSERT INTO person (name, password_hash, created_s) VALUES (?1, ?2, ?3)",
                    params![name, password_hash, now_s],
                )
                .map_err(|error| unless_taken(error, taken))?;
            Ok(())
        })
    }

    /// Replaces a person's password; all their sessions end.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or the store's failure.
    pub fn set_password(&self, name: &str, password_hash: &str) -> Result<(), StoreError> {
        let id = self.person(name)?.id;
        self.write(|transaction| {
            transaction
                .execute("UPDATE person SET password_hash = ?2 WHERE id = ?1", params![id, password_hash])?;
            transaction.execute("DELETE FROM session WHERE person = ?1", [id])?;
            Ok(())
        })
    }

    /// The person `name`.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or the store's failure.
    pub fn person(&self, name: &str) -> Result<Person, StoreError> {
        self.read(|connection| {
            connection
                .query_row("SELECT id, name, password_hash FROM person WHERE name = ?1", [name], |row| {
                    Ok(Person { id: row.get(0)?, name: row.get(1)?, password_hash: row.get(2)? })
                })
                .optional()?
                .ok_or_else(|| StoreError::NotFound { kind: Kind::Person, name: name.to_owned() })
        })
    }

    /// Keeps a session, and forgets those that have expired.
    ///
    /// # Errors
    /// The store's failure.
    pub fn add_session(
        &self,
        token: &SecretString,
        person: &Person,
        csrf: &str,
        now_s: i64,
        expires_s: i64,
    ) -> Result<(), StoreError> {
        self.write(|transaction| {
            transaction.execute("DELETE FROM session WHERE expires_s <= ?1", [now_s])?;
            transaction.execute(
                "INSERT INTO session (token_hash, person, csrf, expires_s) VALUES (?1, ?2, ?3, ?4)",
                params![token_hash(token), person.id, csrf, expires_s],
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
            let session = connection
                .prepare_cached(
                    "SELECT person.name, session.csrf FROM session JOIN person ON person.id = session.person
                     WHERE session.token_hash = ?1 AND session.expires_s > ?2",
                )?
                .query_row(params![token_hash(token), now_s], |row| {
                    Ok(Session { person: row.get(0)?, csrf: row.get(1)? })
                })
                .optional()?;
            Ok(session)
        })
    }

    /// Ends a session.
    ///
    /// # Errors
    /// The store's failure.
    pub fn remove_session(&self, token: &SecretString) -> Result<(), StoreError> {
        self.write(|transaction| {
            transaction.execute("DELETE FROM session WHERE token_hash = ?1", [token_hash(token)])?;
            Ok(())
        })
    }
}
