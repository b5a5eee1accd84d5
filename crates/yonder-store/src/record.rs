//! History: logbook, runs and outages.

use rusqlite::{Connection, OptionalExtension as _, Row, params};
use yonder_core::record::{HistoryEvent, OpenRun, OutageCause, Span, SpanOutage, StateBegan, Subject};
use yonder_core::{FaultDomain, PushPhase};

use crate::error::StoreError;
use crate::record_kind::RecordKind;
use crate::store::Store;
use crate::subjects::{SUBJECT_NAME, SubjectNames, uid_of};

/// Logged action of a person or of the service.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LoggedAction {
    /// Time, in milliseconds since 1970.
    pub at_ms: i64,
    /// Name of the person; `None` for the service.
    pub who: Option<String>,
    /// Action, as a stable identifier.
    pub what: String,
    /// Kind of the record.
    pub kind: RecordKind,
    /// Name of the record.
    pub name: String,
    /// Details, without secrets.
    pub detail: String,
}

/// Stored line of the logbook.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LogLine {
    /// Number; later lines have higher ones.
    pub id: i64,
    /// Time, in milliseconds since 1970.
    pub at_ms: i64,
    /// Kind of the subject.
    pub kind: String,
    /// Name of the subject; of a push, that of its relay.
    pub name: String,
    /// Destination of a push.
    pub part: Option<String>,
    /// State or action.
    pub what: String,
    /// Code of the cause.
    pub code: Option<String>,
    /// Fault domain of the cause.
    pub side: Option<String>,
    /// Details.
    pub message: String,
    /// Name of the person.
    pub who: Option<String>,
    /// Stable ID of the record; of a push, that of its relay.
    pub uid: Option<String>,
    /// Stable ID of the destination of a push.
    pub part_uid: Option<String>,
}

/// Filter for lines of the logbook.
#[derive(Debug, Clone, Default)]
pub struct LogFilter {
    /// Only lines with a higher number.
    pub after: Option<i64>,
    /// Only lines with a lower number.
    pub before: Option<i64>,
    /// Only lines about this kind.
    pub kind: Option<String>,
    /// Only lines with a cause in this fault domain.
    pub side: Option<String>,
    /// Only actions of people (true), or only other lines (false).
    pub changes: Option<bool>,
    /// Only lines from this time on.
    pub from_ms: Option<i64>,
    /// Only lines about the record with this name or ID, also under former names, and about pushes of it or to it.
    pub about: Option<String>,
    /// Maximum number of lines; the latest are returned.
    pub limit: u32,
}

fn names(subject: &Subject) -> SubjectNames<'_> {
    match subject {
        Subject::Feed(feed) => SubjectNames { kind: "feed", name: feed, part: "" },
        Subject::Relay(relay) => SubjectNames { kind: "relay", name: relay, part: "" },
        Subject::Push(relay, destination) => SubjectNames { kind: "push", name: relay, part: destination },
    }
}

fn subject(row: &Row<'_>) -> rusqlite::Result<Subject> {
    let (kind, name): (String, String) = (row.get("kind")?, row.get("name")?);
    Ok(match kind.as_str() {
        "feed" => Subject::Feed(name),
        "relay" => Subject::Relay(name),
        _ => Subject::Push(name, row.get("part")?),
    })
}

fn span(row: &Row<'_>) -> rusqlite::Result<Span> {
    Ok(Span { subject: subject(row)?, begin_ms: row.get("begin_ms")?, end_ms: row.get("end_ms")? })
}

fn outage(row: &Row<'_>) -> rusqlite::Result<SpanOutage> {
    let side: String = row.get("side")?;
    let side = FaultDomain::from_name(&side).unwrap_or(FaultDomain::Service);
    let cause = OutageCause { code: row.get("code")?, side, message: row.get("message")? };
    Ok(SpanOutage { span: span(row)?, cause })
}

