//! Tokens by which programs use the API. They are kept as hashes only.

use rusqlite::{OptionalExtension as _, Row, params};
use secrecy::SecretString;
use yonder_core::Role;

use crate::error::{Kind, StoreError};
use crate::people::role;
use crate::sessions::token_hash;
use crate::store::{Store, unless_taken};

/// A token that is made.
#[derive(Debug)]
pub struct NewToken<'a> {
    /// Name.
    pub name: &'a str,
    /// Role of the bearer.
    pub role: Role,
    /// The secret.
    pub token: &'a SecretString,
    /// Name of the person who makes it.
    pub made_by: &'a str,
    /// Person who is responsible for that; the token ends with them. `None` for the local token.
    pub maker: Option<&'a str>,
    /// Now, in seconds since 1970.
    pub created_s: i64,
    /// When it is void; never where nothing is said.
    pub expires_s: Option<i64>,
}

/// A token, without the secret.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Token {
    /// Name.
    pub name: String,
    /// Role of the bearer.
    pub role: Role,
    /// Name of the person who made it.
    pub made_by: String,
    /// Person who is responsible for that.
    pub maker: Option<String>,
    /// When, in seconds since 1970.
    pub created_s: i64,
    /// When it is void.
    pub expires_s: Option<i64>,
    /// When it was last used, to the minute.
    pub used_s: Option<i64>,
}

/// A token never allows more than its maker may do at present.
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
    /// Keeps a token.
    ///
    /// # Errors
    /// [`StoreError::NameTaken`], or the store's failure.
    pub fn add_token(&self, new: &NewToken<'_>) -> Result<(), StoreError> {
        self.write(|transaction| {
            let taken = || StoreError::NameTaken { kind: Kind::Token, name: new.name.to_owned() };
            transaction
                .execute(
                    "INSERT INTO token (name, role, token_hash, made_by, created_s, expires_s, maker)
                     VALUES (?1, ?2, ?3, ?4, ?5, ?6, (SELECT id FROM person WHERE name = ?7))",
                    params![
                        new.name,
                        new.role.word(),
                        token_hash(new.token),
                        new.made_by,
                        new.created_s,
                        new.expires_s,
                        new.maker
                    ],
                )
                .map_err(|error| unless_taken(error, taken))?;
            Ok(())
        })
    }

    /// All tokens by name, void ones included.
    ///
    /// # Errors
    /// The store's failure.
    pub fn tokens(&self) -> Result<Vec<Token>, StoreError> {
        self.read(|connection| {
            let mut statement = connection.prepare_cached(&format!("{SELECT} ORDER BY token.name"))?;
            Ok(statement.query_map([], token)?.collect::<Result<Vec<_>, _>>()?)
        })
    }

    /// The token of a secret, unless it is void.
    ///
    /// # Errors
    /// The store's failure.
    pub fn token(&self, secret: &SecretString, now_s: i64) -> Result<Option<Token>, StoreError> {
        self.read(|connection| {
            let select = format!(
                "{SELECT} WHERE token.token_hash = ?1 AND (token.expires_s IS NULL OR token.expires_s > ?2)"
            );
            let mut statement = connection.prepare_cached(&select)?;
            Ok(statement.query_row(params![token_hash(secret), now_s], token).optional()?)
        })
    }

    /// Notes that a token is in use.
    ///
    /// # Errors
    /// The store's failure.
    pub fn touch_token(&self, name: &str, now_s: i64) -> Result<(), StoreError> {
        self.write(|transaction| {
            transaction.execute("UPDATE token SET used_s = ?2 WHERE name = ?1", params![name, now_s])?;
            Ok(())
        })
    }

    /// Removes a token; its bearer is refused from then on.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or the store's failure.
    pub fn remove_token(&self, name: &str) -> Result<(), StoreError> {
        self.write(|transaction| {
            let removed = transaction.execute("DELETE FROM token WHERE name = ?1", [name])?;
            if removed == 0 {
                return Err(StoreError::NotFound { kind: Kind::Token, name: name.to_owned() });
            }
            Ok(())
        })
    }
}
