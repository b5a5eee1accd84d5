//! The record: logbook, runs and outages.

use rusqlite::{Connection, OptionalExtension as _, Row, params};
use yonder_core::record::{Blame, Note, OpenRun, Span, SpanOutage, StateBegan, Subject};
use yonder_core::{PushPhase, Side};

use crate::error::{Kind, StoreError};
use crate::store::Store;
use crate::subjects::{SUBJECT_NAME, SubjectNames, uid_of};

/// Logged action of a person or of the service.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Deed {
    /// When, in milliseconds since 1970.
    pub at_ms: i64,
    /// Name of the person; `None` for the service.
    pub who: Option<String>,
    /// Action, as a stable identifier.
    pub what: String,
    /// Kind of what it was done to: a relay or a destination.
    pub kind: Kind,
    /// Its name.
    pub name: String,
    /// Details, without any secret.
    pub detail: String,
}

/// A line of the logbook as it is kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LogLine {
    /// Number; later lines have higher ones.
    pub id: i64,
    /// When, in milliseconds since 1970.
    pub at_ms: i64,
    /// Kind of what it is about.
    pub kind: String,
    /// Its name; of a push its relay's.
    pub name: String,
    /// Destination of a push.
    pub part: Option<String>,
    /// State, or what was done.
    pub what: String,
    /// Cause.
    pub code: Option<String>,
    /// Fault domain of the cause.
    pub side: Option<String>,
    /// Details.
    pub message: String,
    /// Name of the person.
    pub who: Option<String>,
    /// Stable id of the record that it is about; of a push that of its relay.
    pub uid: Option<String>,
    /// Stable id of the destination of a push.
    pub part_uid: Option<String>,
}

/// Which lines of the logbook are asked for.
#[derive(Debug, Clone, Default)]
pub struct LogFilter {
    /// Only lines with a higher number.
    pub after: Option<i64>,
    /// Only lines with a lower number.
    pub before: Option<i64>,
    /// Only lines about this kind.
    pub kind: Option<String>,
    /// Only lines with a cause on this side.
    pub side: Option<String>,
    /// Only what people did, or only what happened by itself.
    pub changes: Option<bool>,
    /// Only lines from this time on.
    pub from_ms: Option<i64>,
    /// Only lines about the record of that name or id, under its former names as well, and about pushes of it or to it.
    pub about: Option<String>,
    /// The latest so many.
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
    let side = Side::from_name(&side).unwrap_or(Side::Ours);
    let blame = Blame { code: row.get("code")?, side, message: row.get("message")? };
    Ok(SpanOutage { span: span(row)?, blame })
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

/// Returns the ids of the records of a name, as a JSON array.
fn uids_of(connection: &Connection, name: &str) -> Result<String, StoreError> {
    let mut uids = Vec::new();
    for kind in [Kind::Feed, Kind::Relay, Kind::Destination, Kind::Uplink] {
        uids.extend(uid_of(connection, kind, name)?);
    }
    let quoted: Vec<String> = uids.iter().map(|uid| format!("\"{uid}\"")).collect();
    Ok(format!("[{}]", quoted.join(",")))
}

fn keep(transaction: &Connection, note: &Note) -> Result<(), StoreError> {
    match note {
        Note::State { at_ms, subject, state, blame, remark } => {
            let names = names(subject);
            let blame = blame.as_ref();
            let line = NewLine {
                at_ms: *at_ms,
                names,
                what: state.as_str(),
                code: blame.map(|blame| &*blame.code),
                side: blame.map(|blame| blame.side),
                message: blame.map(|blame| &blame.message).or(remark.as_ref()).map_or("", String::as_str),
            };
            line.add(transaction)?;
        }
        Note::RunBegan { at_ms, subject } => {
            let subject = names(subject).find_or_add(transaction)?;
            transaction
                .prepare_cached("INSERT INTO run (subject, begin_ms) VALUES (?1, ?2)")?
                .execute(params![subject, at_ms])?;
        }
        Note::OutageBegan { at_ms, subject, blame } => {
            let subject = names(subject).find_or_add(transaction)?;
            transaction
                .prepare_cached(
                    "INSERT INTO outage (subject, begin_ms, code, side, message) VALUES (?1, ?2, ?3, ?4, ?5)",
                )?
                .execute(params![subject, at_ms, blame.code, blame.side.as_str(), blame.message])?;
        }
        Note::RunEnded { at_ms, subject } => end(transaction, "run", *at_ms, subject)?,
        Note::OutageEnded { at_ms, subject } => end(transaction, "outage", *at_ms, subject)?,
    }
    Ok(())
}

/// Line of the logbook about a state.
struct NewLine<'a> {
    at_ms: i64,
    names: SubjectNames<'a>,
    what: &'a str,
    code: Option<&'a str>,
    side: Option<Side>,
    message: &'a str,
}

