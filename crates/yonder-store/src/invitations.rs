//! Invitations: one-time links by which somebody becomes a person who may sign in, or gets a new password.

use rusqlite::{OptionalExtension as _, Row, params};
use secrecy::SecretString;
use yonder_core::Role;

use crate::error::{Kind, StoreError};
use crate::people::role;
use crate::sessions::token_hash;
use crate::store::Store;

/// An invitation that nobody has taken up yet.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Invitation {
    /// Name of the invited person.
    pub name: String,
    /// Role of the invited person.
    pub role: Role,
    /// Name of the inviting person.
    pub made_by: String,
    /// Person who is responsible for that; the invitation ends with them. `None` for the local token.
    pub maker: Option<String>,
    /// When it is void, in seconds since 1970.
    pub expires_s: i64,
}

/// A maker who was given a lesser role since cannot pass on more than they have.
const SELECT: &str =
    "SELECT invitation.name AS name, made_by, invitation.expires_s AS expires_s, person.name AS maker_name,
        CASE WHEN person.role = 'viewer' OR (person.role = 'operator' AND invitation.role = 'admin')
            THEN person.role ELSE invitation.role END AS role
    FROM invitation LEFT JOIN person ON person.id = invitation.maker";

fn invitation(row: &Row<'_>) -> rusqlite::Result<Invitation> {
    Ok(Invitation {
        name: row.get("name")?,
        role: role(row)?,
        made_by: row.get("made_by")?,
        maker: row.get("maker_name")?,
        expires_s: row.get("expires_s")?,
    })
}

impl Store {
    /// Keeps an invitation under the hash of its code. A former one for the same name is void.
    ///
    /// # Errors
    /// The store's failure.
    pub fn add_invitation(&self, code: &SecretString, invitation: &Invitation) -> Result<(), StoreError> {
        self.write(|transaction| {
            transaction.execute("DELETE FROM invitation WHERE name = ?1", [&invitation.name])?;
            transaction.execute(
                "INSERT INTO invitation (code_hash, name, role, made_by, expires_s, maker)
                 VALUES (?1, ?2, ?3, ?4, ?5, (SELECT id FROM person WHERE name = ?6))",
                params![
                    token_hash(code),
                    invitation.name,
                    invitation.role.word(),
                    invitation.made_by,
                    invitation.expires_s,
                    invitation.maker
                ],
            )?;
            Ok(())
        })
    }

    /// Invitations that are not void, by name.
    ///
    /// # Errors
    /// The store's failure.
    pub fn invitations(&self, now_s: i64) -> Result<Vec<Invitation>, StoreError> {
        self.read(|connection| {
            let select = format!("{SELECT} WHERE invitation.expires_s > ?1 ORDER BY invitation.name");
            let mut statement = connection.prepare_cached(&select)?;
            Ok(statement.query_map([now_s], invitation)?.collect::<Result<Vec<_>, _>>()?)
        })
    }

    /// The invitation of a code, unless it is void.
    ///
    /// # Errors
    /// The store's failure.
    pub fn invitation(&self, code: &SecretString, now_s: i64) -> Result<Option<Invitation>, StoreError> {
        self.read(|connection| {
            let select = format!("{SELECT} WHERE invitation.code_hash = ?1 AND invitation.expires_s > ?2");
            Ok(connection.query_row(&select, params![token_hash(code), now_s], invitation).optional()?)
        })
    }

    /// Takes an invitation back, or uses it up.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or the store's failure.
    pub fn remove_invitation(&self, name: &str) -> Result<(), StoreError> {
        self.write(|transaction| {
            let removed = transaction.execute("DELETE FROM invitation WHERE name = ?1", [name])?;
            if removed == 0 {
                return Err(StoreError::NotFound { kind: Kind::Invitation, name: name.to_owned() });
            }
            Ok(())
        })
    }
}
