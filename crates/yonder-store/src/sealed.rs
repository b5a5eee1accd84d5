//! Sealed secrets of the records: decrypted only where they are used; a failure affects only its own record.

use std::collections::HashSet;
use std::fmt;
use std::mem;

use rusqlite::{Connection, OptionalExtension as _, params};
use secrecy::{ExposeSecret as _, SecretString};
use yonder_address::StreamKey;
use yonder_core::is_factory_default;

use crate::error::StoreError;
use crate::record_kind::RecordKind;
use crate::seal::{MasterKey, SealError};
use crate::store::Store;

/// Content and label of the constant that binds records to their master key.
const CONSTANT: &str = "yonder-relay records";
const CONSTANT_LABEL: &str = "master-key";

/// Sealed secret, bound to its place. [`Store::unseal`] decrypts it.
#[derive(Clone, PartialEq, Eq)]
pub struct SealedSecret {
    sealed: Vec<u8>,
    label: String,
}

impl fmt::Debug for SealedSecret {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "SealedSecret({})", self.label)
    }
}

/// Change of a secret.
#[derive(Debug, Clone, Default)]
pub enum SecretChange {
    /// Keep it.
    #[default]
    Keep,
    /// Replace it.
    Set(SecretString),
    /// Remove it.
    Remove,
}

/// Secret that cannot be decrypted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LostSecret {
    /// Kind of its record.
    pub kind: RecordKind,
    /// Name of its record.
    pub name: String,
    /// Name of the secret, such as `password`.
    pub secret: &'static str,
}

/// Place of sealed secrets: a column.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Place {
    kind: RecordKind,
    column: &'static str,
    /// Associated data of the seal, together with the row ID. It must never change, even if a table is renamed, since
    /// existing secrets could not be decrypted any more.
    label: &'static str,
}

pub(crate) const FEED_PASSWORD: Place =
    Place { kind: RecordKind::Feed, column: "password", label: "feed-password" };
pub(crate) const STREAM_KEY: Place =
    Place { kind: RecordKind::Destination, column: "key", label: "destination-key" };
pub(crate) const PASSPHRASE: Place =
    Place { kind: RecordKind::Destination, column: "passphrase", label: "destination-passphrase" };
pub(crate) const CONTACT_SECRET: Place =
    Place { kind: RecordKind::Contact, column: "secret", label: "receiver-secret" };

pub(crate) const FEED_ADDRESS: Place =
    Place { kind: RecordKind::Feed, column: "address_secrets", label: "feed-address" };
pub(crate) const DESTINATION_ADDRESS: Place =
    Place { kind: RecordKind::Destination, column: "address_secrets", label: "destination-address" };
pub(crate) const CONTACT_ADDRESS: Place =
    Place { kind: RecordKind::Contact, column: "address_secrets", label: "receiver-address" };

pub(crate) const INGEST_KEY: Place =
    Place { kind: RecordKind::Feed, column: "ingest_key", label: "ingest-key" };
pub(crate) const INGEST_FORMER_KEY: Place =
    Place { kind: RecordKind::Feed, column: "ingest_former_key", label: "ingest-former-key" };
pub(crate) const INGEST_PASSPHRASE: Place =
    Place { kind: RecordKind::Feed, column: "ingest_passphrase", label: "ingest-passphrase" };

/// All places.
const PLACES: [Place; 10] = [
    FEED_PASSWORD,
    FEED_ADDRESS,
    INGEST_KEY,
    INGEST_FORMER_KEY,
    INGEST_PASSPHRASE,
    STREAM_KEY,
    PASSPHRASE,
    DESTINATION_ADDRESS,
    CONTACT_SECRET,
    CONTACT_ADDRESS,
];

impl Place {
    fn label(self, id: i64) -> String {
        format!("{}:{id}", self.label)
    }

