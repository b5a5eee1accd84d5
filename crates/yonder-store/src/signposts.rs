//! Signposts: stable public links to the picture of a relay.

use std::collections::HashMap;

use rusqlite::{Connection, OptionalExtension as _, Row, params};

use crate::error::StoreError;
use crate::record_kind::RecordKind;
use crate::store::{Store, map_unique_violation};
use crate::subjects::follow_rename;

/// Stored signpost.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Signpost {
    /// Alias in the address.
    pub name: String,
    /// Title of its pages.
    pub title: String,
    /// Name of the relay.
    pub relay: String,
    /// The page plays the picture itself.
    pub has_player: bool,
    /// Destinations whose watch pages it leads to, the preferred one first; empty for all of the relay.
    pub to: Vec<String>,
    /// Its pages show nothing.
    pub is_paused: bool,
    /// Search engines are asked not to list it.
    pub is_unlisted: bool,
    /// It has a status page.
    pub has_status_page: bool,
    /// Maximum viewers at a time.
    pub max_viewers: i64,
    /// Maximum bytes to viewers in a day.
    pub daily_bytes: Option<i64>,
}

/// Traffic of a signpost.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct SignpostTraffic {
    /// Bytes that viewers have received.
    pub bytes: u64,
    /// Viewers.
    pub viewers: u64,
}

const SELECT: &str =
    "SELECT signpost.*, relay.name AS relay_name FROM signpost JOIN relay ON relay.id = signpost.relay";

impl Store {
    /// Adds a signpost.
    ///
    /// # Errors
    /// [`StoreError::NameTaken`], [`StoreError::NotFound`] for its relay or a destination, or a database error.
    pub fn add_signpost(&self, signpost: &Signpost, now_s: i64) -> Result<(), StoreError> {
        self.write(|transaction| {
            let relay = id_of(transaction, RecordKind::Relay, &signpost.relay)?;
            transaction
                .execute(
                    "INSERT INTO signpost (name, title, relay, player, paused, unlisted, status_page, max_viewers,
                     daily_bytes, created_s) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10)",
                    params![
                        signpost.name,
                        signpost.title,
                        relay,
                        signpost.has_player,
                        signpost.is_paused,
                        signpost.is_unlisted,
                        signpost.has_status_page,
                        signpost.max_viewers,
                        signpost.daily_bytes,
                        now_s
                    ],
                )
                .map_err(|error| map_unique_violation(error, || name_taken(&signpost.name)))?;
            set_destinations(transaction, transaction.last_insert_rowid(), &signpost.to)
        })
    }

    /// Replaces the signpost `name`, including its name.
    ///
    /// # Errors
    /// As [`Store::add_signpost`].
    pub fn edit_signpost(&self, name: &str, signpost: &Signpost) -> Result<(), StoreError> {
        self.write(|transaction| {
            let id = id_of(transaction, RecordKind::Signpost, name)?;
            let relay = id_of(transaction, RecordKind::Relay, &signpost.relay)?;
            transaction
                .execute(
                    "UPDATE signpost SET name = ?2, title = ?3, relay = ?4, player = ?5, paused = ?6, unlisted = ?7,
                     status_page = ?8, max_viewers = ?9, daily_bytes = ?10 WHERE id = ?1",
                    params![
                        id,
                        signpost.name,
                        signpost.title,
                        relay,
                        signpost.has_player,
                        signpost.is_paused,
                        signpost.is_unlisted,
                        signpost.has_status_page,
                        signpost.max_viewers,
                        signpost.daily_bytes
                    ],
                )
                .map_err(|error| map_unique_violation(error, || name_taken(&signpost.name)))?;
            set_destinations(transaction, id, &signpost.to)?;
            follow_rename(transaction, RecordKind::Signpost, name, &signpost.name)
        })
    }

    /// Removes a signpost.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or a database error.
    pub fn remove_signpost(&self, name: &str) -> Result<(), StoreError> {
        self.write(|transaction| {
            match transaction.execute("DELETE FROM signpost WHERE name = ?1", [name])? {
                0 => Err(not_found(RecordKind::Signpost, name)),
                _ => Ok(()),
            }
        })
    }

    /// Returns the signpost `name`.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or a database error.
    pub fn signpost(&self, name: &str) -> Result<Signpost, StoreError> {
        self.read(|connection| {
            let select = format!("{SELECT} WHERE signpost.name = ?1");
            let found = connection.prepare_cached(&select)?.query_row([name], read).optional()?;
            let (id, signpost) = found.ok_or_else(|| not_found(RecordKind::Signpost, name))?;
            Ok(Signpost { to: destinations_of(connection, id)?, ..signpost })
        })
    }

    /// Adds to a day's traffic of signposts, by name; names without a signpost are ignored. Days are written like `2026-11-23`.
    ///
    /// # Errors
    /// A database error.
    pub fn add_signpost_traffic(
        &self,
        day: &str,
        traffic: &[(String, SignpostTraffic)],
    ) -> Result<(), StoreError> {
        self.write(|transaction| {
            let mut statement = transaction.prepare_cached(
                "INSERT INTO signpost_traffic (day, signpost, bytes, viewers)
                 SELECT ?1, id, ?3, ?4 FROM signpost WHERE name = ?2
                 ON CONFLICT (day, signpost) DO UPDATE SET bytes = bytes + ?3, viewers = viewers + ?4",
            )?;
            for (name, SignpostTraffic { bytes, viewers }) in traffic {
                statement.execute(params![day, name, signed(*bytes), signed(*viewers)])?;
            }
            Ok(())
        })
    }

    /// Returns the traffic of all signposts in the days from `first` to `last`, by name.
    ///
    /// # Errors
    /// A database error.
    pub fn signpost_traffic(
        &self,
        first: &str,
        last: &str,
    ) -> Result<HashMap<String, SignpostTraffic>, StoreError> {
        self.read(|connection| {
            let mut statement = connection.prepare_cached(
                "SELECT name, SUM(bytes), SUM(viewers) FROM signpost_traffic
                 JOIN signpost ON signpost.id = signpost WHERE day BETWEEN ?1 AND ?2 GROUP BY signpost",
            )?;
            let read = |row: &Row<'_>| {
                let (bytes, viewers) = (row.get::<_, i64>(1)?, row.get::<_, i64>(2)?);
                let unsigned = |number| u64::try_from(number).unwrap_or_default();
                Ok((row.get(0)?, SignpostTraffic { bytes: unsigned(bytes), viewers: unsigned(viewers) }))
            };
            Ok(statement.query_map([first, last], read)?.collect::<Result<_, _>>()?)
        })
    }

    /// Returns true if a signpost that is not paused plays the picture of the relay `name`.
    ///
    /// # Errors
    /// A database error.
    pub fn has_player(&self, relay: &str) -> Result<bool, StoreError> {
        self.read(|connection| {
            let select = "SELECT EXISTS (SELECT 1 FROM signpost JOIN relay ON relay.id = signpost.relay
                WHERE relay.name = ?1 AND player AND NOT paused)";
            Ok(connection.prepare_cached(select)?.query_row([relay], |row| row.get(0))?)
        })
    }

    /// Returns all signposts by name.
    ///
    /// # Errors
    /// A database error.
    pub fn signposts(&self) -> Result<Vec<Signpost>, StoreError> {
        self.read(|connection| {
            let select = format!("{SELECT} ORDER BY signpost.name");
            let mut statement = connection.prepare_cached(&select)?;
            let rows = statement.query_map([], read)?.collect::<Result<Vec<_>, _>>()?;
            let complete = |(id, signpost)| Ok(Signpost { to: destinations_of(connection, id)?, ..signpost });
            rows.into_iter().map(complete).collect()
        })
    }
}

