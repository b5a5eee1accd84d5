//! Destinations, their stream keys and passphrases.

use rusqlite::{Connection, OptionalExtension as _, Row, params};
use secrecy::{ExposeSecret as _, SecretString};

use crate::error::{Kind, StoreError};
use crate::history::History;
use crate::store::{Store, unless_taken};
use crate::uplinks::{bind, uplinks_of};

/// What a stream key is good for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum KeyKind {
    /// Any number of broadcasts.
    #[default]
    Reusable,
    /// One broadcast.
    OneBroadcast,
}

impl KeyKind {
    /// The word that is kept and shown.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Reusable => "reusable",
            Self::OneBroadcast => "one-broadcast",
        }
    }

    /// From its word.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        [Self::Reusable, Self::OneBroadcast].into_iter().find(|kind| kind.word() == word)
    }
}

/// What is kept of a destination besides its secrets.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DestinationSettings {
    /// Name.
    pub name: String,
    /// Server address, without the key.
    pub server: String,
    /// Second server address.
    pub backup_server: Option<String>,
    /// Seconds that the first server must be reachable again before a push returns to it.
    pub return_after_s: i64,
    /// Name of its platform.
    pub platform: Option<String>,
    /// Where people watch.
    pub watch_page: Option<String>,
    /// Certificates of a private authority, in PEM.
    pub authority: Option<String>,
    /// What its key is good for.
    pub key_kind: KeyKind,
    /// When its key expires, in seconds since 1970.
    pub key_expires_s: Option<i64>,
    /// Bits of the key made from the passphrase.
    pub key_bits: u16,
    /// Uplinks that its pushes are bound to, the one to be preferred first.
    pub uplinks: Vec<String>,
}

/// A destination as it is to be kept.
#[derive(Debug, Clone)]
pub struct NewDestination {
    /// What is no secret.
    pub settings: DestinationSettings,
    /// Stream key.
    pub key: Option<SecretString>,
    /// Passphrase.
    pub passphrase: Option<SecretString>,
}

/// A destination as it is kept.
#[derive(Debug, Clone)]
pub struct Destination {
    /// Row.
    pub id: i64,
    /// What is no secret.
    pub settings: DestinationSettings,
    /// Stream key.
    pub key: Option<SecretString>,
    /// Passphrase.
    pub passphrase: Option<SecretString>,
    /// When the key was last set, in seconds since 1970.
    pub key_set_s: i64,
    /// How often it was replaced.
    pub key_rolls: i64,
    /// When a broadcast was first live under it.
    pub key_used_s: Option<i64>,
    /// When the passphrase was last set.
    pub passphrase_set_s: Option<i64>,
    /// When it was made, in seconds since 1970.
    pub created_s: i64,
    /// Parts that have worked since they were set.
    pub history: History,
}

/// New secrets of a destination; what is left out stays.
#[derive(Debug, Clone, Default)]
pub struct NewSecrets {
    /// Stream key, what it is good for, and when it expires.
    pub key: Option<(SecretString, KeyKind, Option<i64>)>,
    /// Passphrase; `Some(None)` takes it away.
    pub passphrase: Option<Option<SecretString>>,
}

impl DestinationSettings {
    fn has_same_servers(&self, other: &Self) -> bool {
        self.server == other.server
            && self.backup_server == other.backup_server
            && self.authority == other.authority
    }
}

fn key_label(id: i64) -> String {
    format!("destination-key:{id}")
}

fn passphrase_label(id: i64) -> String {
    format!("destination-passphrase:{id}")
}

