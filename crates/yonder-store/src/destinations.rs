//! Destinations and their stream keys.

use rusqlite::{Connection, OptionalExtension as _, Row, params};
use secrecy::SecretString;

use crate::error::{Kind, StoreError};
use crate::store::{Store, unless_taken};

/// A destination as it is to be kept.
#[derive(Debug, Clone)]
pub struct NewDestination {
    /// Name.
    pub name: String,
    /// Server address, without the key.
    pub server: String,
    /// Name of its platform.
    pub platform: Option<String>,
    /// Stream key.
    pub key: SecretString,
}

/// A destination as it is kept.
#[derive(Debug, Clone)]
pub struct Destination {
    /// Row.
    pub id: i64,
    /// Its values.
    pub values: NewDestination,
    /// When the key was last set, in seconds since 1970.
    pub key_set_s: i64,
    /// When it was made, in seconds since 1970.
    pub created_s: i64,
}

fn label(id: i64) -> String {
    format!("destination-key:{id}")
}

impl Store {
    /// Adds a destination.
    ///
    /// # Errors
    /// [`StoreError::NameTaken`], or the store's failure.
    pub fn add_destination(&self, destination: &NewDestination, now_s: i64) -> Result<(), StoreError> {
        let NewDestination { name, server, platform, key } = destination;
        self.write(|transaction| {
            let taken = || StoreError::NameTaken { kind: Kind::Destination, name: name.clone() };
            // The key is sealed to its row, whose number is known only now.
            transaction
                .execute(
                    "INSERT INTO destination (name, server, platform, key, key_set_s, created_s)
                     VALUES (?1, ?2, ?3, x'', ?4, ?4)",
                    params![name, server, platform, now_s],
                )
                .map_err(|error| unless_taken(error, taken))?;
            self.write_key(transaction, transaction.last_insert_rowid(), key, now_s)
        })
    }

    /// Replaces name, server and platform of the destination `name`. Its key stays.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], [`StoreError::NameTaken`], or the store's failure.
    pub fn edit_destination(
        &self,
        name: &str,
        new_name: &str,
        server: &str,
        platform: Option<&str>,
    ) -> Result<(), StoreError> {
        self.write(|transaction| {
            let id = self.find_destination(transaction, name)?.id;
            let taken = || StoreError::NameTaken { kind: Kind::Destination, name: new_name.to_owned() };
            transaction
                .execute(
                    "UPDATE destination SET name = ?2, server = ?3, platform = ?4 WHERE id = ?1",
                    params![id, new_name, server, platform],
                )
                .map_err(|error| unless_taken(error, taken))?;
            Ok(())
        })
    }

    /// Gives the destination `name` a new key; the old one is forgotten.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or the store's failure.
    pub fn rekey_destination(&self, name: &str, key: &SecretString, now_s: i64) -> Result<(), StoreError> {
        self.write(|transaction| {
            let id = self.find_destination(transaction, name)?.id;
            self.write_key(transaction, id, key, now_s)
        })
    }

    /// Removes a destination that no relay uses.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], [`StoreError::InUse`], or the store's failure.
    pub fn remove_destination(&self, name: &str) -> Result<(), StoreError> {
        self.write(|transaction| {
            let destination = self.find_destination(transaction, name)?;
            let relays = relays_using(transaction, destination.id)?;
            if !relays.is_empty() {
                let name = destination.values.name;
                return Err(StoreError::InUse { kind: Kind::Destination, name, relays });
            }
            transaction.execute("DELETE FROM destination WHERE id = ?1", [destination.id])?;
            Ok(())
        })
    }

    /// The destination `name`.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or the store's failure.
    pub fn destination(&self, name: &str) -> Result<Destination, StoreError> {
        self.read(|connection| self.find_destination(connection, name))
    }

    /// All destinations by name.
    ///
    /// # Errors
    /// The store's failure.
    pub fn destinations(&self) -> Result<Vec<Destination>, StoreError> {
        self.read(|connection| {
            let mut statement = connection.prepare_cached("SELECT * FROM destination ORDER BY name")?;
            let rows = statement.query_map([], DestinationRow::read)?.collect::<Result<Vec<_>, _>>()?;
            rows.into_iter().map(|row| self.open_destination(row)).collect()
        })
    }

    /// Names of the relays that push to the destination `name`.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or the store's failure.
    pub fn relays_to(&self, name: &str) -> Result<Vec<String>, StoreError> {
        self.read(|connection| relays_using(connection, self.find_destination(connection, name)?.id))
    }

    pub(crate) fn find_destination(
        &self,
        connection: &Connection,
        name: &str,
    ) -> Result<Destination, StoreError> {
        let row = connection
            .prepare_cached("SELECT * FROM destination WHERE name = ?1")?
            .query_row([name], DestinationRow::read)
            .optional()?
            .ok_or_else(|| StoreError::NotFound { kind: Kind::Destination, name: name.to_owned() })?;
        self.open_destination(row)
    }

    fn write_key(
        &self,
        connection: &Connection,
        id: i64,
        key: &SecretString,
        now_s: i64,
    ) -> Result<(), StoreError> {
        let sealed = self.master_key.seal(key, &label(id))?;
        connection.execute(
            "UPDATE destination SET key = ?2, key_set_s = ?3 WHERE id = ?1",
            params![id, sealed, now_s],
        )?;
        Ok(())
    }

    fn open_destination(&self, row: DestinationRow) -> Result<Destination, StoreError> {
        let DestinationRow { id, name, server, platform, key, key_set_s, created_s } = row;
        let key = self.master_key.open(&key, &label(id))?;
        Ok(Destination { id, values: NewDestination { name, server, platform, key }, key_set_s, created_s })
    }
}

fn relays_using(connection: &Connection, destination: i64) -> Result<Vec<String>, StoreError> {
    let relays = connection
        .prepare(
            "SELECT relay.name FROM relay JOIN relay_destination AS r ON r.relay = relay.id
             WHERE r.destination = ?1 ORDER BY relay.name",
        )?
        .query_map([destination], |row| row.get(0))?
        .collect::<Result<Vec<String>, _>>()?;
    Ok(relays)
}

struct DestinationRow {
    id: i64,
    name: String,
    server: String,
    platform: Option<String>,
    key: Vec<u8>,
    key_set_s: i64,
    created_s: i64,
}

impl DestinationRow {
    fn read(row: &Row<'_>) -> rusqlite::Result<Self> {
        Ok(Self {
            id: row.get("id")?,
            name: row.get("name")?,
            server: row.get("server")?,
            platform: row.get("platform")?,
            key: row.get("key")?,
            key_set_s: row.get("key_set_s")?,
            created_s: row.get("created_s")?,
        })
    }
}
