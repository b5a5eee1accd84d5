//! People who may sign in.

use rusqlite::{Connection, OptionalExtension as _, Row, params};
use yonder_core::Role;

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
    /// Role.
    pub role: Role,
    /// When they came, in seconds since 1970.
    pub created_s: i64,
}

/// The role of a column.
pub(crate) fn role(row: &Row<'_>) -> rusqlite::Result<Role> {
    // The schema knows no other words.
    Ok(Role::from_word(&row.get::<_, String>("role")?).unwrap_or(Role::Viewer))
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
        .ok_or_else(|| StoreError::NotFound { kind: Kind::Person, name: name.to_owned() })
}

/// Refuses what would leave nobody who may change everything.
fn check_admins(connection: &Connection, name: &str) -> Result<(), StoreError> {
    let admins: i64 =
        connection.query_row("SELECT COUNT(*) FROM person WHERE role = 'admin'", [], |row| row.get(0))?;
    if admins == 0 { Err(StoreError::LastAdmin(name.to_owned())) } else { Ok(()) }
}

impl Store {
    /// True once there is anybody who may sign in.
    ///
    /// # Errors
    /// The store's failure.
    pub fn has_people(&self) -> Result<bool, StoreError> {
        self.read(|c| Ok(c.query_row("SELECT EXISTS (SELECT 1 FROM person)", [], |row| row.get(0))?))
    }

    /// Everybody who may sign in, by name.
    ///
    /// # Errors
    /// The store's failure.
    pub fn people(&self) -> Result<Vec<Person>, StoreError> {
        self.read(|connection| {
            let mut statement = connection.prepare_cached("SELECT * FROM person ORDER BY name")?;
            Ok(statement.query_map([], person)?.collect::<Result<Vec<_>, _>>()?)
        })
    }

    /// Adds a person.
    ///
    /// # Errors
    /// [`StoreError::NameTaken`], or the store's failure.
    pub fn add_person(
        &self,
        name: &str,
        password_hash: &str,
        role: Role,
        now_s: i64,
    ) -> Result<(), StoreError> {
        self.write(|transaction| {
            let taken = || StoreError::NameTaken { kind: Kind::Person, name: name.to_owned() };
            transaction
                .execute(
                    "INSERT INTO person (name, password_hash, role, created_s) VALUES (?1, ?2, ?3, ?4)",
                    params![name, password_hash, role.word(), now_s],
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
        self.write(|transaction| {
            let id = person_named(transaction, name)?.id;
            transaction
                .execute("UPDATE person SET password_hash = ?2 WHERE id = ?1", params![id, password_hash])?;
            transaction.execute("DELETE FROM session WHERE person = ?1", [id])?;
            self.end_unsaved_sessions_of(id);
            Ok(())
        })
    }

    /// Gives a person another role, from their next request on.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], [`StoreError::LastAdmin`], or the store's failure.
    pub fn set_role(&self, name: &str, role: Role) -> Result<(), StoreError> {
        self.write(|transaction| {
            let id = person_named(transaction, name)?.id;
            transaction.execute("UPDATE person SET role = ?2 WHERE id = ?1", params![id, role.word()])?;
            check_admins(transaction, name)
        })
    }

    /// Removes a person; their sessions end.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], [`StoreError::LastAdmin`], or the store's failure.
    pub fn remove_person(&self, name: &str) -> Result<(), StoreError> {
        self.write(|transaction| {
            let id = person_named(transaction, name)?.id;
            transaction.execute("DELETE FROM person WHERE id = ?1", [id])?;
            check_admins(transaction, name)?;
            self.end_unsaved_sessions_of(id);
            Ok(())
        })
    }

    /// The person `name`.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or the store's failure.
    pub fn person(&self, name: &str) -> Result<Person, StoreError> {
        self.read(|connection| person_named(connection, name))
    }
}