fn log_line(row: &Row<'_>) -> rusqlite::Result<LogLine> {
    let part: String = row.get("part")?;
    Ok(LogLine {
        id: row.get("id")?,
        at_ms: row.get("at_ms")?,
        kind: row.get("kind")?,
        name: row.get("name")?,
        part: Some(part).filter(|part| !part.is_empty()),
        what: row.get("what")?,
        code: row.get("code")?,
        side: row.get("side")?,
        message: row.get("message")?,
        who: row.get("who")?,
        uid: row.get("uid")?,
        part_uid: row.get("part_uid")?,
    })
}

/// Returns the IDs of the records with a name, as a JSON array.
fn uids_of(connection: &Connection, name: &str) -> Result<String, StoreError> {
    let mut uids = Vec::new();
    for kind in [RecordKind::Feed, RecordKind::Relay, RecordKind::Destination, RecordKind::Uplink] {
        uids.extend(uid_of(connection, kind, name)?);
    }
    let quoted: Vec<String> = uids.iter().map(|uid| format!("\"{uid}\"")).collect();
    Ok(format!("[{}]", quoted.join(",")))
}

fn keep(transaction: &Connection, event: &HistoryEvent) -> Result<(), StoreError> {
    match event {
        HistoryEvent::State { at_ms, subject, state, cause, remark } => {
            let names = names(subject);
            let cause = cause.as_ref();
            let line = NewLine {
                at_ms: *at_ms,
                names,
                what: state.as_str(),
                code: cause.map(|cause| &*cause.code),
                side: cause.map(|cause| cause.side),
                message: cause.map(|cause| &cause.message).or(remark.as_ref()).map_or("", String::as_str),
            };
            line.add(transaction)?;
        }
        HistoryEvent::RunBegan { at_ms, subject } => {
            let subject = names(subject).find_or_add(transaction)?;
            transaction
                .prepare_cached("INSERT INTO run (subject, begin_ms) VALUES (?1, ?2)")?
                .execute(params![subject, at_ms])?;
        }
        HistoryEvent::OutageBegan { at_ms, subject, cause } => {
            let subject = names(subject).find_or_add(transaction)?;
            transaction
                .prepare_cached(
                    "INSERT INTO outage (subject, begin_ms, code, side, message) VALUES (?1, ?2, ?3, ?4, ?5)",
                )?
                .execute(params![subject, at_ms, cause.code, cause.side.as_str(), cause.message])?;
        }
        HistoryEvent::RunEnded { at_ms, subject } => end(transaction, "run", *at_ms, subject)?,
        HistoryEvent::OutageEnded { at_ms, subject } => end(transaction, "outage", *at_ms, subject)?,
    }
    Ok(())
}

/// Logbook line of a state.
struct NewLine<'a> {
    at_ms: i64,
    names: SubjectNames<'a>,
    what: &'a str,
    code: Option<&'a str>,
    side: Option<FaultDomain>,
    message: &'a str,
}

impl NewLine<'_> {
    fn add(&self, transaction: &Connection) -> Result<(), StoreError> {
        let SubjectNames { kind, name, part } = self.names;
        let (record, part_kind) = match kind {
            "feed" => (RecordKind::Feed, None),
            "push" => (RecordKind::Relay, Some(RecordKind::Destination)),
            _ => (RecordKind::Relay, None),
        };
        let uid = uid_of(transaction, record, name)?;
        let part_uid = part_kind.map(|kind| uid_of(transaction, kind, part)).transpose()?.flatten();
        transaction
            .prepare_cached(
                "INSERT INTO logbook (at_ms, kind, name, part, what, code, side, message, uid, part_uid)
                 VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10)",
            )?
            .execute(params![
                self.at_ms,
                kind,
                name,
                part,
                self.what,
                self.code,
                self.side.map(FaultDomain::as_str),
                self.message,
                uid,
                part_uid
            ])?;
        Ok(())
    }
}

fn end(transaction: &Connection, table: &str, at_ms: i64, subject: &Subject) -> Result<(), StoreError> {
    let Some(subject) = names(subject).find(transaction)? else { return Ok(()) };
    let update =
        format!("UPDATE {table} SET end_ms = MAX(begin_ms, ?1) WHERE end_ms IS NULL AND subject = ?2");
    transaction.prepare_cached(&update)?.execute(params![at_ms, subject])?;
    Ok(())
}

