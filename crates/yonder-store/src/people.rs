//! People with access to the service.

use rusqlite::{Connection, OptionalExtension as _, Row, params};
use yonder_core::Role;

use crate::error::StoreError;
use crate::record_kind::RecordKind;
use crate::store::{Store, map_unique_violation};

/// A person.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Person {
    /// Row ID.
    pub id: i64,
    /// Name.
    pub name: String,
    /// Password hash in the PHC string format.
    pub password_hash: String,
    /// Role.
    pub role: Role,
    /// Creation time, in seconds since 1970.
    pub created_s: i64,
}

/// Returns the role of a column.
pub(crate) fn role(row: &Row<'_>) -> rusqlite::Result<Role> {
    // The schema allows no other values.
    Ok(Role::from_name(&row.get::<_, String>("role")?).unwrap_or(Role::Viewer))
}

fn person(row: &Row<'_>) -> rusqlite::Result<Person> {
    Ok(Person {
        id: row.get("id")?,
        name: row.get("name")?,
        password_hash: row.get("password_hash")?,
        role: role(row)?,
        created_s: row.get("created_s")?,
    })
}

pub(crate) fn person_named(connection: &Connection, name: &str) -> Result<Person, StoreError> {
    connection
        .query_row("SELECT * FROM person WHERE name = ?1", [name], person)
        .optional()?
        .ok_or_else(|| StoreError::NotFound { kind: RecordKind::Person, name: name.to_owned() })
}

/// Checks that an admin remains.
fn check_admins(connection: &Connection, name: &str) -> Result<(), StoreError> {
    let admins: i64 =
        connection.query_row("SELECT COUNT(*) FROM person WHERE role = 'admin'", [], |row| row.get(0))?;
    if admins == 0 { Err(StoreError::LastAdmin(name.to_owned())) } else { Ok(()) }
}

impl Store {
    /// Returns true if there is at least one person.
    ///
    /// # Errors
    /// A database error.
    pub fn has_people(&self) -> Result<bool, StoreError> {
        self.read(|c| Ok(c.query_row("SELECT EXISTS (SELECT 1 FROM person)", [], |row| row.get(0))?))
    }

    /// Returns all people, by name.
    ///
    /// # Errors
    /// A database error.
    pub fn people(&self) -> Result<Vec<Person>, StoreError> {
        self.read(|connection| {
            let mut statement = connection.prepare_cached("SELECT * FROM person ORDER BY name")?;
            Ok(statement.query_map([], person)?.collect::<Result<Vec<_>, _>>()?)
        })
    }

    /// Adds a person.
    ///
    /// # Errors
    /// [`StoreError::NameTaken`], or a database error.
    pub fn add_person(
        &self,
        name: &str,
        password_hash: &str,
        role: Role,
        now_s: i64,
    ) -> Result<(), StoreError> {
        self.write(|transaction| {
            let name_taken = || StoreError::NameTaken { kind: RecordKind::Person, name: name.to_owned() };
            transaction
                .execute(
                    "INSERT INTO person (name, password_hash, role, created_s) VALUES (?1, ?2, ?3, ?4)",
                    params![name, password_hash, role.as_str(), now_s],
                )
                .map_err(|error| map_unique_violation(error, name_taken))?;
            Ok(())
        })
    }

    /// Replaces a person's password, and ends all their sessions.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or a database error.
    pub fn set_password(&self, name: &str, password_hash: &str) -> Result<(), StoreError> {
        self.write(|transaction| {
            let id = person_named(transaction, name)?.id;
            transaction
                .execute("UPDATE person SET password_hash = ?2 WHERE id = ?1", params![id, password_hash])?;
            transaction.execute("DELETE FROM session WHERE person = ?1", [id])?;
            self.end_unsaved_sessions_of(id);
            Ok(())
        })
    }

    /// Changes the role of a person, from their next request on.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], [`StoreError::LastAdmin`], or a database error.
    pub fn set_role(&self, name: &str, role: Role) -> Result<(), StoreError> {
        self.write(|transaction| {
            let id = person_named(transaction, name)?.id;
            transaction.execute("UPDATE person SET role = ?2 WHERE id = ?1", params![id, role.as_str()])?;
            check_admins(transaction, name)
        })
    }

    /// Removes a person, and ends their sessions.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], [`StoreError::LastAdmin`], or a database error.
    pub fn remove_person(&self, name: &str) -> Result<(), StoreError> {
        self.write(|transaction| {
            let id = person_named(transaction, name)?.id;
            transaction.execute("DELETE FROM person WHERE id = ?1", [id])?;
            check_admins(transaction, name)?;
            self.end_unsaved_sessions_of(id);
            Ok(())
        })
    }

    /// Returns the person `name`.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or a database error.
    pub fn person(&self, name: &str) -> Result<Person, StoreError> {
        self.read(|connection| person_named(connection, name))
    }
}