    /// Returns the sealed secret of a row; `None` if the column is empty.
    pub(crate) fn read(self, id: i64, sealed: Option<Vec<u8>>) -> Option<SealedSecret> {
        let sealed = sealed.filter(|sealed| !sealed.is_empty())?;
        Some(SealedSecret { sealed, label: self.label(id) })
    }

    /// Reads all secrets of this place, with the names of their records.
    fn all(self, connection: &Connection) -> Result<Vec<(i64, String, SealedSecret)>, StoreError> {
        let Self { kind, column, .. } = self;
        let select = format!("SELECT id, name, {column} FROM {kind} WHERE length({column}) > 0");
        let mut statement = connection.prepare_cached(&select)?;
        let rows = statement.query_map([], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)))?;
        let rows: Vec<(i64, String, Vec<u8>)> = rows.collect::<Result<_, _>>()?;
        let secret = |(id, name, sealed)| (id, name, SealedSecret { sealed, label: self.label(id) });
        Ok(rows.into_iter().map(secret).collect())
    }
}

impl Store {
    /// Decrypts a secret. One that fails counts as lost from then on.
    ///
    /// # Errors
    /// [`SealError::WrongKey`] if it is damaged, or was sealed with another key.
    pub fn unseal(&self, secret: &SealedSecret) -> Result<SecretString, SealError> {
        let mut keyring = self.keyring.lock();
        let opened = keyring.current.open(&secret.sealed, &secret.label).or_else(|error| {
            let other = keyring.other.as_ref().ok_or(error)?;
            other.open(&secret.sealed, &secret.label)
        });
        match &opened {
            Ok(_) => drop(keyring.lost.remove(&secret.label)),
            Err(_) if keyring.lost.insert(secret.label.clone(), secret.sealed.clone()).is_none() => {
                tracing::error!(secret = secret.label, "a secret cannot be opened: it has to be set again");
            }
            Err(_) => {}
        }
        opened
    }

    /// Returns true if the last decryption of a secret failed.
    #[must_use]
    pub fn is_lost(&self, secret: &SealedSecret) -> bool {
        self.keyring.lock().lost.get(&secret.label) == Some(&secret.sealed)
    }

    /// Decrypts every secret and returns those that fail.
    ///
    /// # Errors
    /// A database error.
    pub fn verify_secrets(&self) -> Result<Vec<LostSecret>, StoreError> {
        let mut lost = Vec::new();
        for place in PLACES {
            let secrets = self.read(|connection| place.all(connection))?;
            for (_, name, secret) in secrets {
                if self.unseal(&secret).is_err() {
                    lost.push(LostSecret { kind: place.kind, name, secret: place.column });
                }
            }
        }
        Ok(lost)
    }

    /// Seals a secret and stores it in its row.
    pub(crate) fn write_secret(
        &self,
        connection: &Connection,
        (place, id): (Place, i64),
        secret: Option<&SecretString>,
    ) -> Result<(), StoreError> {
        let Place { kind, column, .. } = place;
        let label = place.label(id);
        let sealed = secret.map(|secret| self.keyring.lock().current.seal(secret, &label)).transpose()?;
        connection.execute(&format!("UPDATE {kind} SET {column} = ?2 WHERE id = ?1"), params![id, sealed])?;
        Ok(())
    }

    /// Changes a secret in its row.
    pub(crate) fn change_secret(
        &self,
        connection: &Connection,
        place: (Place, i64),
        change: &SecretChange,
    ) -> Result<(), StoreError> {
        match change {
            SecretChange::Keep => Ok(()),
            SecretChange::Set(secret) => self.write_secret(connection, place, Some(secret)),
            SecretChange::Remove => self.write_secret(connection, place, None),
        }
    }

    /// Returns the keyed hash by which equal secrets are found.
    pub(crate) fn keyed_hash(&self, secret: &SecretString) -> [u8; 32] {
        self.keyring.lock().current.hash(secret)
    }