impl NewLine<'_> {
    fn add(&self, transaction: &Connection) -> Result<(), StoreError> {
        let SubjectNames { kind, name, part } = self.names;
        let (record, part_kind) = match kind {
            "feed" => (Kind::Feed, None),
            "push" => (Kind::Relay, Some(Kind::Destination)),
            _ => (Kind::Relay, None),
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
                self.side.map(Side::as_str),
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
    /// Writes down what the recorder noted, and that the service was alive at `now_ms`.
    ///
    /// # Errors
    /// The store's failure; then nothing of it is written.
    pub fn keep_notes(&self, notes: &[Note], now_ms: i64, in_order: bool) -> Result<(), StoreError> {
        self.write(|transaction| {
            for note in notes {
                keep(transaction, note)?;
            }
            transaction
                .prepare_cached("INSERT OR REPLACE INTO alive (id, at_ms, in_order) VALUES (1, ?1, ?2)")?
                .execute(params![now_ms, in_order])?;
            Ok(())
        })
    }

    /// When the service was last alive, and whether it ended in order.
    ///
    /// # Errors
    /// The store's failure.
    pub fn last_alive(&self) -> Result<Option<(i64, bool)>, StoreError> {
        self.read(|connection| {
            let read = |row: &Row<'_>| Ok((row.get("at_ms")?, row.get("in_order")?));
            Ok(connection.query_row("SELECT at_ms, in_order FROM alive", [], read).optional()?)
        })
    }

    /// Runs that have not ended.
    ///
    /// # Errors
    /// The store's failure.
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

    /// Runs that touch the time from `from_ms` to `to_ms`, oldest first.
    ///
    /// # Errors
    /// The store's failure.
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

    /// Outages that touch the time from `from_ms` to `to_ms`, oldest first.
    ///
    /// # Errors
    /// The store's failure.
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

    /// Records what somebody did.
    ///
    /// # Errors
    /// The store's failure.
    pub fn record_deed(&self, deed: &Deed) -> Result<(), StoreError> {
        self.write(|transaction| {
            let uid = uid_of(transaction, deed.kind, &deed.name)?;
            transaction
                .prepare_cached(
                    "INSERT INTO logbook (at_ms, kind, name, what, message, who, uid)
                     VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
                )?
                .execute(params![
                    deed.at_ms,
                    deed.kind.to_string(),
                    deed.name,
                    deed.what,
                    deed.detail,
                    deed.who,
                    uid
                ])?;
            Ok(())
        })
    }

    /// Lines of the logbook, oldest first: of those that are asked for, the latest.
    ///
    /// # Errors
    /// The store's failure.
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

    /// States of pushes that began at `from_ms` or later, oldest first: of more than `most`, the latest.
    ///
    /// # Errors
    /// The store's failure.
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

    /// Number of the latest line of the logbook; 0 while there is none.
    ///
    /// # Errors
    /// The store's failure.
    pub fn last_log_line(&self) -> Result<i64, StoreError> {
        self.read(|c| Ok(c.query_row("SELECT COALESCE(MAX(id), 0) FROM logbook", [], |row| row.get(0))?))
    }

    /// Forgets what ended before `before_ms`, and all but the latest `most` lines of the logbook.
    ///
    /// # Errors
    /// The store's failure.
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
