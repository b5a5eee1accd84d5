//! Traffic per day.

use rusqlite::{Row, params};

use crate::error::StoreError;
use crate::store::Store;
use crate::subjects::{SUBJECT_NAME, SubjectNames};

/// Subject of a traffic counter.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum TrafficKey {
    /// Pull, by the name of its feed.
    Feed(String),
    /// Push, by the names of its relay and its destination.
    Push(String, String),
    /// Pushes bound to an uplink, by its name. They count for their own keys as well.
    Uplink(String),
}

impl TrafficKey {
    pub(crate) fn names(&self) -> SubjectNames<'_> {
        match self {
            Self::Feed(feed) => SubjectNames { kind: "feed", name: feed, part: "" },
            Self::Uplink(uplink) => SubjectNames { kind: "uplink", name: uplink, part: "" },
            Self::Push(relay, destination) => SubjectNames { kind: "push", name: relay, part: destination },
        }
    }

    /// Parses the columns `kind`, `name` and `part`.
    pub(crate) fn read(row: &Row<'_>) -> rusqlite::Result<Self> {
        let (kind, name): (String, String) = (row.get("kind")?, row.get("name")?);
        Ok(match kind.as_str() {
            "push" => Self::Push(name, row.get("part")?),
            "uplink" => Self::Uplink(name),
            _ => Self::Feed(name),
        })
    }
}

impl Store {
    /// Adds to a day's traffic. Days are written like `2026-11-23`.
    ///
    /// # Errors
    /// A database error.
    pub fn add_traffic(&self, day: &str, carried: &[(TrafficKey, u64)]) -> Result<(), StoreError> {
        self.write(|transaction| {
            let mut statement = transaction.prepare_cached(
                "INSERT INTO traffic (day, subject, bytes) VALUES (?1, ?2, ?3)
                 ON CONFLICT (day, subject) DO UPDATE SET bytes = bytes + ?3",
            )?;
            for (whose, bytes) in carried {
                let bytes = i64::try_from(*bytes).unwrap_or(i64::MAX / 2);
                statement.execute(params![day, whose.names().find_or_add(transaction)?, bytes])?;
            }
            Ok(())
        })
    }

    /// Returns the traffic of the days from `first` to `last`.
    ///
    /// # Errors
    /// A database error.
    pub fn traffic(&self, first: &str, last: &str) -> Result<Vec<(TrafficKey, u64)>, StoreError> {
        self.read(|connection| {
            let mut statement = connection.prepare_cached(&format!(
                "SELECT kind, {SUBJECT_NAME} AS name, part, SUM(bytes) AS bytes FROM traffic
                 JOIN subject ON subject.id = traffic.subject WHERE day BETWEEN ?1 AND ?2 GROUP BY subject.id"
            ))?;
            let read = |row: &Row<'_>| {
                let bytes: i64 = row.get("bytes")?;
                Ok((TrafficKey::read(row)?, u64::try_from(bytes).unwrap_or_default()))
            };
            let rows = statement.query_map([first, last], read)?.collect::<Result<Vec<_>, _>>()?;
            Ok(rows)
        })
    }
}