impl Store {
    /// Adds a destination.
    ///
    /// # Errors
    /// [`StoreError::NameTaken`], or the store's failure.
    pub fn add_destination(&self, new: &NewDestination, now_s: i64) -> Result<(), StoreError> {
        self.write(|transaction| {
            let settings = &new.settings;
            let taken = || StoreError::NameTaken { kind: Kind::Destination, name: settings.name.clone() };
            // Secrets are sealed to their row, whose number is known only now.
            transaction
                .execute(
                    "INSERT INTO destination (name, server, key, key_set_s, created_s) VALUES (?1, ?2, x'', ?3, ?3)",
                    params![settings.name, settings.server, now_s],
                )
                .map_err(|error| unless_taken(error, taken))?;
            let id = transaction.last_insert_rowid();
            write_settings(transaction, id, settings)?;
            if let Some(key) = &new.key {
                self.write_key(transaction, id, key, now_s)?;
            }
            if let Some(passphrase) = &new.passphrase {
                self.write_passphrase(transaction, id, Some(passphrase), now_s)?;
            }
            Ok(())
        })
    }

    /// Replaces what is no secret of the destination `name`, its name included.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], [`StoreError::NameTaken`], or the store's failure.
    pub fn edit_destination(&self, name: &str, settings: &DestinationSettings) -> Result<(), StoreError> {
        self.write(|transaction| {
            let before = self.find_destination(transaction, name)?;
            let id = before.id;
            write_settings(transaction, id, settings)?;
            if !before.settings.has_same_servers(settings) {
                transaction.execute("UPDATE destination SET server_worked_s = NULL WHERE id = ?1", [id])?;
            }
            unclear(transaction, id)
        })
    }

    /// Gives the destination `name` new secrets; the old ones are forgotten.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or the store's failure.
    pub fn rekey_destination(&self, name: &str, new: &NewSecrets, now_s: i64) -> Result<(), StoreError> {
        self.write(|transaction| {
            let id = self.find_destination(transaction, name)?.id;
            transaction.execute("UPDATE destination SET secrets_worked_s = NULL WHERE id = ?1", [id])?;
            if let Some((key, kind, expires_s)) = &new.key {
                self.write_key(transaction, id, key, now_s)?;
                transaction.execute(
                    "UPDATE destination SET key_kind = ?2, key_expires_s = ?3, key_rolls = key_rolls + 1,
                     key_used_s = NULL WHERE id = ?1",
                    params![id, kind.word(), expires_s],
                )?;
            }
            if let Some(passphrase) = &new.passphrase {
                self.write_passphrase(transaction, id, passphrase.as_ref(), now_s)?;
            }
            Ok(())
        })
    }

    /// Notes that a broadcast is live under the key that is set; only the first time counts.
    ///
    /// # Errors
    /// The store's failure.
    pub fn note_key_used(&self, name: &str, now_s: i64) -> Result<(), StoreError> {
        self.write(|transaction| {
            transaction.execute(
                "UPDATE destination SET key_used_s = ?2 WHERE name = ?1 AND key_used_s IS NULL",
                params![name, now_s],
            )?;
            Ok(())
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
                let name = destination.settings.name;
                return Err(StoreError::InUse { kind: Kind::Destination, name, users: relays });
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
            rows.into_iter().map(|row| self.open_destination(connection, row)).collect()
        })
    }

