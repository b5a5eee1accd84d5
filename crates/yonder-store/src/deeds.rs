//! What people did that others may ask about later: a key revealed, a start forced.

use rusqlite::params;

use crate::error::StoreError;
use crate::store::Store;

/// Something that somebody did and that is to be found again.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Deed {
    /// When, in seconds since 1970.
    pub at_s: i64,
    /// Who.
    pub who: String,
    /// What, as a stable word.
    pub what: String,
    /// To what, by name.
    pub subject: String,
    /// What else is to be known, without any secret.
    pub detail: String,
}

impl Store {
    /// Records what somebody did.
    ///
    /// # Errors
    /// The store's failure.
    pub fn record_deed(&self, deed: &Deed) -> Result<(), StoreError> {
        self.write(|transaction| {
            transaction.execute(
                "INSERT INTO deed (at_s, who, what, subject, detail) VALUES (?1, ?2, ?3, ?4, ?5)",
                params![deed.at_s, deed.who, deed.what, deed.subject, deed.detail],
            )?;
            Ok(())
        })
    }

    /// The deeds of late, newest first.
    ///
    /// # Errors
    /// The store's failure.
    pub fn deeds(&self, most: u32) -> Result<Vec<Deed>, StoreError> {
        self.read(|connection| {
            let mut statement = connection.prepare_cached("SELECT * FROM deed ORDER BY id DESC LIMIT ?1")?;
            let rows = statement
                .query_map([most], |row| {
                    Ok(Deed {
                        at_s: row.get("at_s")?,
                        who: row.get("who")?,
                        what: row.get("what")?,
                        subject: row.get("subject")?,
                        detail: row.get("detail")?,
                    })
                })?
                .collect::<Result<Vec<_>, _>>()?;
            Ok(rows)
        })
    }
}
