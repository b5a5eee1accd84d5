//! Destinations, their stream keys and passphrases.

use rusqlite::{Connection, OptionalExtension as _, Row, params};
use secrecy::SecretString;

use crate::audit::Identity;
use crate::error::StoreError;
use crate::history::History;
use crate::record_kind::RecordKind;
use crate::sealed::{DESTINATION_ADDRESS, PASSPHRASE, STREAM_KEY, SealedSecret, SecretChange};
use crate::store::{Store, map_unique_violation};
use crate::subjects::follow_rename;
use crate::uplinks::{bind, uplinks_of};

/// Validity of a stream key.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum KeyKind {
    /// Any number of broadcasts.
    #[default]
    Reusable,
    /// One broadcast.
    OneBroadcast,
}

impl KeyKind {
    /// Returns the name that is stored and shown.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Reusable => "reusable",
            Self::OneBroadcast => "one-broadcast",
        }
    }

    /// Returns the kind with this name.
    #[must_use]
    pub fn from_name(word: &str) -> Option<Self> {
        [Self::Reusable, Self::OneBroadcast].into_iter().find(|kind| kind.as_str() == word)
    }
}

/// Settings of a destination, without its secrets.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DestinationSettings {
    /// Name.
    pub name: String,
    /// Server address, without the key.
    pub server: String,
    /// Backup server address.
    pub backup_server: Option<String>,
    /// Failback delay, in seconds.
    pub return_after_s: i64,
    /// Name of its platform.
    pub platform: Option<String>,
    /// Address of the watch page.
    pub watch_page: Option<String>,
    /// Certificates of a private authority, in PEM.
    pub authority: Option<String>,
    /// Validity of the stream key.
    pub key_kind: KeyKind,
    /// When the key expires, in seconds since 1970.
    pub key_expires_s: Option<i64>,
    /// Key length of the encryption, in bits.
    pub key_bits: u16,
    /// Uplinks that its pushes are bound to, the preferred one first.
    pub uplinks: Vec<String>,
}

/// Destination to be stored.
#[derive(Debug, Clone)]
pub struct NewDestination {
    /// Settings.
    pub settings: DestinationSettings,
    /// Stream key.
    pub key: Option<SecretString>,
    /// Passphrase.
    pub passphrase: Option<SecretString>,
    /// Secrets of the addresses.
    pub address_secrets: Option<SecretString>,
}

/// Stored stream key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StoredKey {
    /// Sealed key.
    pub secret: SealedSecret,
    /// Last characters, as far as they may be shown.
    pub ending: String,
    /// Length in characters.
    pub length: usize,
    /// Keyed hash, the same for equal keys; `None` if the key has never been decrypted.
    hash: Option<[u8; 32]>,
}

/// Stored destination.
#[derive(Debug, Clone)]
pub struct Destination {
    /// Row ID.
    pub id: i64,
    /// Settings, without secrets.
    pub settings: DestinationSettings,
    /// Stream key.
    pub key: Option<StoredKey>,
    /// Passphrase.
    pub passphrase: Option<SealedSecret>,
    /// Secrets of the addresses.
    pub address_secrets: Option<SealedSecret>,
    /// When the key was last set, in seconds since 1970.
    pub key_set_s: i64,
    /// Number of replacements of the key.
    pub key_rolls: i64,
    /// When a broadcast with the key was first live.
    pub key_used_s: Option<i64>,
    /// When the passphrase was last set.
    pub passphrase_set_s: Option<i64>,
    /// Creation time, in seconds since 1970.
    pub created_s: i64,
    /// Parts that have worked since they were set.
    pub history: History,
    /// Stable ID and revision.
    pub identity: Identity,
}

/// New secrets of a destination; missing ones are kept.
#[derive(Debug, Clone, Default)]
pub struct NewSecrets {
    /// Stream key, its validity, and its expiry.
    pub key: Option<(SecretString, KeyKind, Option<i64>)>,
    /// Passphrase; `Some(None)` removes it.
    pub passphrase: Option<Option<SecretString>>,
}

impl DestinationSettings {
    fn has_same_servers(&self, other: &Self) -> bool {
        self.server == other.server
            && self.backup_server == other.backup_server
            && self.authority == other.authority
    }
}

impl Store {
    /// Adds a destination.
    ///
    /// # Errors
    /// [`StoreError::NameTaken`], or a database error.
    pub fn add_destination(&self, new: &NewDestination, now_s: i64) -> Result<(), StoreError> {
        self.write(|transaction| {
            let settings = &new.settings;
            let name_taken = || StoreError::NameTaken { kind: RecordKind::Destination, name: settings.name.clone() };
            // Secrets are sealed with their row ID, which is known now.
            transaction
                .execute(
                    "INSERT INTO destination (name, server, key, key_set_s, created_s) VALUES (?1, ?2, x'', ?3, ?3)",
                    params![settings.name, settings.server, now_s],
                )
                .map_err(|error| map_unique_violation(error, name_taken))?;
            let id = transaction.last_insert_rowid();
            write_settings(transaction, id, settings)?;
            if let Some(key) = &new.key {
                self.write_key(transaction, id, key, now_s)?;
            }
            if let Some(passphrase) = &new.passphrase {
                self.write_passphrase(transaction, id, Some(passphrase), now_s)?;
            }
            self.write_secret(transaction, (DESTINATION_ADDRESS, id), new.address_secrets.as_ref())
        })
    }

