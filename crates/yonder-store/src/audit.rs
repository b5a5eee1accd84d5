//! Audit log, with the state before and after each change; and the identity of records.

use std::collections::HashMap;

use rusqlite::{OptionalExtension as _, Row, params};
use sha2::{Digest as _, Sha256};

use crate::error::StoreError;
use crate::record_kind::RecordKind;
use crate::store::Store;

/// Maximum number of entries; the oldest are removed.
const MAX_ENTRIES: i64 = 200_000;

/// Entry of the audit log.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AuditEntry {
    /// Number; later entries have higher ones. 0 before it is stored.
    pub id: i64,
    /// Time, in milliseconds since 1970.
    pub at_ms: i64,
    /// Person or token that made the change.
    pub who: String,
    /// Origin, such as `console`.
    pub origin: String,
    /// Network address of the caller.
    pub address: Option<String>,
    /// Action, such as `changed`.
    pub action: String,
    /// Kind of the record.
    pub kind: String,
    /// Name of the record at that time.
    pub name: String,
    /// Stable ID of the record.
    pub uid: Option<String>,
    /// Changed fields, as a JSON array, without secrets.
    pub fields: String,
    /// Further information, without secrets.
    pub detail: String,
}

/// Filter for entries of the audit log.
#[derive(Debug, Clone, Default)]
pub struct AuditFilter {
    /// Only entries with a lower number.
    pub before: Option<i64>,
    /// Only entries of this kind of record.
    pub kind: Option<String>,
    /// Only entries about the record with this name or ID.
    pub about: Option<String>,
    /// Only changes by this person or token.
    pub who: Option<String>,
    /// Maximum number of entries; the latest are returned.
    pub limit: u32,
}

/// Identity of a record.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Identity {
    /// Stable ID.
    pub uid: String,
    /// Revision, which each change increments.
    pub revision: i64,
}

fn entry(row: &Row<'_>) -> rusqlite::Result<AuditEntry> {
    Ok(AuditEntry {
        id: row.get("id")?,
        at_ms: row.get("at_ms")?,
        who: row.get("who")?,
        origin: row.get("origin")?,
        address: row.get("address")?,
        action: row.get("action")?,
        kind: row.get("kind")?,
        name: row.get("name")?,
        uid: row.get("uid")?,
        fields: row.get("fields")?,
        detail: row.get("detail")?,
    })
}

