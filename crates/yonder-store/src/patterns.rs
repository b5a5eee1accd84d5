//! Address patterns.

use rusqlite::{OptionalExtension as _, Row, params};

use crate::error::StoreError;
use crate::record_kind::RecordKind;
use crate::store::{Store, map_unique_violation};

/// Stored pattern.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pattern {
    /// Name.
    pub name: String,
    /// Address with placeholders.
    pub template: String,
    /// Placeholders, as JSON.
    pub placeholders: String,
    /// Purpose.
    pub note: String,
}

impl Store {
    /// Adds a pattern.
    ///
    /// # Errors
    /// [`StoreError::NameTaken`], or a database error.
    pub fn add_pattern(&self, pattern: &Pattern, now_s: i64) -> Result<(), StoreError> {
        let Pattern { name, template, placeholders, note } = pattern;
        let name_taken = || StoreError::NameTaken { kind: RecordKind::Pattern, name: name.clone() };
        self.write(|transaction| {
            transaction
                .execute(
                    "INSERT INTO pattern (name, template, placeholders, note, created_s) VALUES (?1, ?2, ?3, ?4, ?5)",
                    params![name, template, placeholders, note, now_s],
                )
                .map_err(|error| map_unique_violation(error, name_taken))?;
            Ok(())
        })
    }

    /// Replaces the pattern `name`, including its name.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], [`StoreError::NameTaken`], or a database error.
    pub fn edit_pattern(&self, name: &str, pattern: &Pattern) -> Result<(), StoreError> {
        let name_taken = || StoreError::NameTaken { kind: RecordKind::Pattern, name: pattern.name.clone() };
        self.write(|transaction| {
            let changed = transaction
                .execute(
                    "UPDATE pattern SET name = ?2, template = ?3, placeholders = ?4, note = ?5 WHERE name = ?1",
                    params![name, pattern.name, pattern.template, pattern.placeholders, pattern.note],
                )
                .map_err(|error| map_unique_violation(error, name_taken))?;
            found(changed, name)
        })
    }

    /// Removes a pattern; feeds created from it keep their addresses.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or a database error.
    pub fn remove_pattern(&self, name: &str) -> Result<(), StoreError> {
        self.write(|transaction| {
            let changed = transaction.execute("DELETE FROM pattern WHERE name = ?1", [name])?;
            found(changed, name)
        })
    }

    /// Returns the pattern `name`.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or a database error.
    pub fn pattern(&self, name: &str) -> Result<Pattern, StoreError> {
        self.read(|connection| {
            connection
                .prepare_cached("SELECT * FROM pattern WHERE name = ?1")?
                .query_row([name], read)
                .optional()?
                .ok_or_else(|| not_found(name))
        })
    }

    /// Returns all patterns by name.
    ///
    /// # Errors
    /// A database error.
    pub fn patterns(&self) -> Result<Vec<Pattern>, StoreError> {
        self.read(|connection| {
            let mut statement = connection.prepare_cached("SELECT * FROM pattern ORDER BY name")?;
            let rows = statement.query_map([], read)?.collect::<Result<Vec<_>, _>>()?;
            Ok(rows)
        })
    }
}

fn found(changed: usize, name: &str) -> Result<(), StoreError> {
    if changed == 0 { Err(not_found(name)) } else { Ok(()) }
}

fn not_found(name: &str) -> StoreError {
    StoreError::NotFound { kind: RecordKind::Pattern, name: name.to_owned() }
}

fn read(row: &Row<'_>) -> rusqlite::Result<Pattern> {
    Ok(Pattern {
        name: row.get("name")?,
        template: row.get("template")?,
        placeholders: row.get("placeholders")?,
        note: row.get("note")?,
    })
}
