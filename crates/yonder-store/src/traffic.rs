//! Bytes carried on each day.

use rusqlite::params;

use crate::error::StoreError;
use crate::store::Store;

/// Whose traffic it is.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Carried {
    /// A pull, by the name of its feed.
    Feed(String),
    /// A push, by the names of its relay and its destination.
    Push(String, String),
    /// Pushes that are bound to an uplink, by its name. They are counted by their own names as well.
    Uplink(String),
}

impl Carried {
    fn kind(&self) -> &'static str {
        match self {
            Self::Feed(_) => "feed",
            Self::Push(..) => "push",
            Self::Uplink(_) => "uplink",
        }
    }

    /// Names hold no control characters, so one can stand between two.
    fn subject(&self) -> String {
        match self {
            Self::Feed(name) | Self::Uplink(name) => name.clone(),
            Self::Push(relay, destination) => format!("{relay}\n{destination}"),
        }
    }

    fn read(kind: &str, subject: &str) -> Self {
        match (kind, subject.split_once('\n')) {
            ("push", Some((relay, destination))) => Self::Push(relay.to_owned(), destination.to_owned()),
            ("uplink", _) => Self::Uplink(subject.to_owned()),
            _ => Self::Feed(subject.to_owned()),
        }
    }
}

impl Store {
    /// Adds what was carried to a day's traffic. Days are written as in `2026-11-23`.
    ///
    /// # Errors
    /// The store's failure.
    pub fn add_traffic(&self, day: &str, carried: &[(Carried, u64)]) -> Result<(), StoreError> {
        self.write(|transaction| {
            let mut statement = transaction.prepare_cached(
                "INSERT INTO traffic (day, kind, subject, bytes) VALUES (?1, ?2, ?3, ?4)
                 ON CONFLICT (day, kind, subject) DO UPDATE SET bytes = bytes + ?4",
            )?;
            for (whose, bytes) in carried {
                let bytes = i64::try_from(*bytes).unwrap_or(i64::MAX / 2);
                statement.execute(params![day, whose.kind(), whose.subject(), bytes])?;
            }
            Ok(())
        })
    }

    /// What was carried on the days from `first` to `last`.
    ///
    /// # Errors
    /// The store's failure.
    pub fn traffic(&self, first: &str, last: &str) -> Result<Vec<(Carried, u64)>, StoreError> {
        self.read(|connection| {
            let mut statement = connection.prepare_cached(
                "SELECT kind, subject, SUM(bytes) FROM traffic WHERE day BETWEEN ?1 AND ?2 GROUP BY kind, subject",
            )?;
            let rows = statement
                .query_map([first, last], |row| {
                    let (kind, subject, bytes): (String, String, i64) = (row.get(0)?, row.get(1)?, row.get(2)?);
                    Ok((Carried::read(&kind, &subject), u64::try_from(bytes).unwrap_or_default()))
                })?
                .collect::<Result<Vec<_>, _>>()?;
            Ok(rows)
        })
    }
}