    /// Replaces the settings of the destination `name`, including its name.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], [`StoreError::NameTaken`], or a database error.
    pub fn edit_destination(
        &self,
        name: &str,
        settings: &DestinationSettings,
        address_secrets: &SecretChange,
    ) -> Result<(), StoreError> {
        self.write(|transaction| {
            let before = self.find_destination(transaction, name)?;
            let id = before.id;
            write_settings(transaction, id, settings)?;
            follow_rename(transaction, RecordKind::Destination, &before.settings.name, &settings.name)?;
            self.change_secret(transaction, (DESTINATION_ADDRESS, id), address_secrets)?;
            let keeps_secrets = matches!(address_secrets, SecretChange::Keep);
            if !before.settings.has_same_servers(settings) || !keeps_secrets {
                transaction.execute("UPDATE destination SET server_worked_s = NULL WHERE id = ?1", [id])?;
            }
            unclear(transaction, id)
        })
    }

    /// Replaces secrets of the destination `name`.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or a database error.
    pub fn rekey_destination(&self, name: &str, new: &NewSecrets, now_s: i64) -> Result<(), StoreError> {
        self.write(|transaction| {
            let id = self.find_destination(transaction, name)?.id;
            transaction.execute("UPDATE destination SET secrets_worked_s = NULL WHERE id = ?1", [id])?;
            if let Some((key, kind, expires_s)) = &new.key {
                self.write_key(transaction, id, key, now_s)?;
                transaction.execute(
                    "UPDATE destination SET key_kind = ?2, key_expires_s = ?3, key_rolls = key_rolls + 1,
                     key_used_s = NULL WHERE id = ?1",
                    params![id, kind.as_str(), expires_s],
                )?;
            }
            if let Some(passphrase) = &new.passphrase {
                self.write_passphrase(transaction, id, passphrase.as_ref(), now_s)?;
            }
            Ok(())
        })
    }

    /// Records that a broadcast with the present key is live, once per key.
    ///
    /// # Errors
    /// A database error.
    pub fn note_key_used(&self, name: &str, now_s: i64) -> Result<(), StoreError> {
        self.write(|transaction| {
            transaction.execute(
                "UPDATE destination SET key_used_s = ?2 WHERE name = ?1 AND key_used_s IS NULL",
                params![name, now_s],
            )?;
            Ok(())
        })
    }

    /// Removes an unused destination.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], [`StoreError::InUse`], or a database error.
    pub fn remove_destination(&self, name: &str) -> Result<(), StoreError> {
        self.write(|transaction| {
            let destination = self.find_destination(transaction, name)?;
            let relays = relays_using(transaction, destination.id)?;
            if !relays.is_empty() {
                let name = destination.settings.name;
                return Err(StoreError::InUse { kind: RecordKind::Destination, name, users: relays });
            }
            transaction.execute("DELETE FROM destination WHERE id = ?1", [destination.id])?;
            Ok(())
        })
    }

    /// Returns the destination `name`.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or a database error.
    pub fn destination(&self, name: &str) -> Result<Destination, StoreError> {
        self.read(|connection| self.find_destination(connection, name))
    }

    /// Returns all destinations by name.
    ///
    /// # Errors
    /// A database error.
    pub fn destinations(&self) -> Result<Vec<Destination>, StoreError> {
        self.read(|connection| {
            let mut statement = connection.prepare_cached("SELECT * FROM destination ORDER BY name")?;
            let rows = statement.query_map([], DestinationRow::read)?.collect::<Result<Vec<_>, _>>()?;
            rows.into_iter().map(|row| complete(connection, row)).collect()
        })
    }

    /// Returns name and server of each destination with the stream key `key`.
    ///
    /// # Errors
    /// A database error.
    pub fn destinations_with_key(&self, key: &SecretString) -> Result<Vec<(String, String)>, StoreError> {
        self.destinations_with_hash(self.keyed_hash(key))
    }

    /// Returns name and server of each other destination with the same stream key.
    ///
    /// # Errors
    /// A database error.
    pub fn destinations_with_same_key(
        &self,
        destination: &Destination,
    ) -> Result<Vec<(String, String)>, StoreError> {
        let Some(hash) = destination.key.as_ref().and_then(|key| key.hash) else { return Ok(Vec::new()) };
        let mut found = self.destinations_with_hash(hash)?;
        found.retain(|(name, _)| *name != destination.settings.name);
        Ok(found)
    }

    fn destinations_with_hash(&self, hash: [u8; 32]) -> Result<Vec<(String, String)>, StoreError> {
        self.read(|connection| {
            let select = "SELECT name, server FROM destination WHERE key_hash = ?1 ORDER BY name";
            let mut statement = connection.prepare_cached(select)?;
            let rows = statement.query_map([hash], |row| Ok((row.get(0)?, row.get(1)?)))?;
            Ok(rows.collect::<Result<_, _>>()?)
        })
    }

