//! API tokens. Only their hashes are stored.

use rusqlite::{OptionalExtension as _, Row, params};
use secrecy::SecretString;
use yonder_core::Role;

use crate::error::StoreError;
use crate::people::role;
use crate::record_kind::RecordKind;
use crate::sessions::token_hash;
use crate::store::{Store, map_unique_violation};

/// Token to be stored.
#[derive(Debug)]
pub struct NewToken<'a> {
    /// Name.
    pub name: &'a str,
    /// Role of the bearer.
    pub role: Role,
    /// Secret.
    pub token: &'a SecretString,
    /// Name of the person who created it.
    pub made_by: &'a str,
    /// Responsible person; the token ends with them. `None` for the local token.
    pub maker: Option<&'a str>,
    /// Creation time, in seconds since 1970.
    pub created_s: i64,
    /// Expiry; `None` for never.
    pub expires_s: Option<i64>,
}

/// Stored token, without its secret.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Token {
    /// Name.
    pub name: String,
    /// Role of the bearer.
    pub role: Role,
    /// Name of the person who created it.
    pub made_by: String,
    /// Responsible person.
    pub maker: Option<String>,
    /// Creation time, in seconds since 1970.
    pub created_s: i64,
    /// Expiry.
    pub expires_s: Option<i64>,
    /// Last use, to the minute.
    pub used_s: Option<i64>,
}

/// A token never allows more than the present role of its creator.
const SELECT: &str =
    "SELECT token.name AS name, made_by, token.created_s AS created_s, token.expires_s AS expires_s, used_s,
        person.name AS maker_name,
        CASE WHEN person.role = 'viewer' OR (person.role = 'operator' AND token.role = 'admin')
            THEN person.role ELSE token.role END AS role
    FROM token LEFT JOIN person ON person.id = token.maker";

fn token(row: &Row<'_>) -> rusqlite::Result<Token> {
    Ok(Token {
        name: row.get("name")?,
        role: role(row)?,
        made_by: row.get("made_by")?,
        maker: row.get("maker_name")?,
        created_s: row.get("created_s")?,
        expires_s: row.get("expires_s")?,
        used_s: row.get("used_s")?,
    })
}

impl Store {
    /// Stores a token.
    ///
    /// # Errors
    /// [`StoreError::NameTaken`], or a database error.
    pub fn add_token(&self, new: &NewToken<'_>) -> Result<(), StoreError> {
        self.write(|transaction| {
            let name_taken = || StoreError::NameTaken { kind: RecordKind::Token, name: new.name.to_owned() };
            transaction
                .execute(
                    "INSERT INTO token (name, role, token_hash, made_by, created_s, expires_s, maker)
                     VALUES (?1, ?2, ?3, ?4, ?5, ?6, (SELECT id FROM person WHERE name = ?7))",
                    params![
                        new.name,
                        new.role.as_str(),
                        token_hash(new.token),
                        new.made_by,
                        new.created_s,
                        new.expires_s,
                        new.maker
                    ],
                )
                .map_err(|error| map_unique_violation(error, name_taken))?;
            Ok(())
        })
    }

    /// Returns all tokens by name, including expired ones.
    ///
    /// # Errors
    /// A database error.
    pub fn tokens(&self) -> Result<Vec<Token>, StoreError> {
        self.read(|connection| {
            let mut statement = connection.prepare_cached(&format!("{SELECT} ORDER BY token.name"))?;
            Ok(statement.query_map([], token)?.collect::<Result<Vec<_>, _>>()?)
        })
    }

    /// Returns the token of a secret, unless it has expired.
    ///
    /// # Errors
    /// A database error.
    pub fn token(&self, secret: &SecretString, now_s: i64) -> Result<Option<Token>, StoreError> {
        self.read(|connection| {
            let select = format!(
                "{SELECT} WHERE token.token_hash = ?1 AND (token.expires_s IS NULL OR token.expires_s > ?2)"
            );
            let mut statement = connection.prepare_cached(&select)?;
            Ok(statement.query_row(params![token_hash(secret), now_s], token).optional()?)
        })
    }

    /// Records the use of a token.
    ///
    /// # Errors
    /// A database error.
    pub fn touch_token(&self, name: &str, now_s: i64) -> Result<(), StoreError> {
        self.write(|transaction| {
            transaction.execute("UPDATE token SET used_s = ?2 WHERE name = ?1", params![name, now_s])?;
            Ok(())
        })
    }

    /// Revokes a token.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or a database error.
    pub fn remove_token(&self, name: &str) -> Result<(), StoreError> {
        self.write(|transaction| {
            let removed = transaction.execute("DELETE FROM token WHERE name = ?1", [name])?;
            if removed == 0 {
                return Err(StoreError::NotFound { kind: RecordKind::Token, name: name.to_owned() });
            }
            Ok(())
        })
    }
}
