//! Relays with their desired states.

use std::collections::{BTreeMap, HashMap};

use rusqlite::{Connection, OptionalExtension as _, Row, params};

use yonder_core::DesiredState;
use yonder_core::rendition::{Adapt, Limit};

use crate::error::StoreError;
use crate::record_kind::RecordKind;
use crate::signposts::signposts_of;
use crate::store::{Store, map_unique_violation};
use crate::subjects::follow_rename;

/// Stored relay.
#[derive(Debug, Clone, PartialEq)]
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
    /// Permission to adapt the feed for destinations.
    pub adapt: Adapt,
    /// Limits by destination.
    pub limits: BTreeMap<String, Limit>,
    /// Media bit rates that the uplinks had left at the last preflight, by destination, in kilobits per second.
    pub available_kbps: BTreeMap<String, u32>,
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
            adapt: Adapt::default(),
            limits: BTreeMap::new(),
            available_kbps: BTreeMap::new(),
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
                    "INSERT INTO relay (name, feed, wanted, hold_after_ms, on_air, zone, quiet_minute, created_s, adapt)
                     VALUES (?1, ?2, 'off', ?3, ?4, ?5, ?6, ?7, ?8)",
                    params![
                        new.name,
                        feed,
                        new.hold_after_ms,
                        new.on_air.join("\n"),
                        new.zone,
                        new.quiet_minute,
                        now_s,
                        new.adapt.as_str()
                    ],
                )
                .map_err(|error| map_unique_violation(error, name_taken))?;
            self.write_destinations(transaction, transaction.last_insert_rowid(), new)
        })
    }

    /// Replaces the settings of the relay `name`, including its name. Another feed, other
    /// destinations and another adaptation need another preflight.
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
                    "UPDATE relay SET name = ?2, feed = ?3, hold_after_ms = ?4, on_air = ?5, zone = ?6, quiet_minute = ?7,
                     adapt = ?8 WHERE id = ?1",
                    params![
                        id,
                        new.name,
                        feed,
                        new.hold_after_ms,
                        new.on_air.join("\n"),
                        new.zone,
                        new.quiet_minute,
                        new.adapt.as_str()
                    ],
                )
                .map_err(|error| map_unique_violation(error, name_taken))?;
            follow_rename(transaction, RecordKind::Relay, &before.name, &new.name)?;
            transaction.execute("DELETE FROM relay_destination WHERE relay = ?1", [id])?;
            self.write_destinations(transaction, id, new)?;
            let after = self.read_relay(transaction, id)?;
            let setup = |relay: &Relay| {
                (relay.feed.clone(), relay.destinations.clone(), relay.adapt, relay.limits.clone())
            };
            if setup(&after) != setup(&before) {
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

    /// Stores the media bit rates that the uplinks have left for the destinations of the relay `name`.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or a database error.
    pub fn set_available_kbps(
        &self,
        name: &str,
        available: &BTreeMap<String, u32>,
    ) -> Result<(), StoreError> {
        self.write(|transaction| {
            let id = relay_id(transaction, name)?;
            for linked in destinations_of(transaction, id)? {
                let destination = self.find_destination(transaction, &linked.destination)?.id;
                transaction.execute(
                    "UPDATE relay_destination SET available_kbps = ?3 WHERE relay = ?1 AND destination = ?2",
                    params![id, destination, available.get(&linked.destination)],
                )?;
            }
            Ok(())
        })
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
    /// [`StoreError::NotFound`], [`StoreError::InUse`] while signposts lead to it, or a database error.
    pub fn remove_relay(&self, name: &str) -> Result<(), StoreError> {
        self.write(|transaction| {
            let id = relay_id(transaction, name)?;
            let users = signposts_of(transaction, id)?;
            if !users.is_empty() {
                return Err(StoreError::InUse { kind: RecordKind::Relay, name: name.to_owned(), users });
            }
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
    fn complete(&self, row: RelayRow, linked: Vec<Linked>) -> Result<Relay, StoreError> {
        let RelayRow { id, relay, wanted, adapt } = row;
        let adapt =
            Adapt::from_name(&adapt).ok_or(StoreError::Damaged("a relay with an unknown adaptation"))?;
        let available_kbps = linked
            .iter()
            .filter_map(|linked| Some((linked.destination.clone(), linked.available_kbps?)))
            .collect();
        let limits = linked.iter().filter(|linked| linked.limit != Limit::default());
        let limits = limits.map(|linked| (linked.destination.clone(), linked.limit)).collect();
        let destinations = linked.into_iter().map(|linked| linked.destination).collect();
        let stored = DesiredState::from_name(&wanted)
            .ok_or(StoreError::Damaged("a relay that is wanted in an unknown way"))?;
        let unsaved = self.unsaved.lock().get(&id).copied();
        Ok(Relay {
            destinations,
            adapt,
            limits,
            available_kbps,
            wanted: unsaved.unwrap_or(stored),
            is_unsaved: unsaved.is_some(),
            ..relay
        })
    }

    fn write_destinations(&self, connection: &Connection, relay: i64, new: &Relay) -> Result<(), StoreError> {
        for (position, name) in (0_i64..).zip(&new.destinations) {
            let destination = self.find_destination(connection, name)?.id;
            let limit = new.limits.iter().find(|(other, _)| other.eq_ignore_ascii_case(name));
            let limit = limit.map(|(_, limit)| limit.to_string()).unwrap_or_default();
            let available = new.available_kbps.get(name);
            connection.execute(
                "INSERT INTO relay_destination (relay, position, destination, video_limit, available_kbps)
                 VALUES (?1, ?2, ?3, ?4, ?5)",
                params![relay, position, destination, limit, available],
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
        relay.revision AS revision, adapt
    FROM relay JOIN feed ON feed.id = relay.feed";

struct RelayRow {
    id: i64,
    relay: Relay,
    wanted: String,
    adapt: String,
}

/// Destination of a relay, with its limit.
struct Linked {
    destination: String,
    limit: Limit,
    available_kbps: Option<u32>,
}

impl Linked {
    fn read(row: &Row<'_>) -> rusqlite::Result<Self> {
        let limit: String = row.get("video_limit")?;
        // Written by this program, or none.
        let limit = limit.parse().unwrap_or_default();
        Ok(Self { destination: row.get("name")?, limit, available_kbps: row.get("available_kbps")? })
    }
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
            adapt: Adapt::default(),
            limits: BTreeMap::new(),
            available_kbps: BTreeMap::new(),
            preflight_passed_at_s: row.get("preflight_passed_at_s")?,
            setup: row.get("setup")?,
            uid: row.get("uid")?,
            revision: row.get("revision")?,
        };
        Ok(Self { id: row.get("id")?, relay, wanted: row.get("wanted")?, adapt: row.get("adapt")? })
    }
}

/// Returns a relay's destinations, in order.
fn destinations_of(connection: &Connection, id: i64) -> Result<Vec<Linked>, StoreError> {
    let mut statement = connection.prepare_cached(
        "SELECT destination.name AS name, r.video_limit AS video_limit, r.available_kbps AS available_kbps FROM relay_destination AS r
         JOIN destination ON destination.id = r.destination WHERE r.relay = ?1 ORDER BY r.position",
    )?;
    Ok(statement.query_map([id], Linked::read)?.collect::<Result<_, _>>()?)
}

/// Returns the destinations of each relay, in order.
fn destinations_of_all(connection: &Connection) -> Result<HashMap<i64, Vec<Linked>>, StoreError> {
    let mut statement = connection.prepare_cached(
        "SELECT r.relay AS relay, destination.name AS name, r.video_limit AS video_limit,
             r.available_kbps AS available_kbps FROM relay_destination AS r
         JOIN destination ON destination.id = r.destination ORDER BY r.relay, r.position",
    )?;
    let mut all: HashMap<i64, Vec<Linked>> = HashMap::new();
    let mut rows = statement.query([])?;
    while let Some(row) = rows.next()? {
        all.entry(row.get("relay")?).or_default().push(Linked::read(row)?);
    }
    Ok(all)
}