    /// Returns the names of the relays that push to the destination `name`.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or a database error.
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
            .ok_or_else(|| StoreError::NotFound { kind: RecordKind::Destination, name: name.to_owned() })?;
        complete(connection, row)
    }

    fn write_key(
        &self,
        connection: &Connection,
        id: i64,
        key: &SecretString,
        now_s: i64,
    ) -> Result<(), StoreError> {
        self.write_secret(connection, (STREAM_KEY, id), Some(key))?;
        connection.execute("UPDATE destination SET key_set_s = ?2 WHERE id = ?1", params![id, now_s])?;
        self.write_key_facts(connection, id, key)
    }

    fn write_passphrase(
        &self,
        connection: &Connection,
        id: i64,
        passphrase: Option<&SecretString>,
        now_s: i64,
    ) -> Result<(), StoreError> {
        self.write_secret(connection, (PASSPHRASE, id), passphrase)?;
        let set_s = passphrase.is_some().then_some(now_s);
        connection
            .execute("UPDATE destination SET passphrase_set_s = ?2 WHERE id = ?1", params![id, set_s])?;
        Ok(())
    }
}

/// Completes a row with data of other tables.
fn complete(connection: &Connection, row: DestinationRow) -> Result<Destination, StoreError> {
    let DestinationRow { mut destination, key_kind } = row;
    destination.settings.uplinks = uplinks_of(connection, destination.id)?;
    destination.settings.key_kind = KeyKind::from_name(&key_kind)
        .ok_or(StoreError::Damaged("a stream key that is good for something unknown"))?;
    Ok(destination)
}

fn write_settings(
    connection: &Connection,
    id: i64,
    settings: &DestinationSettings,
) -> Result<(), StoreError> {
    let name_taken = || StoreError::NameTaken { kind: RecordKind::Destination, name: settings.name.clone() };
    connection
        .execute(
            "UPDATE destination SET name = ?2, server = ?3, backup_server = ?4, return_after_s = ?5, platform = ?6,
             watch_page = ?7, authority = ?8, key_kind = ?9, key_expires_s = ?10, key_bits = ?11 WHERE id = ?1",
            params![
                id,
                settings.name,
                settings.server,
                settings.backup_server,
                settings.return_after_s,
                settings.platform,
                settings.watch_page,
                settings.authority,
                settings.key_kind.as_str(),
                settings.key_expires_s,
                settings.key_bits,
            ],
        )
        .map_err(|error| map_unique_violation(error, name_taken))?;
    bind(connection, id, &settings.uplinks)
}

/// Marks the relays of a changed destination for another preflight.
fn unclear(connection: &Connection, destination: i64) -> Result<(), StoreError> {
    connection.execute(
        "UPDATE relay SET preflight_passed_at_s = NULL, setup = setup + 1 WHERE id IN
         (SELECT relay FROM relay_destination WHERE destination = ?1)",
        [destination],
    )?;
    Ok(())
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
    destination: Destination,
    key_kind: String,
}

impl DestinationRow {
    fn read(row: &Row<'_>) -> rusqlite::Result<Self> {
        let id = row.get("id")?;
        let settings = DestinationSettings {
            name: row.get("name")?,
            server: row.get("server")?,
            backup_server: row.get("backup_server")?,
            return_after_s: row.get("return_after_s")?,
            platform: row.get("platform")?,
            watch_page: row.get("watch_page")?,
            authority: row.get("authority")?,
            // Completed from other columns and tables.
            key_kind: KeyKind::default(),
            uplinks: Vec::new(),
            key_expires_s: row.get("key_expires_s")?,
            key_bits: row.get("key_bits")?,
        };
        let key = match STREAM_KEY.read(id, row.get("key")?) {
            Some(secret) => Some(StoredKey {
                secret,
                ending: row.get::<_, Option<String>>("key_ending")?.unwrap_or_default(),
                length: row.get::<_, Option<u32>>("key_length")?.map_or(0, |length| length as usize),
                hash: row.get("key_hash")?,
            }),
            None => None,
        };
        let destination = Destination {
            id,
            settings,
            key,
            passphrase: PASSPHRASE.read(id, row.get("passphrase")?),
            address_secrets: DESTINATION_ADDRESS.read(id, row.get("address_secrets")?),
            key_set_s: row.get("key_set_s")?,
            key_rolls: row.get("key_rolls")?,
            key_used_s: row.get("key_used_s")?,
            passphrase_set_s: row.get("passphrase_set_s")?,
            created_s: row.get("created_s")?,
            history: History {
                credentials: row.get::<_, Option<i64>>("secrets_worked_s")?.is_some(),
                address: row.get::<_, Option<i64>>("server_worked_s")?.is_some(),
            },
            identity: Identity { uid: row.get("uid")?, revision: row.get("revision")? },
        };
        Ok(Self { destination, key_kind: row.get("key_kind")? })
    }
}
