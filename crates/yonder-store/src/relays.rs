//! Relays with their desired states.

use std::collections::HashMap;

use rusqlite::{Connection, OptionalExtension as _, Row, params};

use yonder_core::DesiredState;

use crate::error::StoreError;
use crate::record_kind::RecordKind;
use crate::store::{Store, map_unique_violation};
use crate::subjects::follow_rename;

/// Stored relay.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Relay {
    /// Name.
    pub name: String,
    /// Name of its feed.
    pub feed: String,
    /// Site of the feed at load time.
    pub site: Option<String>,
    /// Names of its destinations, in order.
    pub destinations: Vec<String>,
    /// Desired state.
    pub wanted: DesiredState,
    /// The desired state could not be written yet: a restart would restore the previous one.
    pub is_unsaved: bool,
    /// Absence of the feed, in milliseconds, after which the holding picture is sent; `None` for never.
    pub hold_after_ms: Option<i64>,
    /// The relay has a holding picture of its own.
    pub has_picture: bool,
    /// On-air windows, as text; empty for always.
    pub on_air: Vec<String>,
    /// Time zone of the windows and the quiet minute.
    pub zone: String,
    /// Minute of the day for planned reconnects.
    pub quiet_minute: Option<String>,
    /// When the last preflight passed, in seconds since 1970; `None` after a change of the configuration.
    pub preflight_passed_at_s: Option<i64>,
    /// Number of the configuration, which each change that requires another preflight increments.
    pub setup: i64,
    /// Stable ID.
    pub uid: String,
    /// Revision, which each change increments.
    pub revision: i64,
}

impl Relay {
    /// Creates a relay that is off, with default settings.
    #[must_use]
    pub fn new(name: impl Into<String>, feed: impl Into<String>, destinations: Vec<String>) -> Self {
        Self {
            name: name.into(),
            feed: feed.into(),
            site: None,
            destinations,
            wanted: DesiredState::Off,
            is_unsaved: false,
            hold_after_ms: Some(3_000),
            has_picture: false,
            on_air: Vec::new(),
            zone: "UTC".to_owned(),
            quiet_minute: None,
            preflight_passed_at_s: None,
            setup: 1,
            uid: String::new(),
            revision: 1,
        }
    }
}

impl Store {
    /// Adds a relay, which is off.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] for the feed or a destination, [`StoreError::NameTaken`], or a database error; nothing
    /// is stored then.
    pub fn add_relay(&self, new: &Relay, now_s: i64) -> Result<(), StoreError> {
        self.write(|transaction| {
            let feed = self.find_feed(transaction, &new.feed)?.id;
            let name_taken = || StoreError::NameTaken { kind: RecordKind::Relay, name: new.name.clone() };
            transaction
                .execute(
                    "INSERT INTO relay (name, feed, wanted, hold_after_ms, on_air, zone, quiet_minute, created_s)
                     VALUES (?1, ?2, 'off', ?3, ?4, ?5, ?6, ?7)",
                    params![
                        new.name,
                        feed,
                        new.hold_after_ms,
                        new.on_air.join("\n"),
                        new.zone,
                        new.quiet_minute,
                        now_s
                    ],
                )
                .map_err(|error| map_unique_violation(error, name_taken))?;
            self.write_destinations(transaction, transaction.last_insert_rowid(), &new.destinations)
        })
    }

    /// Replaces the settings of the relay `name`, including its name. Another feed or other destinations need another
    /// preflight.
    ///
    /// # Errors
    /// As [`Store::add_relay`].
    pub fn edit_relay(&self, name: &str, new: &Relay) -> Result<(), StoreError> {
        self.write(|transaction| {
            let id = relay_id(transaction, name)?;
            let before = self.read_relay(transaction, id)?;
            let feed = self.find_feed(transaction, &new.feed)?.id;
            let name_taken = || StoreError::NameTaken { kind: RecordKind::Relay, name: new.name.clone() };
            transaction
                .execute(
                    "UPDATE relay SET name = ?2, feed = ?3, hold_after_ms = ?4, on_air = ?5, zone = ?6, quiet_minute = ?7
                     WHERE id = ?1",
                    params![
                        id,
                        new.name,
                        feed,
                        new.hold_after_ms,
                        new.on_air.join("\n"),
                        new.zone,
                        new.quiet_minute
                    ],
                )
                .map_err(|error| map_unique_violation(error, name_taken))?;
            follow_rename(transaction, RecordKind::Relay, &before.name, &new.name)?;
            transaction.execute("DELETE FROM relay_destination WHERE relay = ?1", [id])?;
            self.write_destinations(transaction, id, &new.destinations)?;
            let after = self.read_relay(transaction, id)?;
            if (&after.feed, &after.destinations) != (&before.feed, &before.destinations) {
                transaction.execute("UPDATE relay SET preflight_passed_at_s = NULL, setup = setup + 1 WHERE id = ?1", [id])?;
            }
            Ok(())
        })
    }