/// Returns the names of the signposts of a relay.
pub(crate) fn signposts_of(connection: &Connection, relay: i64) -> Result<Vec<String>, StoreError> {
    let mut statement =
        connection.prepare_cached("SELECT name FROM signpost WHERE relay = ?1 ORDER BY name")?;
    Ok(statement.query_map([relay], |row| row.get(0))?.collect::<Result<Vec<String>, _>>()?)
}

fn destinations_of(connection: &Connection, signpost: i64) -> Result<Vec<String>, StoreError> {
    let mut statement = connection.prepare_cached(
        "SELECT destination.name FROM destination
         JOIN signpost_destination AS s ON s.destination = destination.id WHERE s.signpost = ?1 ORDER BY s.position",
    )?;
    Ok(statement.query_map([signpost], |row| row.get(0))?.collect::<Result<Vec<String>, _>>()?)
}

/// Replaces the destinations that a signpost leads to.
fn set_destinations(connection: &Connection, signpost: i64, names: &[String]) -> Result<(), StoreError> {
    connection.execute("DELETE FROM signpost_destination WHERE signpost = ?1", [signpost])?;
    for (position, name) in (0_i64..).zip(names) {
        let destination = id_of(connection, RecordKind::Destination, name)?;
        connection.execute(
            "INSERT INTO signpost_destination (signpost, position, destination) VALUES (?1, ?2, ?3)",
            params![signpost, position, destination],
        )?;
    }
    Ok(())
}

fn id_of(connection: &Connection, kind: RecordKind, name: &str) -> Result<i64, StoreError> {
    // Tables are named like their kind.
    let select = format!("SELECT id FROM {kind} WHERE name = ?1");
    let found = connection.prepare_cached(&select)?.query_row([name], |row| row.get(0)).optional()?;
    found.ok_or_else(|| not_found(kind, name))
}

fn signed(number: u64) -> i64 {
    i64::try_from(number).unwrap_or(i64::MAX / 2)
}

fn name_taken(name: &str) -> StoreError {
    StoreError::NameTaken { kind: RecordKind::Signpost, name: name.to_owned() }
}

fn not_found(kind: RecordKind, name: &str) -> StoreError {
    StoreError::NotFound { kind, name: name.to_owned() }
}

fn read(row: &Row<'_>) -> rusqlite::Result<(i64, Signpost)> {
    let signpost = Signpost {
        name: row.get("name")?,
        title: row.get("title")?,
        relay: row.get("relay_name")?,
        has_player: row.get("player")?,
        to: Vec::new(),
        is_paused: row.get("paused")?,
        is_unlisted: row.get("unlisted")?,
        has_status_page: row.get("status_page")?,
        max_viewers: row.get("max_viewers")?,
        daily_bytes: row.get("daily_bytes")?,
    };
    Ok((row.get("id")?, signpost))
}