impl Store {
    /// Adds an entry to the audit log, and removes those beyond the limit.
    ///
    /// # Errors
    /// A database error.
    pub fn add_audit(&self, new: &AuditEntry) -> Result<(), StoreError> {
        self.write(|transaction| {
            transaction
                .prepare_cached(
                    "INSERT INTO audit (at_ms, who, origin, address, action, kind, name, uid, fields, detail)
                     VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10)",
                )?
                .execute(params![
                    new.at_ms,
                    new.who,
                    new.origin,
                    new.address,
                    new.action,
                    new.kind,
                    new.name,
                    new.uid,
                    new.fields,
                    new.detail
                ])?;
            let last = transaction.last_insert_rowid();
            transaction.prepare_cached("DELETE FROM audit WHERE id <= ?1")?.execute([last - MAX_ENTRIES])?;
            Ok(())
        })
    }

    /// Returns entries of the audit log, the latest first.
    ///
    /// # Errors
    /// A database error.
    pub fn audit(&self, filter: &AuditFilter) -> Result<Vec<AuditEntry>, StoreError> {
        self.read(|connection| {
            let mut statement = connection.prepare_cached(
                "SELECT * FROM audit WHERE (?1 IS NULL OR id < ?1) AND (?2 IS NULL OR kind = ?2)
                     AND (?3 IS NULL OR name = ?3 COLLATE NOCASE OR uid = ?3)
                     AND (?4 IS NULL OR who = ?4 COLLATE NOCASE)
                 ORDER BY id DESC LIMIT ?5",
            )?;
            let AuditFilter { before, kind, about, who, limit } = filter;
            let rows = statement.query_map(params![before, kind, about, who, limit], entry)?;
            Ok(rows.collect::<Result<_, _>>()?)
        })
    }

    /// Returns the time of the last entry with this action, in milliseconds since 1970.
    ///
    /// # Errors
    /// A database error.
    pub fn last_audit_ms(&self, action: &str) -> Result<Option<i64>, StoreError> {
        self.read(|connection| {
            let select = "SELECT max(at_ms) FROM audit WHERE action = ?1";
            Ok(connection.prepare_cached(select)?.query_row([action], |row| row.get(0))?)
        })
    }

    /// Returns the identity of a record; `None` for an unknown one, and for kinds that have none.
    ///
    /// # Errors
    /// A database error.
    pub fn identity(&self, kind: RecordKind, name: &str) -> Result<Option<Identity>, StoreError> {
        if !kind.has_identity() {
            return Ok(None);
        }
        self.read(|connection| {
            // Tables are named like their kind.
            let select = format!("SELECT uid, revision FROM {kind} WHERE name = ?1");
            let read = |row: &Row<'_>| Ok(Identity { uid: row.get(0)?, revision: row.get(1)? });
            Ok(connection.prepare_cached(&select)?.query_row([name], read).optional()?)
        })
    }

    /// Returns the identities of all records of a kind, by name; empty for kinds without.
    ///
    /// # Errors
    /// A database error.
    pub fn identities(&self, kind: RecordKind) -> Result<HashMap<String, Identity>, StoreError> {
        if !kind.has_identity() {
            return Ok(HashMap::new());
        }
        self.read(|connection| {
            let select = format!("SELECT name, uid, revision FROM {kind}");
            let read =
                |row: &Row<'_>| Ok((row.get(0)?, Identity { uid: row.get(1)?, revision: row.get(2)? }));
            Ok(connection.prepare_cached(&select)?.query_map([], read)?.collect::<Result<_, _>>()?)
        })
    }

    /// Returns the revision of all records, which changes with each record and each desired state.
    ///
    /// # Errors
    /// A database error.
    pub fn revision(&self) -> Result<String, StoreError> {
        self.read(|connection| {
            let mut statement = connection.prepare_cached(
                "SELECT uid, revision, wanted FROM (
                     SELECT uid, revision, wanted FROM relay
                     UNION ALL SELECT uid, revision, '' FROM feed
                     UNION ALL SELECT uid, revision, key_rolls FROM destination
                     UNION ALL SELECT uid, revision, '' FROM uplink
                     UNION ALL SELECT uid, revision, '' FROM signpost
                     UNION ALL SELECT uid, revision, '' FROM platform
                     UNION ALL SELECT uid, revision, '' FROM pattern
                     UNION ALL SELECT uid, revision, '' FROM contact
                     UNION ALL SELECT uid, revision, '' FROM alert
                 ) ORDER BY uid",
            )?;
            let mut digest = Sha256::new();
            let mut rows = statement.query([])?;
            while let Some(row) = rows.next()? {
                let (uid, revision): (String, i64) = (row.get(0)?, row.get(1)?);
                let state: rusqlite::types::Value = row.get(2)?;
                digest.update(format!("{uid} {revision} {state:?}\n"));
            }
            let digest = digest.finalize();
            Ok(hex::encode(digest.get(..8).unwrap_or(&digest)))
        })
    }

    /// Returns the current name of the record with this ID.
    ///
    /// # Errors
    /// A database error.
    pub fn name_of(&self, kind: RecordKind, uid: &str) -> Result<Option<String>, StoreError> {
        if !kind.has_identity() {
            return Ok(None);
        }
        self.read(|connection| {
            let select = format!("SELECT name FROM {kind} WHERE uid = ?1");
            Ok(connection.prepare_cached(&select)?.query_row([uid], |row| row.get(0)).optional()?)
        })
    }
}
