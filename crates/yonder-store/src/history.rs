//! Parts of feeds and destinations that have worked since they were set.

use rusqlite::params;

use crate::error::StoreError;
use crate::store::Store;

/// Parts of a feed or a destination that have worked since they were last set.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct History {
    /// A feed's account; a destination's stream key and passphrase.
    pub credentials: bool,
    /// A feed's address; a destination's servers.
    pub address: bool,
}

/// Record whose parts have worked, by name.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum HistorySubject {
    /// A feed.
    Feed(String),
    /// A destination.
    Destination(String),
}

impl Store {
    /// Records that subjects have worked, once since they were set. Unknown names are ignored.
    ///
    /// # Errors
    /// A database error.
    pub fn record_worked(&self, subjects: &[HistorySubject], now_s: i64) -> Result<(), StoreError> {
        if subjects.is_empty() {
            return Ok(());
        }
        self.write(|transaction| {
            let mut feed = transaction.prepare_cached(
                "UPDATE feed SET address_worked_s = coalesce(address_worked_s, ?2),
                 account_worked_s = coalesce(account_worked_s, ?2)
                 WHERE name = ?1 AND (address_worked_s IS NULL OR account_worked_s IS NULL)",
            )?;
            let mut destination = transaction.prepare_cached(
                "UPDATE destination SET server_worked_s = coalesce(server_worked_s, ?2),
                 secrets_worked_s = coalesce(secrets_worked_s, ?2)
                 WHERE name = ?1 AND (server_worked_s IS NULL OR secrets_worked_s IS NULL)",
            )?;
            for subject in subjects {
                match subject {
                    HistorySubject::Feed(name) => feed.execute(params![name, now_s])?,
                    HistorySubject::Destination(name) => destination.execute(params![name, now_s])?,
                };
            }
            Ok(())
        })
    }
}
