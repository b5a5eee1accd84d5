//! Uplinks.

use rusqlite::{Connection, OptionalExtension as _, Row, params};

use crate::error::StoreError;
use crate::record_kind::RecordKind;
use crate::store::{Store, map_unique_violation};
use crate::subjects::follow_rename;

/// Stored uplink.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Uplink {
    /// Name.
    pub name: String,
    /// Site; `None` for this machine.
    pub site: Option<String>,
    /// Upstream rate in kilobits per second.
    pub up_kbps: i64,
    /// Headroom in percent.
    pub headroom_percent: i64,
    /// Monthly allowance in bytes.
    pub allowance_bytes: Option<i64>,
    /// Used only while the main uplink is unavailable.
    pub backup: bool,
    /// Local address that binds pushes to it.
    pub source: Option<String>,
    /// Network interface that binds pushes to it.
    pub interface: Option<String>,
}

impl Store {
    /// Adds an uplink.
    ///
    /// # Errors
    /// [`StoreError::NameTaken`], or a database error.
    pub fn add_uplink(&self, uplink: &Uplink, now_s: i64) -> Result<(), StoreError> {
        let name_taken = || StoreError::NameTaken { kind: RecordKind::Uplink, name: uplink.name.clone() };
        self.write(|transaction| {
            transaction
                .execute(
                    "INSERT INTO uplink (name, site, up_kbps, headroom_percent, allowance_bytes, role, source,
                     interface, created_s) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)",
                    params![
                        uplink.name,
                        uplink.site,
                        uplink.up_kbps,
                        uplink.headroom_percent,
                        uplink.allowance_bytes,
                        role(uplink.backup),
                        uplink.source,
                        uplink.interface,
                        now_s
                    ],
                )
                .map_err(|error| map_unique_violation(error, name_taken))?;
            Ok(())
        })
    }

    /// Replaces the uplink `name`, including its name.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], [`StoreError::NameTaken`], or a database error.
    pub fn edit_uplink(&self, name: &str, uplink: &Uplink) -> Result<(), StoreError> {
        let name_taken = || StoreError::NameTaken { kind: RecordKind::Uplink, name: uplink.name.clone() };
        self.write(|transaction| {
            let changed = transaction
                .execute(
                    "UPDATE uplink SET name = ?2, site = ?3, up_kbps = ?4, headroom_percent = ?5,
                     allowance_bytes = ?6, role = ?7, source = ?8, interface = ?9 WHERE name = ?1",
                    params![
                        name,
                        uplink.name,
                        uplink.site,
                        uplink.up_kbps,
                        uplink.headroom_percent,
                        uplink.allowance_bytes,
                        role(uplink.backup),
                        uplink.source,
                        uplink.interface
                    ],
                )
                .map_err(|error| map_unique_violation(error, name_taken))?;
            if changed == 0 {
                return Err(not_found(name));
            }
            follow_rename(transaction, RecordKind::Uplink, name, &uplink.name)
        })
    }

    /// Removes an uplink without bound destinations.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], [`StoreError::InUse`], or a database error.
    pub fn remove_uplink(&self, name: &str) -> Result<(), StoreError> {
        self.write(|transaction| {
            let users = destinations_by(transaction, name)?;
            if !users.is_empty() {
                return Err(StoreError::InUse { kind: RecordKind::Uplink, name: name.to_owned(), users });
            }
            match transaction.execute("DELETE FROM uplink WHERE name = ?1", [name])? {
                0 => Err(not_found(name)),
                _ => Ok(()),
            }
        })
    }

    /// Returns the names of the destinations that are bound to the uplink `name`.
    ///
    /// # Errors
    /// A database error.
    pub fn destinations_by(&self, name: &str) -> Result<Vec<String>, StoreError> {
        self.read(|connection| destinations_by(connection, name))
    }

    /// Returns the uplink `name`.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or a database error.
    pub fn uplink(&self, name: &str) -> Result<Uplink, StoreError> {
        self.read(|connection| {
            connection
                .prepare_cached("SELECT * FROM uplink WHERE name = ?1")?
                .query_row([name], read)
                .optional()?
                .ok_or_else(|| not_found(name))
        })
    }

    /// Returns all uplinks: those of this machine first, main ones before backup ones.
    ///
    /// # Errors
    /// A database error.
    pub fn uplinks(&self) -> Result<Vec<Uplink>, StoreError> {
        self.read(|connection| {
            let mut statement = connection.prepare_cached(
                "SELECT * FROM uplink ORDER BY site IS NOT NULL, site, role = 'backup', name",
            )?;
            let rows = statement.query_map([], read)?.collect::<Result<Vec<_>, _>>()?;
            Ok(rows)
        })
    }
}

fn destinations_by(connection: &Connection, uplink: &str) -> Result<Vec<String>, StoreError> {
    let names = connection
        .prepare_cached(
            "SELECT destination.name FROM destination
             JOIN destination_uplink AS d ON d.destination = destination.id
             JOIN uplink ON uplink.id = d.uplink WHERE uplink.name = ?1 ORDER BY destination.name",
        )?
        .query_map([uplink], |row| row.get(0))?
        .collect::<Result<Vec<String>, _>>()?;
    Ok(names)
}

/// Returns the names of the uplinks that a destination is bound to, the preferred one first.
pub(crate) fn uplinks_of(connection: &Connection, destination: i64) -> Result<Vec<String>, StoreError> {
    let names = connection
        .prepare_cached(
            "SELECT uplink.name FROM uplink JOIN destination_uplink AS d ON d.uplink = uplink.id
             WHERE d.destination = ?1 ORDER BY d.position",
        )?
        .query_map([destination], |row| row.get(0))?
        .collect::<Result<Vec<String>, _>>()?;
    Ok(names)
}

/// Replaces the uplinks that a destination is bound to.
pub(crate) fn bind(connection: &Connection, destination: i64, uplinks: &[String]) -> Result<(), StoreError> {
    connection.execute("DELETE FROM destination_uplink WHERE destination = ?1", [destination])?;
    for (position, name) in (0_i64..).zip(uplinks) {
        let bound = connection.execute(
            "INSERT INTO destination_uplink (destination, position, uplink)
             SELECT ?1, ?2, id FROM uplink WHERE name = ?3",
            params![destination, position, name],
        )?;
        if bound == 0 {
            return Err(not_found(name));
        }
    }
    Ok(())
}

fn role(backup: bool) -> &'static str {
    if backup { "backup" } else { "main" }
}

fn not_found(name: &str) -> StoreError {
    StoreError::NotFound { kind: RecordKind::Uplink, name: name.to_owned() }
}

fn read(row: &Row<'_>) -> rusqlite::Result<Uplink> {
    let role: String = row.get("role")?;
    Ok(Uplink {
        name: row.get("name")?,
        site: row.get("site")?,
        up_kbps: row.get("up_kbps")?,
        headroom_percent: row.get("headroom_percent")?,
        allowance_bytes: row.get("allowance_bytes")?,
        backup: role == "backup",
        source: row.get("source")?,
        interface: row.get("interface")?,
    })
}