    /// Name and server of each destination that has the stream key `key`.
    ///
    /// # Errors
    /// The store's failure.
    pub fn destinations_with_key(&self, key: &SecretString) -> Result<Vec<(String, String)>, StoreError> {
        self.read(|connection| {
            let select = "SELECT id, name, server, key FROM destination WHERE length(key) > 0 ORDER BY name";
            let mut statement = connection.prepare_cached(select)?;
            let mut rows = statement.query([])?;
            let mut found = Vec::new();
            while let Some(row) = rows.next()? {
                let sealed: Vec<u8> = row.get("key")?;
                let theirs = self.master_key.open(&sealed, &key_label(row.get("id")?))?;
                if theirs.expose_secret() == key.expose_secret() {
                    found.push((row.get("name")?, row.get("server")?));
                }
            }
            Ok(found)
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
        self.open_destination(connection, row)
    }

    fn write_key(
        &self,
        connection: &Connection,
        id: i64,
        key: &SecretString,
        now_s: i64,
    ) -> Result<(), StoreError> {
        let sealed = self.master_key.seal(key, &key_label(id))?;
        connection.execute(
            "UPDATE destination SET key = ?2, key_set_s = ?3 WHERE id = ?1",
            params![id, sealed, now_s],
        )?;
        Ok(())
    }

    fn write_passphrase(
        &self,
        connection: &Connection,
        id: i64,
        passphrase: Option<&SecretString>,
        now_s: i64,
    ) -> Result<(), StoreError> {
        let label = passphrase_label(id);
        let sealed = passphrase.map(|passphrase| self.master_key.seal(passphrase, &label)).transpose()?;
        let set_s = sealed.is_some().then_some(now_s);
        connection.execute(
            "UPDATE destination SET passphrase = ?2, passphrase_set_s = ?3 WHERE id = ?1",
            params![id, sealed, set_s],
        )?;
        Ok(())
    }

    fn open_destination(
        &self,
        connection: &Connection,
        row: DestinationRow,
    ) -> Result<Destination, StoreError> {
        let id = row.id;
        let uplinks = uplinks_of(connection, id)?;
        // Without a key the column is empty: a sealed key never is.
        let key =
            if row.key.is_empty() { None } else { Some(self.master_key.open(&row.key, &key_label(id))?) };
        let open = |sealed: Vec<u8>| self.master_key.open(&sealed, &passphrase_label(id));
        let passphrase = row.passphrase.map(open).transpose()?;
        let key_kind = KeyKind::from_word(&row.key_kind)
            .ok_or(StoreError::Damaged("a stream key that is good for something unknown"))?;
        Ok(Destination {
            id,
            settings: DestinationSettings { key_kind, uplinks, ..row.settings },
            key,
            passphrase,
            key_set_s: row.key_set_s,
            key_rolls: row.key_rolls,
            key_used_s: row.key_used_s,
            passphrase_set_s: row.passphrase_set_s,
            created_s: row.created_s,
            history: row.history,
        })
    }
}

fn write_settings(
    connection: &Connection,
    id: i64,
    settings: &DestinationSettings,
) -> Result<(), StoreError> {
    let taken = || StoreError::NameTaken { kind: Kind::Destination, name: settings.name.clone() };
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
                settings.key_kind.word(),
                settings.key_expires_s,
                settings.key_bits,
            ],
        )
        .map_err(|error| unless_taken(error, taken))?;
    bind(connection, id, &settings.uplinks)
}

/// Relays that push to a destination which changed are to be checked anew.
fn unclear(connection: &Connection, destination: i64) -> Result<(), StoreError> {
    connection.execute(
        "UPDATE relay SET cleared_s = NULL WHERE id IN
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
    id: i64,
    settings: DestinationSettings,
    key_kind: String,
    key: Vec<u8>,
    key_set_s: i64,
    key_rolls: i64,
    key_used_s: Option<i64>,
    passphrase: Option<Vec<u8>>,
    passphrase_set_s: Option<i64>,
    created_s: i64,
    history: History,
}

impl DestinationRow {
    fn read(row: &Row<'_>) -> rusqlite::Result<Self> {
        let settings = DestinationSettings {
            name: row.get("name")?,
            server: row.get("server")?,
            backup_server: row.get("backup_server")?,
            return_after_s: row.get("return_after_s")?,
            platform: row.get("platform")?,
            watch_page: row.get("watch_page")?,
            authority: row.get("authority")?,
            key_kind: KeyKind::default(),
            key_expires_s: row.get("key_expires_s")?,
            key_bits: row.get("key_bits")?,
            // Read from its own table, like the key's kind from its word, when the row is opened.
            uplinks: Vec::new(),
        };
        Ok(Self {
            id: row.get("id")?,
            settings,
            key_kind: row.get("key_kind")?,
            key: row.get("key")?,
            key_set_s: row.get("key_set_s")?,
            key_rolls: row.get("key_rolls")?,
            key_used_s: row.get("key_used_s")?,
            passphrase: row.get("passphrase")?,
            passphrase_set_s: row.get("passphrase_set_s")?,
            created_s: row.get("created_s")?,
            history: History {
                credentials: row.get::<_, Option<i64>>("secrets_worked_s")?.is_some(),
                address: row.get::<_, Option<i64>>("server_worked_s")?.is_some(),
            },
        })
    }
}
