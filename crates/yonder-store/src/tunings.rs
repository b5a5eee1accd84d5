//! Changes of cameras' encoder settings, with the former ones.

use rusqlite::{OptionalExtension as _, params};
use yonder_core::tuning::EncoderFormat;

use crate::error::StoreError;
use crate::store::Store;

/// Maximum number of changes of a feed that can be undone; the oldest are dropped.
const MAX_TUNINGS: i64 = 20;

/// Change of a camera's encoder settings.
#[derive(Debug, Clone, PartialEq)]
pub struct Tuning {
    /// Row ID.
    pub id: i64,
    /// Time, in seconds since 1970.
    pub at_s: i64,
    /// Format before the change.
    pub before: EncoderFormat,
}

impl Store {
    /// Stores the format before a change of the camera of the feed `name`, and returns the ID of the change.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or a database error.
    pub fn add_tuning(&self, name: &str, before: &EncoderFormat, now_s: i64) -> Result<i64, StoreError> {
        let json = serde_json::to_string(before).map_err(|_| StoreError::Damaged("an encoder format"))?;
        self.write(|transaction| {
            let feed = self.find_feed(transaction, name)?.id;
            transaction.execute(
                "INSERT INTO tuning (feed, at_s, before) VALUES (?1, ?2, ?3)",
                params![feed, now_s, json],
            )?;
            let id = transaction.last_insert_rowid();
            transaction.execute(
                "DELETE FROM tuning WHERE feed = ?1 AND id NOT IN
                 (SELECT id FROM tuning WHERE feed = ?1 ORDER BY id DESC LIMIT ?2)",
                params![feed, MAX_TUNINGS],
            )?;
            Ok(id)
        })
    }

    /// Removes a change that was not made, or was undone.
    ///
    /// # Errors
    /// A database error.
    pub fn remove_tuning(&self, id: i64) -> Result<(), StoreError> {
        self.write(|transaction| {
            transaction.execute("DELETE FROM tuning WHERE id = ?1", [id])?;
            Ok(())
        })
    }

    /// Returns the last change of the camera of the feed `name`.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or a database error.
    pub fn last_tuning(&self, name: &str) -> Result<Option<Tuning>, StoreError> {
        self.read(|connection| {
            let feed = self.find_feed(connection, name)?.id;
            let row = connection
                .prepare_cached(
                    "SELECT id, at_s, before FROM tuning WHERE feed = ?1 ORDER BY id DESC LIMIT 1",
                )?
                .query_row([feed], |row| Ok((row.get(0)?, row.get(1)?, row.get::<_, String>(2)?)))
                .optional()?;
            let Some((id, at_s, before)) = row else { return Ok(None) };
            let before =
                serde_json::from_str(&before).map_err(|_| StoreError::Damaged("an encoder format"))?;
            Ok(Some(Tuning { id, at_s, before }))
        })
    }
}
