//! Relays, and what should run.

use rusqlite::{Connection, OptionalExtension as _, params};

use crate::error::{Kind, StoreError};
use crate::store::{Store, unless_taken};

/// What a person wants of a relay.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Wanted {
    /// It should run.
    On,
    /// It should not run.
    Off,
    /// It should show its holding picture.
    Hold,
}

impl Wanted {
    /// The word that is kept and shown.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::On => "on",
            Self::Off => "off",
            Self::Hold => "hold",
        }
    }

    fn from_word(word: &str) -> Result<Self, StoreError> {
        match word {
            "on" => Ok(Self::On),
            "off" => Ok(Self::Off),
            "hold" => Ok(Self::Hold),
            _ => Err(StoreError::Damaged("a relay that is wanted in an unknown way")),
        }
    }
}

/// A relay as it is kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Relay {
    /// Name.
    pub name: String,
    /// Name of its feed.
    pub feed: String,
    /// Names of its destinations, in order.
    pub destinations: Vec<String>,
    /// What is wanted.
    pub wanted: Wanted,
    /// When a preflight last let it start, in seconds since 1970; `None` since something about it changed.
    pub cleared_s: Option<i64>,
}

impl Store {
    /// Adds a relay that is off.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] for the feed or a destination, [`StoreError::NameTaken`], or the store's
    /// failure. Nothing is kept then.
    pub fn add_relay(
        &self,
        name: &str,
        feed: &str,
        destinations: &[String],
        now_s: i64,
    ) -> Result<(), StoreError> {
        self.write(|transaction| {
            let feed = self.find_feed(transaction, feed)?.id;
            let taken = || StoreError::NameTaken { kind: Kind::Relay, name: name.to_owned() };
            transaction
                .execute(
                    "INSERT INTO relay (name, feed, wanted, created_s) VALUES (?1, ?2, 'off', ?3)",
                    params![name, feed, now_s],
                )
                .map_err(|error| unless_taken(error, taken))?;
            self.write_destinations(transaction, transaction.last_insert_rowid(), destinations)
        })
    }

    /// Replaces name, feed and destinations of the relay `name`.
    ///
    /// # Errors
    /// As [`Store::add_relay`].
    pub fn edit_relay(&self, name: &str, new: &Relay) -> Result<(), StoreError> {
        self.write(|transaction| {
            let id = relay_id(transaction, name)?;
            let feed = self.find_feed(transaction, &new.feed)?.id;
            let taken = || StoreError::NameTaken { kind: Kind::Relay, name: new.name.clone() };
            transaction
                .execute(
                    "UPDATE relay SET name = ?2, feed = ?3, cleared_s = NULL WHERE id = ?1",
                    params![id, new.name, feed],
                )
                .map_err(|error| unless_taken(error, taken))?;
            transaction.execute("DELETE FROM relay_destination WHERE relay = ?1", [id])?;
            self.write_destinations(transaction, id, &new.destinations)
        })
    }

    /// Keeps what is wanted of the relay `name`.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or the store's failure.
    pub fn set_wanted(&self, name: &str, wanted: Wanted) -> Result<(), StoreError> {
        self.write(|transaction| {
            let id = relay_id(transaction, name)?;
            transaction.execute("UPDATE relay SET wanted = ?2 WHERE id = ?1", params![id, wanted.word()])?;
            Ok(())
        })
    }

    /// Notes that a preflight lets the relay `name` start.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or the store's failure.
    pub fn clear_relay(&self, name: &str, now_s: i64) -> Result<(), StoreError> {
        self.write(|transaction| {
            let id = relay_id(transaction, name)?;
            transaction.execute("UPDATE relay SET cleared_s = ?2 WHERE id = ?1", params![id, now_s])?;
            Ok(())
        })
    }

    /// Removes a relay.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or the store's failure.
    pub fn remove_relay(&self, name: &str) -> Result<(), StoreError> {
        self.write(|transaction| {
            let id = relay_id(transaction, name)?;
            transaction.execute("DELETE FROM relay WHERE id = ?1", [id])?;
            Ok(())
        })
    }

    /// The relay `name`.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or the store's failure.
    pub fn relay(&self, name: &str) -> Result<Relay, StoreError> {
        self.read(|connection| read_relay(connection, relay_id(connection, name)?))
    }

    /// All relays by name.
    ///
    /// # Errors
    /// The store's failure.
    pub fn relays(&self) -> Result<Vec<Relay>, StoreError> {
        self.read(|connection| {
            let ids = connection
                .prepare_cached("SELECT id FROM relay ORDER BY name")?
                .query_map([], |row| row.get(0))?
                .collect::<Result<Vec<i64>, _>>()?;
            ids.into_iter().map(|id| read_relay(connection, id)).collect()
        })
    }

    fn write_destinations(
        &self,
        connection: &Connection,
        relay: i64,
        names: &[String],
    ) -> Result<(), StoreError> {
        for (position, name) in (0_i64..).zip(names) {
            let destination = self.find_destination(connection, name)?.id;
            connection.execute(
                "INSERT INTO relay_destination (relay, position, destination) VALUES (?1, ?2, ?3)",
                params![relay, position, destination],
            )?;
        }
        Ok(())
    }
}

fn relay_id(connection: &Connection, name: &str) -> Result<i64, StoreError> {
    connection
        .query_row("SELECT id FROM relay WHERE name = ?1", [name], |row| row.get(0))
        .optional()?
        .ok_or_else(|| StoreError::NotFound { kind: Kind::Relay, name: name.to_owned() })
}

fn read_relay(connection: &Connection, id: i64) -> Result<Relay, StoreError> {
    let (name, feed, wanted, cleared_s): (String, String, String, Option<i64>) = connection
        .prepare_cached(
            "SELECT relay.name, feed.name, relay.wanted, relay.cleared_s FROM relay JOIN feed ON feed.id = relay.feed
             WHERE relay.id = ?1",
        )?
        .query_row([id], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?, row.get(3)?)))?;
    let destinations = connection
        .prepare_cached(
            "SELECT destination.name FROM relay_destination AS r
             JOIN destination ON destination.id = r.destination WHERE r.relay = ?1 ORDER BY r.position",
        )?
        .query_map([id], |row| row.get(0))?
        .collect::<Result<Vec<String>, _>>()?;
    Ok(Relay { name, feed, destinations, wanted: Wanted::from_word(&wanted)?, cleared_s })
}
