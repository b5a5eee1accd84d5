//! Access of encoders to the feeds that they publish to: stream keys and passphrases.

use rusqlite::{Connection, Row, params};
use secrecy::SecretString;

use crate::error::StoreError;
use crate::sealed::{INGEST_FORMER_KEY, INGEST_KEY, INGEST_PASSPHRASE, SealedSecret, SecretChange};
use crate::store::Store;

/// Access of encoders to a feed; empty for a feed that is pulled.
#[derive(Debug, Clone, Default)]
pub struct IngestAccess {
    /// Stream key.
    pub key: Option<SealedSecret>,
    /// When the stream key was set, in seconds since 1970.
    pub key_set_s: i64,
    /// Former stream key, during its grace period.
    pub former_key: Option<FormerKey>,
    /// Passphrase of SRT encoders.
    pub passphrase: Option<SealedSecret>,
}

/// Former stream key, which is accepted beside the present one for some time.
#[derive(Debug, Clone)]
pub struct FormerKey {
    /// Stream key.
    pub secret: SealedSecret,
    /// End of its grace period, in seconds since 1970.
    pub until_s: i64,
}

impl IngestAccess {
    pub(crate) fn read(row: &Row<'_>, id: i64) -> rusqlite::Result<Self> {
        let former = INGEST_FORMER_KEY.read(id, row.get("ingest_former_key")?);
        let until: Option<i64> = row.get("ingest_former_until_s")?;
        Ok(Self {
            key: INGEST_KEY.read(id, row.get("ingest_key")?),
            key_set_s: row.get::<_, Option<i64>>("ingest_key_set_s")?.unwrap_or_default(),
            former_key: former.zip(until).map(|(secret, until_s)| FormerKey { secret, until_s }),
            passphrase: INGEST_PASSPHRASE.read(id, row.get("ingest_passphrase")?),
        })
    }
}

impl Store {
    /// Replaces the stream key of encoders of the feed `name`. With `former_until_s` the present key stays valid until then.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or a database error.
    pub fn set_ingest_key(
        &self,
        name: &str,
        key: &SecretString,
        former_until_s: Option<i64>,
        now_s: i64,
    ) -> Result<(), StoreError> {
        self.write(|transaction| {
            let feed = self.find_feed(transaction, name)?;
            // A key that cannot be decrypted cannot be kept either.
            let present = feed.ingest.key.as_ref().and_then(|secret| self.unseal(secret).ok());
            let former = former_until_s.and(present);
            self.write_secret(transaction, (INGEST_FORMER_KEY, feed.id), former.as_ref())?;
            let update = "UPDATE feed SET ingest_former_until_s = ?2 WHERE id = ?1";
            transaction.execute(update, params![feed.id, former.and(former_until_s)])?;
            self.write_ingest_key(transaction, feed.id, key, now_s)
        })
    }

    /// Changes the passphrase of SRT encoders of the feed `name`.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or a database error.
    pub fn change_ingest_passphrase(&self, name: &str, change: &SecretChange) -> Result<(), StoreError> {
        self.write(|transaction| {
            let id = self.find_feed(transaction, name)?.id;
            self.change_secret(transaction, (INGEST_PASSPHRASE, id), change)
        })
    }

    /// Removes former stream keys whose grace period has ended, and returns the names of their feeds.
    ///
    /// # Errors
    /// A database error.
    pub fn remove_expired_ingest_keys(&self, now_s: i64) -> Result<Vec<String>, StoreError> {
        let expired = "SELECT name FROM feed WHERE ingest_former_until_s <= ?1 ORDER BY name";
        let names: Vec<String> = self.read(|connection| {
            let mut statement = connection.prepare_cached(expired)?;
            Ok(statement.query_map([now_s], |row| row.get(0))?.collect::<Result<_, _>>()?)
        })?;
        if !names.is_empty() {
            self.write(|transaction| {
                let update = "UPDATE feed SET ingest_former_key = NULL, ingest_former_until_s = NULL
                              WHERE ingest_former_until_s <= ?1";
                transaction.execute(update, [now_s])?;
                Ok(())
            })?;
        }
        Ok(names)
    }

    pub(crate) fn write_ingest_key(
        &self,
        connection: &Connection,
        id: i64,
        key: &SecretString,
        now_s: i64,
    ) -> Result<(), StoreError> {
        self.write_secret(connection, (INGEST_KEY, id), Some(key))?;
        connection.execute("UPDATE feed SET ingest_key_set_s = ?2 WHERE id = ?1", params![id, now_s])?;
        Ok(())
    }
}