    /// Stores a holding picture of the relay `name`, or removes it.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or a database error.
    pub fn set_holding_picture(&self, name: &str, file: Option<&[u8]>) -> Result<(), StoreError> {
        self.write(|transaction| {
            let id = relay_id(transaction, name)?;
            transaction.execute("UPDATE relay SET holding_picture = ?2 WHERE id = ?1", params![id, file])?;
            Ok(())
        })
    }

    /// Returns the holding picture of the relay `name`, if it has one of its own.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or a database error.
    pub fn holding_picture(&self, name: &str) -> Result<Option<Vec<u8>>, StoreError> {
        self.read(|connection| {
            let id = relay_id(connection, name)?;
            let mut statement =
                connection.prepare_cached("SELECT holding_picture FROM relay WHERE id = ?1")?;
            Ok(statement.query_row([id], |row| row.get(0))?)
        })
    }

    /// Stores the desired state of the relay `name`.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or a database error.
    pub fn set_desired_state(&self, name: &str, wanted: DesiredState) -> Result<(), StoreError> {
        let id = self.read(|connection| relay_id(connection, name))?;
        self.write(|transaction| write_desired_state(transaction, id, wanted))?;
        self.unsaved.lock().remove(&id);
        Ok(())
    }

    /// Keeps the desired state of the relay `name` in memory while the disk fails. Reads include it, and
    /// [`Store::save_desired_states`] stores it later: a broadcast can be stopped on a full disk.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or if the records cannot be read.
    pub fn remember_desired_state(&self, name: &str, wanted: DesiredState) -> Result<(), StoreError> {
        let id = self.read(|connection| relay_id(connection, name))?;
        self.unsaved.lock().insert(id, wanted);
        Ok(())
    }

    /// Stores the desired states that are only in memory, and returns their number.
    ///
    /// # Errors
    /// A database error; the states stay in memory.
    pub fn save_desired_states(&self) -> Result<usize, StoreError> {
        let states = self.unsaved.lock().clone();
        if states.is_empty() {
            return Ok(0);
        }
        self.write(|transaction| {
            states.iter().try_for_each(|(id, wanted)| write_desired_state(transaction, *id, *wanted))
        })?;
        // A state that was set meanwhile stays in memory.
        self.unsaved.lock().retain(|id, wanted| states.get(id) != Some(wanted));
        Ok(states.len())
    }

    /// Records that the configuration `setup` of the relay `name` has passed its preflight. Returns false if the relay,
    /// its feed or a destination has changed since.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or a database error.
    pub fn mark_preflight_passed(&self, name: &str, setup: i64, now_s: i64) -> Result<bool, StoreError> {
        self.write(|transaction| {
            let id = relay_id(transaction, name)?;
            let update = "UPDATE relay SET preflight_passed_at_s = ?3 WHERE id = ?1 AND setup = ?2";
            Ok(transaction.execute(update, params![id, setup, now_s])? > 0)
        })
    }

    /// Removes a relay.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or a database error.
    pub fn remove_relay(&self, name: &str) -> Result<(), StoreError> {
        self.write(|transaction| {
            let id = relay_id(transaction, name)?;
            transaction.execute("DELETE FROM relay WHERE id = ?1", [id])?;
            self.unsaved.lock().remove(&id);
            Ok(())
        })
    }

    /// Returns the relay `name`.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or a database error.
    pub fn relay(&self, name: &str) -> Result<Relay, StoreError> {
        self.read(|connection| self.read_relay(connection, relay_id(connection, name)?))
    }

    /// Returns all relays by name.
    ///
    /// # Errors
    /// A database error.
    pub fn relays(&self) -> Result<Vec<Relay>, StoreError> {
        self.read(|connection| {
            let mut destinations = destinations_of_all(connection)?;
            let mut statement = connection.prepare_cached(&format!("{SELECT} ORDER BY relay.name"))?;
            let rows = statement.query_map([], RelayRow::read)?.collect::<Result<Vec<_>, _>>()?;
            let complete = |row: RelayRow| {
                let names = destinations.remove(&row.id).unwrap_or_default();
                self.complete(row, names)
            };
            rows.into_iter().map(complete).collect()
        })
    }

