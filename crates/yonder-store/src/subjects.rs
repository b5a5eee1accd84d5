//! Subjects of the history. Runs, outages, rates and traffic refer to the ids of records: a rename does not split a
//! history, and a new record does not inherit that of a removed one with the same name.

use rusqlite::{Connection, OptionalExtension as _, params};

use crate::error::StoreError;
use crate::record_kind::RecordKind;

/// Name of a subject in queries over `subject`, marked if another record has the name now.
pub(crate) const SUBJECT_NAME: &str = "CASE
    WHEN EXISTS (SELECT 1 FROM subject AS other WHERE other.kind = subject.kind AND other.name = subject.name
            AND other.part = subject.part AND other.id > subject.id)
        OR subject.kind = 'feed' AND EXISTS (SELECT 1 FROM feed WHERE feed.name = subject.name AND feed.uid <> subject.uid)
        OR subject.kind IN ('relay', 'push')
            AND EXISTS (SELECT 1 FROM relay WHERE relay.name = subject.name AND relay.uid <> subject.uid)
        OR subject.kind = 'uplink'
            AND EXISTS (SELECT 1 FROM uplink WHERE uplink.name = subject.name AND uplink.uid <> subject.uid)
    THEN subject.name || ' (removed)' ELSE subject.name END";

/// Names of a subject at present.
#[derive(Debug, Clone, Copy)]
pub(crate) struct SubjectNames<'a> {
    /// `feed`, `push`, `relay` or `uplink`.
    pub(crate) kind: &'static str,
    /// Name; of a push, that of its relay.
    pub(crate) name: &'a str,
    /// Destination of a push; otherwise empty.
    pub(crate) part: &'a str,
}

impl SubjectNames<'_> {
    /// Returns the kind of the record with the name.
    fn record_kind(self) -> RecordKind {
        match self.kind {
            "feed" => RecordKind::Feed,
            "uplink" => RecordKind::Uplink,
            _ => RecordKind::Relay,
        }
    }

    /// Returns the ID of the subject, if it has any history.
    pub(crate) fn find(self, connection: &Connection) -> Result<Option<i64>, StoreError> {
        match self.uids(connection)? {
            Some((uid, part_uid)) => {
                let select = "SELECT id FROM subject WHERE kind = ?1 AND uid = ?2 AND part_uid = ?3";
                let mut select = connection.prepare_cached(select)?;
                let found =
                    select.query_row(params![self.kind, uid, part_uid], |row| row.get(0)).optional()?;
                Ok(found)
            }
            None => self.find_removed(connection),
        }
    }

    /// Returns the last subject with these names, whose record was removed.
    fn find_removed(self, connection: &Connection) -> Result<Option<i64>, StoreError> {
        let select =
            "SELECT id FROM subject WHERE kind = ?1 AND name = ?2 AND part = ?3 ORDER BY id DESC LIMIT 1";
        let mut select = connection.prepare_cached(select)?;
        Ok(select.query_row(params![self.kind, self.name, self.part], |row| row.get(0)).optional()?)
    }

    /// Returns the ID of the subject, which is added if it has no history yet.
    pub(crate) fn find_or_add(self, connection: &Connection) -> Result<i64, StoreError> {
        if let Some(id) = self.find(connection)? {
            return Ok(id);
        }
        let (uid, part_uid) = match self.uids(connection)? {
            Some(uids) => uids,
            None => {
                let make = "SELECT 'former:' || lower(hex(randomblob(8)))";
                (connection.query_row(make, [], |row| row.get(0))?, String::new())
            }
        };
        connection
            .prepare_cached(
                "INSERT INTO subject (kind, uid, part_uid, name, part) VALUES (?1, ?2, ?3, ?4, ?5)",
            )?
            .execute(params![self.kind, uid, part_uid, self.name, self.part])?;
        Ok(connection.last_insert_rowid())
    }

    /// Returns the IDs of the records that have these names, or had them last; `None` if one is unknown.
    fn uids(self, connection: &Connection) -> Result<Option<(String, String)>, StoreError> {
        let Some(uid) = uid_of(connection, self.record_kind(), self.name)? else { return Ok(None) };
        if self.kind != "push" {
            return Ok(Some((uid, String::new())));
        }
        Ok(uid_of(connection, RecordKind::Destination, self.part)?.map(|part_uid| (uid, part_uid)))
    }
}

/// Returns the ID of the record that has a name, or had it last.
pub(crate) fn uid_of(
    connection: &Connection,
    kind: RecordKind,
    name: &str,
) -> Result<Option<String>, StoreError> {
    if !kind.has_identity() {
        return Ok(None);
    }
    // Tables are named like their kind.
    let present = format!("SELECT uid FROM {kind} WHERE name = ?1");
    let found = connection.prepare_cached(&present)?.query_row([name], |row| row.get(0)).optional()?;
    if found.is_some() {
        return Ok(found);
    }
    let former = "SELECT uid FROM former_name WHERE kind = ?1 AND name = ?2";
    let mut former = connection.prepare_cached(former)?;
    Ok(former.query_row(params![kind.to_string(), name], |row| row.get(0)).optional()?)
}

/// Moves the history of a renamed record, and alerts about it, to its new name, unless another record has the old name
/// as well.
pub(crate) fn follow_rename(
    connection: &Connection,
    kind: RecordKind,
    old: &str,
    new: &str,
) -> Result<(), StoreError> {
    if old == new {
        return Ok(());
    }
    let uid: String =
        connection.query_row(&format!("SELECT uid FROM {kind} WHERE name = ?1"), [new], |row| row.get(0))?;
    connection.execute(
        "INSERT OR REPLACE INTO former_name (kind, name, uid) VALUES (?1, ?2, ?3)",
        params![kind.to_string(), old, uid],
    )?;
    connection
        .execute("DELETE FROM former_name WHERE kind = ?1 AND name = ?2", params![kind.to_string(), new])?;
    let (kinds, column, id_column) = match kind {
        RecordKind::Feed => ("'feed'", "name", "uid"),
        RecordKind::Uplink => ("'uplink'", "name", "uid"),
        RecordKind::Relay => ("'relay', 'push'", "name", "uid"),
        RecordKind::Destination => ("'push'", "part", "part_uid"),
        _ => return Ok(()),
    };
    let update = format!("UPDATE subject SET {column} = ?2 WHERE kind IN ({kinds}) AND {id_column} = ?1");
    connection.execute(&update, params![uid, new])?;
    connection.execute(
        "UPDATE alert SET about = ?2 WHERE about = ?1 COLLATE NOCASE
             AND NOT EXISTS (SELECT 1 FROM feed WHERE name = ?1)
             AND NOT EXISTS (SELECT 1 FROM relay WHERE name = ?1)
             AND NOT EXISTS (SELECT 1 FROM destination WHERE name = ?1)
             AND NOT EXISTS (SELECT 1 FROM uplink WHERE name = ?1)",
        params![old, new],
    )?;
    Ok(())
}
