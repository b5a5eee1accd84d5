//! Rule sheets of the user's own.

use rusqlite::params;

use crate::error::{Kind, StoreError};
use crate::store::Store;

/// A sheet as it is kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PlatformSheet {
    /// Name.
    pub name: String,
    /// Rules, as JSON.
    pub rules: String,
}

impl Store {
    /// Keeps a sheet, in place of one of the same name if there is any.
    ///
    /// # Errors
    /// The store's failure.
    pub fn keep_platform(&self, sheet: &PlatformSheet, now_s: i64) -> Result<(), StoreError> {
        self.write(|transaction| {
            transaction.execute(
                "INSERT INTO platform (name, rules, created_s) VALUES (?1, ?2, ?3)
                 ON CONFLICT (name) DO UPDATE SET rules = ?2",
                params![sheet.name, sheet.rules, now_s],
            )?;
            Ok(())
        })
    }

    /// Removes a sheet.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or the store's failure.
    pub fn remove_platform(&self, name: &str) -> Result<(), StoreError> {
        self.write(|transaction| {
            match transaction.execute("DELETE FROM platform WHERE name = ?1", [name])? {
                0 => Err(StoreError::NotFound { kind: Kind::Platform, name: name.to_owned() }),
                _ => Ok(()),
            }
        })
    }

    /// All sheets that are kept, by name.
    ///
    /// # Errors
    /// The store's failure.
    pub fn platforms(&self) -> Result<Vec<PlatformSheet>, StoreError> {
        self.read(|connection| {
            let mut statement =
                connection.prepare_cached("SELECT name, rules FROM platform ORDER BY name")?;
            let rows = statement
                .query_map([], |row| Ok(PlatformSheet { name: row.get(0)?, rules: row.get(1)? }))?
                .collect::<Result<Vec<_>, _>>()?;
            Ok(rows)
        })
    }
}