    /// Checks that the records belong to the master key, and binds new ones to it.
    pub(crate) fn check_master_key(&self) -> Result<(), StoreError> {
        let constant = self.read(|connection| {
            let select = "SELECT sealed FROM master_key WHERE id = 1";
            Ok(connection.query_row(select, [], |row| row.get::<_, Vec<u8>>(0)).optional()?)
        })?;
        if let Some(constant) = constant {
            let opened = self.keyring.lock().current.open(&constant, CONSTANT_LABEL);
            return opened.map(|_| ()).map_err(|_| StoreError::ForeignMasterKey);
        }
        // Records of an older version belong to the key if it decrypts any of their secrets.
        let secrets = self.read(|connection| {
            let all = PLACES.iter().map(|place| place.all(connection));
            Ok(all.collect::<Result<Vec<_>, _>>()?.into_iter().flatten().collect::<Vec<_>>())
        })?;
        if !secrets.is_empty() && secrets.iter().all(|(_, _, secret)| self.unseal(secret).is_err()) {
            return Err(StoreError::ForeignMasterKey);
        }
        self.write(|connection| write_constant(connection, &self.keyring.lock().current))
    }

    /// Computes the displayed facts of secrets, for records of an older version.
    pub(crate) fn fill_secret_facts(&self) -> Result<(), StoreError> {
        let (passwords, keys) = self.read(|connection| {
            let feeds = ids(connection, "SELECT id FROM feed WHERE has_factory_password IS NULL")?;
            let destinations = ids(connection, "SELECT id FROM destination WHERE key_hash IS NULL")?;
            let mut passwords = FEED_PASSWORD.all(connection)?;
            passwords.retain(|(id, _, _)| feeds.contains(id));
            let mut keys = STREAM_KEY.all(connection)?;
            keys.retain(|(id, _, _)| destinations.contains(id));
            Ok((passwords, keys))
        })?;
        if passwords.is_empty() && keys.is_empty() {
            return Ok(());
        }
        self.write(|connection| {
            for (id, _, secret) in &passwords {
                if let Ok(password) = self.unseal(secret) {
                    write_password_facts(connection, *id, &password)?;
                }
            }
            for (id, _, secret) in &keys {
                if let Ok(key) = self.unseal(secret) {
                    self.write_key_facts(connection, *id, &key)?;
                }
            }
            Ok(())
        })
    }

    /// Removes the stream key from backup server addresses, in which an older version stored both.
    pub(crate) fn clean_backup_servers(&self) -> Result<(), StoreError> {
        let backups: Vec<(i64, String)> = self.read(|connection| {
            let select = "SELECT id, backup_server FROM destination WHERE backup_server IS NOT NULL";
            let mut statement = connection.prepare(select)?;
            Ok(statement.query_map([], |row| Ok((row.get(0)?, row.get(1)?)))?.collect::<Result<_, _>>()?)
        })?;
        if backups.is_empty() {
            return Ok(());
        }
        let keys = self.read(|connection| STREAM_KEY.all(connection))?;
        for (id, backup) in backups {
            let key = keys.iter().find(|(owner, _, _)| *owner == id).map(|(_, _, secret)| secret);
            let Some(Ok(key)) = key.map(|secret| self.unseal(secret)) else { continue };
            let end = format!("/{}", key.expose_secret());
            if let Some(clean) = backup.strip_suffix(&end) {
                let update = "UPDATE destination SET backup_server = ?2 WHERE id = ?1";
                self.write(|connection| Ok(connection.execute(update, params![id, clean])?))?;
            }
        }
        Ok(())
    }

    /// Stores the displayed facts of a stream key: ending, length, keyed hash.
    pub(crate) fn write_key_facts(
        &self,
        connection: &Connection,
        id: i64,
        key: &SecretString,
    ) -> Result<(), StoreError> {
        let shown = StreamKey::from_stored(key.clone());
        let length = i64::try_from(key.expose_secret().chars().count()).unwrap_or(i64::MAX);
        connection.execute(
            "UPDATE destination SET key_ending = ?2, key_length = ?3, key_hash = ?4 WHERE id = ?1",
            params![id, shown.ending(), length, self.keyed_hash(key)],
        )?;
        Ok(())
    }

