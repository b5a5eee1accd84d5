//! User-defined rule sheets.

use rusqlite::params;

use crate::error::StoreError;
use crate::record_kind::RecordKind;
use crate::store::Store;

/// Stored sheet.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PlatformSheet {
    /// Name.
    pub name: String,
    /// Rules, as JSON.
    pub rules: String,
}

impl Store {
    /// Stores a sheet, replacing one of the same name.
    ///
    /// # Errors
    /// A database error.
    pub fn save_platform(&self, sheet: &PlatformSheet, now_s: i64) -> Result<(), StoreError> {
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
    /// [`StoreError::NotFound`], or a database error.
    pub fn remove_platform(&self, name: &str) -> Result<(), StoreError> {
        self.write(|transaction| {
            match transaction.execute("DELETE FROM platform WHERE name = ?1", [name])? {
                0 => Err(StoreError::NotFound { kind: RecordKind::Platform, name: name.to_owned() }),
                _ => Ok(()),
            }
        })
    }

    /// Returns all stored sheets, by name.
    ///
    /// # Errors
    /// A database error.
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
