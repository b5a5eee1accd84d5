//! Uplinks.

use rusqlite::{Connection, OptionalExtension as _, Row, params};

use crate::error::{Kind, StoreError};
use crate::store::{Store, unless_taken};
use crate::subjects::follow_rename;

/// An uplink as it is kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Uplink {
    /// Name.
    pub name: String,
    /// Site; `None` for the machine that the service runs on.
    pub site: Option<String>,
    /// Rate upwards in kilobits per second.
    pub up_kbps: i64,
    /// Share that stays free, in hundredths.
    pub headroom_percent: i64,
    /// Bytes that a month may have.
    pub allowance_bytes: Option<i64>,
    /// Used only while the main one cannot be.
    pub backup: bool,
    /// Address of this machine by which pushes are bound to it.
    pub source: Option<String>,
    /// Network interface by which they are, instead.
    pub interface: Option<String>,
}

impl Store {
    /// Adds an uplink.
    ///
    /// # Errors
    /// [`StoreError::NameTaken`], or the store's failure.
    pub fn add_uplink(&self, uplink: &Uplink, now_s: i64) -> Result<(), StoreError> {
        let taken = || StoreError::NameTaken { kind: Kind::Uplink, name: uplink.name.clone() };
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
                .map_err(|error| unless_taken(error, taken))?;
            Ok(())
        })
    }

    /// Replaces the values of the uplink `name`, its name included.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], [`StoreError::NameTaken`], or the store's failure.
    pub fn edit_uplink(&self, name: &str, uplink: &Uplink) -> Result<(), StoreError> {
        let taken = || StoreError::NameTaken { kind: Kind::Uplink, name: uplink.name.clone() };
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
                .map_err(|error| unless_taken(error, taken))?;
            if changed == 0 {
                return Err(not_found(name));
            }
            follow_rename(transaction, Kind::Uplink, name, &uplink.name)
        })
    }

    /// Removes an uplink that no destination is bound to.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], [`StoreError::InUse`], or the store's failure.
    pub fn remove_uplink(&self, name: &str) -> Result<(), StoreError> {
        self.write(|transaction| {
            let users = destinations_by(transaction, name)?;
            if !users.is_empty() {
                return Err(StoreError::InUse { kind: Kind::Uplink, name: name.to_owned(), users });
            }
            match transaction.execute("DELETE FROM uplink WHERE name = ?1", [name])? {
                0 => Err(not_found(name)),
                _ => Ok(()),
            }
        })
    }

    /// Names of the destinations that are bound to the uplink `name`.
    ///
    /// # Errors
    /// The store's failure.
    pub fn destinations_by(&self, name: &str) -> Result<Vec<String>, StoreError> {
        self.read(|connection| destinations_by(connection, name))
    }

    /// The uplink `name`.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or the store's failure.
    pub fn uplink(&self, name: &str) -> Result<Uplink, StoreError> {
        self.read(|connection| {
            connection
                .prepare_cached("SELECT * FROM uplink WHERE name = ?1")?
                .query_row([name], read)
                .optional()?
                .ok_or_else(|| not_found(name))
        })
    }

    /// All uplinks: those of this machine first, main ones before backup ones.
    ///
    /// # Errors
    /// The store's failure.
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

/// Names of the uplinks that a destination is bound to, the one to be preferred first.
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

/// Binds a destination to uplinks, and to no others.
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
    StoreError::NotFound { kind: Kind::Uplink, name: name.to_owned() }
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