    /// Seals every secret with a new master key, which replaces the present one in its file. Secrets that cannot be
    /// decrypted stay lost. Returns the number of sealed secrets.
    ///
    /// The new key is stored in a separate file until the records are sealed with it, so that after a crash at any
    /// moment there is a valid key.
    ///
    /// # Errors
    /// [`SealError::File`] if the folder of the master key cannot be written, or a database error; the present key then
    /// stays in use.
    pub fn rotate_master_key(&self) -> Result<usize, StoreError> {
        let Some(path) = self.keyring.lock().current.file().map(ToOwned::to_owned) else {
            return Err(SealError::Missing { path: "of these records".to_owned() }.into());
        };
        let waiting = MasterKey::next_path(&path);
        // Left over from a rotation that failed before the records were sealed with it.
        let _left = std::fs::remove_file(&waiting);
        let next = MasterKey::create(&waiting)?;
        self.keyring.lock().other = Some(next.clone());
        let count = match self.write(|connection| self.reseal(connection, &next)) {
            Ok(count) => count,
            Err(error) => {
                self.keyring.lock().other = None;
                let _removed = std::fs::remove_file(&waiting);
                return Err(error);
            }
        };
        let mut keyring = self.keyring.lock();
        keyring.other = Some(mem::replace(&mut keyring.current, next.clone()));
        drop(keyring);
        // If this fails, the next start finds the key in its separate file.
        self.keyring.lock().current = next.replace(&path)?;
        Ok(count)
    }

    fn reseal(&self, connection: &Connection, next: &MasterKey) -> Result<usize, StoreError> {
        let mut count = 0;
        for place in PLACES {
            let Place { kind, column, .. } = place;
            for (id, _, secret) in place.all(connection)? {
                let Ok(opened) = self.unseal(&secret) else { continue };
                let sealed = next.seal(&opened, &secret.label)?;
                let update = format!("UPDATE {kind} SET {column} = ?2 WHERE id = ?1");
                connection.execute(&update, params![id, sealed])?;
                if place.label == STREAM_KEY.label {
                    let update = "UPDATE destination SET key_hash = ?2 WHERE id = ?1";
                    connection.execute(update, params![id, next.hash(&opened)])?;
                }
                count += 1;
            }
        }
        write_constant(connection, next)?;
        Ok(count)
    }

    /// Binds the records to a master key that does not decrypt their secrets: all of them are lost and must be set again.
    ///
    /// # Errors
    /// A database error.
    pub(crate) fn adopt_master_key(&self) -> Result<(), StoreError> {
        self.write(|connection| write_constant(connection, &self.keyring.lock().current))
    }
}

fn write_constant(connection: &Connection, key: &MasterKey) -> Result<(), StoreError> {
    let sealed = key.seal(&CONSTANT.into(), CONSTANT_LABEL)?;
    connection.execute("INSERT OR REPLACE INTO master_key (id, sealed) VALUES (1, ?1)", [sealed])?;
    Ok(())
}

/// Stores the displayed fact about a camera's password.
pub(crate) fn write_password_facts(
    connection: &Connection,
    id: i64,
    password: &SecretString,
) -> Result<(), StoreError> {
    let user: Option<String> =
        connection.query_row("SELECT user FROM feed WHERE id = ?1", [id], |row| row.get(0))?;
    let is_factory = is_factory_default(&user.unwrap_or_default(), password.expose_secret());
    connection.execute("UPDATE feed SET has_factory_password = ?2 WHERE id = ?1", params![id, is_factory])?;
    Ok(())
}

fn ids(connection: &Connection, select: &str) -> Result<HashSet<i64>, StoreError> {
    let mut statement = connection.prepare(select)?;
    Ok(statement.query_map([], |row| row.get(0))?.collect::<Result<_, _>>()?)
}