impl Store {
    /// Stores history events, and that the service was alive at `now_ms`.
    ///
    /// # Errors
    /// A database error; nothing is written then.
    pub fn save_events(
        &self,
        events: &[HistoryEvent],
        now_ms: i64,
        in_order: bool,
    ) -> Result<(), StoreError> {
        self.write(|transaction| {
            for event in events {
                keep(transaction, event)?;
            }
            transaction
                .prepare_cached("INSERT OR REPLACE INTO alive (id, at_ms, in_order) VALUES (1, ?1, ?2)")?
                .execute(params![now_ms, in_order])?;
            Ok(())
        })
    }

    /// Returns when the service was last alive, and whether it ended in order.
    ///
    /// # Errors
    /// A database error.
    pub fn last_alive(&self) -> Result<Option<(i64, bool)>, StoreError> {
        self.read(|connection| {
            let read = |row: &Row<'_>| Ok((row.get("at_ms")?, row.get("in_order")?));
            Ok(connection.query_row("SELECT at_ms, in_order FROM alive", [], read).optional()?)
        })
    }

    /// Returns runs that have not ended.
    ///
    /// # Errors
    /// A database error.
    pub fn open_runs(&self) -> Result<Vec<OpenRun>, StoreError> {
        self.read(|connection| {
            let mut statement = connection.prepare_cached(
                "SELECT kind, name, part, EXISTS (
                     SELECT 1 FROM outage WHERE outage.end_ms IS NULL AND outage.subject = run.subject
                 ) AS was_down FROM run JOIN subject ON subject.id = run.subject
                 WHERE end_ms IS NULL GROUP BY run.subject ORDER BY kind, name, part",
            )?;
            let rows = statement
                .query_map([], |row| Ok(OpenRun { subject: subject(row)?, was_down: row.get("was_down")? }))?
                .collect::<Result<Vec<_>, _>>()?;
            Ok(rows)
        })
    }

    /// Returns runs that overlap the time from `from_ms` to `to_ms`, the oldest first.
    ///
    /// # Errors
    /// A database error.
    pub fn runs(&self, from_ms: i64, to_ms: i64) -> Result<Vec<Span>, StoreError> {
        self.read(|connection| {
            let mut statement = connection.prepare_cached(&format!(
                "SELECT kind, {SUBJECT_NAME} AS name, part, begin_ms, end_ms FROM run
                 JOIN subject ON subject.id = run.subject
                 WHERE begin_ms < ?2 AND (end_ms IS NULL OR end_ms > ?1) ORDER BY begin_ms, run.id"
            ))?;
            let rows = statement.query_map([from_ms, to_ms], span)?.collect::<Result<Vec<_>, _>>()?;
            Ok(rows)
        })
    }

    /// Returns outages that overlap the time from `from_ms` to `to_ms`, the oldest first.
    ///
    /// # Errors
    /// A database error.
    pub fn outages(&self, from_ms: i64, to_ms: i64) -> Result<Vec<SpanOutage>, StoreError> {
        self.read(|connection| {
            let mut statement = connection.prepare_cached(&format!(
                "SELECT kind, {SUBJECT_NAME} AS name, part, begin_ms, end_ms, code, side, message FROM outage
                 JOIN subject ON subject.id = outage.subject
                 WHERE begin_ms < ?2 AND (end_ms IS NULL OR end_ms > ?1) ORDER BY begin_ms, outage.id"
            ))?;
            let rows = statement.query_map([from_ms, to_ms], outage)?.collect::<Result<Vec<_>, _>>()?;
            Ok(rows)
        })
    }

    /// Adds an action to the logbook.
    ///
    /// # Errors
    /// A database error.
    pub fn log_action(&self, action: &LoggedAction) -> Result<(), StoreError> {
        self.write(|transaction| {
            let uid = uid_of(transaction, action.kind, &action.name)?;
            transaction
                .prepare_cached(
                    "INSERT INTO logbook (at_ms, kind, name, what, message, who, uid)
                     VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
                )?
                .execute(params![
                    action.at_ms,
                    action.kind.to_string(),
                    action.name,
                    action.what,
                    action.detail,
                    action.who,
                    uid
                ])?;
            Ok(())
        })
    }

    /// Returns the latest matching lines of the logbook, the oldest first.
    ///
    /// # Errors
    /// A database error.
    pub fn logbook(&self, filter: &LogFilter) -> Result<Vec<LogLine>, StoreError> {
        self.read(|connection| {
            let mut statement = connection.prepare_cached(
                "SELECT * FROM (
                     SELECT * FROM logbook
                     WHERE id > ?1 AND at_ms >= ?2
                         AND (?3 IS NULL OR ?3 COLLATE NOCASE IN (name, part) OR ?3 IN (uid, part_uid)
                             OR uid IN (SELECT value FROM json_each(?9))
                             OR part_uid IN (SELECT value FROM json_each(?9)))
                         AND (?5 IS NULL OR id < ?5) AND (?6 IS NULL OR kind = ?6)
                         AND (?7 IS NULL OR side = ?7) AND (?8 IS NULL OR (who IS NOT NULL) = ?8)
                     ORDER BY id DESC LIMIT ?4
                 ) ORDER BY id",
            )?;
            let (after, from) = (filter.after.unwrap_or(0), filter.from_ms.unwrap_or(i64::MIN));
            let uids = filter.about.as_deref().map(|about| uids_of(connection, about)).transpose()?;
            let rows = statement
                .query_map(
                    params![
                        after,
                        from,
                        filter.about,
                        filter.limit,
                        filter.before,
                        filter.kind,
                        filter.side,
                        filter.changes,
                        uids
                    ],
                    log_line,
                )?
                .collect::<Result<Vec<_>, _>>()?;
            Ok(rows)
        })
    }

    /// Returns states of pushes that began at `from_ms` or later, the oldest first; of more than `most`, the latest.
    ///
    /// # Errors
    /// A database error.
    pub fn push_states(&self, from_ms: i64, most: u32) -> Result<Vec<StateBegan>, StoreError> {
        self.read(|connection| {
            let mut statement = connection.prepare_cached(
                "SELECT * FROM (
                     SELECT logbook.id, at_ms, kind, COALESCE(relay.name, logbook.name) AS name, part, what FROM logbook
                     LEFT JOIN relay ON relay.uid = logbook.uid
                     WHERE at_ms >= ?1 AND kind = 'push' AND who IS NULL ORDER BY logbook.id DESC LIMIT ?2
                 ) ORDER BY id",
            )?;
            let read = |row: &Row<'_>| {
                let state: String = row.get("what")?;
                let state = PushPhase::from_name(&state);
                Ok(StateBegan { subject: subject(row)?, at_ms: row.get("at_ms")?, state })
            };
            Ok(statement.query_map(params![from_ms, most], read)?.collect::<Result<Vec<_>, _>>()?)
        })
    }

    /// Returns the number of the latest logbook line; 0 without any.
    ///
    /// # Errors
    /// A database error.
    pub fn last_log_line(&self) -> Result<i64, StoreError> {
        self.read(|c| Ok(c.query_row("SELECT COALESCE(MAX(id), 0) FROM logbook", [], |row| row.get(0))?))
    }

    /// Removes history that ended before `before_ms`, and all but the latest `most` lines of the logbook.
    ///
    /// # Errors
    /// A database error.
    pub fn prune_record(&self, before_ms: i64, most: i64) -> Result<(), StoreError> {
        self.write(|transaction| {
            transaction.execute("DELETE FROM logbook WHERE at_ms < ?1", [before_ms])?;
            transaction.execute(
                "DELETE FROM logbook WHERE id <= (SELECT id FROM logbook ORDER BY id DESC LIMIT 1 OFFSET ?1)",
                [most],
            )?;
            transaction.execute("DELETE FROM run WHERE end_ms < ?1", [before_ms])?;
            transaction.execute("DELETE FROM outage WHERE end_ms < ?1", [before_ms])?;
            let before_day = "DELETE FROM traffic WHERE day < date(?1 / 1000, 'unixepoch')";
            transaction.execute(before_day, [before_ms])?;
            Ok(())
        })
    }
}
