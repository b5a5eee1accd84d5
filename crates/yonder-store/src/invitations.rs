//! Invitations: one-time links for a new person, or for a new password.

use rusqlite::{OptionalExtension as _, Row, params};
use secrecy::SecretString;
use yonder_core::Role;

use crate::error::StoreError;
use crate::people::role;
use crate::record_kind::RecordKind;
use crate::sessions::token_hash;
use crate::store::Store;

/// Open invitation.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Invitation {
    /// Name of the invited person.
    pub name: String,
    /// Role of the invited person.
    pub role: Role,
    /// Name of the inviting person.
    pub made_by: String,
    /// Responsible person; the invitation ends with them. `None` for the local token.
    pub maker: Option<String>,
    /// Expiry, in seconds since 1970.
    pub expires_s: i64,
}

/// An inviting person who has been demoted since cannot pass on more than their present role.
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
    /// Stores an invitation with the hash of its code. It replaces a former one for the same name.
    ///
    /// # Errors
    /// A database error.
    pub fn add_invitation(&self, code: &SecretString, invitation: &Invitation) -> Result<(), StoreError> {
        self.write(|transaction| {
            transaction.execute("DELETE FROM invitation WHERE name = ?1", [&invitation.name])?;
            transaction.execute(
                "INSERT INTO invitation (code_hash, name, role, made_by, expires_s, maker)
                 VALUES (?1, ?2, ?3, ?4, ?5, (SELECT id FROM person WHERE name = ?6))",
                params![
                    token_hash(code),
                    invitation.name,
                    invitation.role.as_str(),
                    invitation.made_by,
                    invitation.expires_s,
                    invitation.maker
                ],
            )?;
            Ok(())
        })
    }

    /// Returns invitations that have not expired, by name.
    ///
    /// # Errors
    /// A database error.
    pub fn invitations(&self, now_s: i64) -> Result<Vec<Invitation>, StoreError> {
        self.read(|connection| {
            let select = format!("{SELECT} WHERE invitation.expires_s > ?1 ORDER BY invitation.name");
            let mut statement = connection.prepare_cached(&select)?;
            Ok(statement.query_map([now_s], invitation)?.collect::<Result<Vec<_>, _>>()?)
        })
    }

    /// Returns the invitation of a code, unless it has expired.
    ///
    /// # Errors
    /// A database error.
    pub fn invitation(&self, code: &SecretString, now_s: i64) -> Result<Option<Invitation>, StoreError> {
        self.read(|connection| {
            let select = format!("{SELECT} WHERE invitation.code_hash = ?1 AND invitation.expires_s > ?2");
            Ok(connection.query_row(&select, params![token_hash(code), now_s], invitation).optional()?)
        })
    }

    /// Removes an invitation.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or a database error.
    pub fn remove_invitation(&self, name: &str) -> Result<(), StoreError> {
        self.write(|transaction| {
            let removed = transaction.execute("DELETE FROM invitation WHERE name = ?1", [name])?;
            if removed == 0 {
                return Err(StoreError::NotFound { kind: RecordKind::Invitation, name: name.to_owned() });
            }
            Ok(())
        })
    }
}