    fn read_relay(&self, connection: &Connection, id: i64) -> Result<Relay, StoreError> {
        let row = connection
            .prepare_cached(&format!("{SELECT} WHERE relay.id = ?1"))?
            .query_row([id], RelayRow::read)?;
        self.complete(row, destinations_of(connection, id)?)
    }

    /// Completes a row with its destinations, and a desired state in memory.
    fn complete(&self, row: RelayRow, destinations: Vec<String>) -> Result<Relay, StoreError> {
        let RelayRow { id, relay, wanted } = row;
        let stored = DesiredState::from_name(&wanted)
            .ok_or(StoreError::Damaged("a relay that is wanted in an unknown way"))?;
        let unsaved = self.unsaved.lock().get(&id).copied();
        Ok(Relay { destinations, wanted: unsaved.unwrap_or(stored), is_unsaved: unsaved.is_some(), ..relay })
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

fn write_desired_state(connection: &Connection, id: i64, wanted: DesiredState) -> Result<(), StoreError> {
    let mut update = connection.prepare_cached("UPDATE relay SET wanted = ?2 WHERE id = ?1")?;
    update.execute(params![id, wanted.as_str()])?;
    Ok(())
}

fn relay_id(connection: &Connection, name: &str) -> Result<i64, StoreError> {
    connection
        .prepare_cached("SELECT id FROM relay WHERE name = ?1")?
        .query_row([name], |row| row.get(0))
        .optional()?
        .ok_or_else(|| StoreError::NotFound { kind: RecordKind::Relay, name: name.to_owned() })
}

const SELECT: &str = "SELECT relay.id AS id, relay.name AS name, feed.name AS feed, feed.site AS site, wanted, hold_after_ms,
        holding_picture IS NOT NULL AS has_picture, on_air, zone, quiet_minute, preflight_passed_at_s, setup, relay.uid AS uid,
        relay.revision AS revision
    FROM relay JOIN feed ON feed.id = relay.feed";

struct RelayRow {
    id: i64,
    relay: Relay,
    wanted: String,
}

impl RelayRow {
    fn read(row: &Row<'_>) -> rusqlite::Result<Self> {
        let relay = Relay {
            name: row.get("name")?,
            feed: row.get("feed")?,
            site: row.get("site")?,
            // Completed later.
            destinations: Vec::new(),
            wanted: DesiredState::Off,
            is_unsaved: false,
            hold_after_ms: row.get("hold_after_ms")?,
            has_picture: row.get("has_picture")?,
            on_air: row.get::<_, String>("on_air")?.lines().map(str::to_owned).collect(),
            zone: row.get("zone")?,
            quiet_minute: row.get("quiet_minute")?,
            preflight_passed_at_s: row.get("preflight_passed_at_s")?,
            setup: row.get("setup")?,
            uid: row.get("uid")?,
            revision: row.get("revision")?,
        };
        Ok(Self { id: row.get("id")?, relay, wanted: row.get("wanted")? })
    }
}

/// Returns the names of a relay's destinations, in order.
fn destinations_of(connection: &Connection, id: i64) -> Result<Vec<String>, StoreError> {
    let mut statement = connection.prepare_cached(
        "SELECT destination.name FROM relay_destination AS r
         JOIN destination ON destination.id = r.destination WHERE r.relay = ?1 ORDER BY r.position",
    )?;
    Ok(statement.query_map([id], |row| row.get(0))?.collect::<Result<_, _>>()?)
}

/// Returns the names of the destinations of each relay, in order.
fn destinations_of_all(connection: &Connection) -> Result<HashMap<i64, Vec<String>>, StoreError> {
    let mut statement = connection.prepare_cached(
        "SELECT r.relay, destination.name FROM relay_destination AS r
         JOIN destination ON destination.id = r.destination ORDER BY r.relay, r.position",
    )?;
    let mut all: HashMap<i64, Vec<String>> = HashMap::new();
    let mut rows = statement.query([])?;
    while let Some(row) = rows.next()? {
        all.entry(row.get(0)?).or_default().push(row.get(1)?);
    }
    Ok(all)
}
