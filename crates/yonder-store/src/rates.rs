//! Bit rates per minute.

use rusqlite::{Row, params};

use crate::error::StoreError;
use crate::store::Store;
use crate::traffic::TrafficKey;

/// Minutes per row.
const MINUTES: usize = 60;
/// Seconds per row.
const HOUR_S: i64 = 3_600;

/// One hour of a rate.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RateHour {
    /// Subject.
    pub whose: TrafficKey,
    /// When the hour began, in seconds since 1970.
    pub hour_s: i64,
    /// Kilobits per second of each minute; `None` if not measured.
    pub kbps: Vec<Option<u32>>,
}

fn packed(kbps: &[Option<u32>]) -> Vec<u8> {
    let minutes = kbps.iter().copied().chain(std::iter::repeat(None)).take(MINUTES);
    minutes.flat_map(|value| value.unwrap_or(u32::MAX).to_le_bytes()).collect()
}

fn unpacked(blob: &[u8]) -> Vec<Option<u32>> {
    let (values, _) = blob.as_chunks::<4>();
    values.iter().map(|bytes| Some(u32::from_le_bytes(*bytes)).filter(|value| *value != u32::MAX)).collect()
}

fn read(row: &Row<'_>) -> rusqlite::Result<RateHour> {
    let blob: Vec<u8> = row.get("kbps")?;
    Ok(RateHour { whose: TrafficKey::read(row)?, hour_s: row.get("hour_s")?, kbps: unpacked(&blob) })
}

impl Store {
    /// Stores hours of rates, replacing stored ones, and removes those that began before `before_s`.
    ///
    /// # Errors
    /// A database error; nothing is written then.
    pub fn save_rates(&self, hours: &[RateHour], before_s: i64) -> Result<(), StoreError> {
        self.write(|transaction| {
            for hour in hours {
                let subject = hour.whose.names().find_or_add(transaction)?;
                let hour_s = hour.hour_s - hour.hour_s.rem_euclid(HOUR_S);
                transaction
                    .prepare_cached(
                        "INSERT OR REPLACE INTO rate (hour_s, subject, kbps) VALUES (?1, ?2, ?3)",
                    )?
                    .execute(params![hour_s, subject, packed(&hour.kbps)])?;
            }
            transaction.execute("DELETE FROM rate WHERE hour_s < ?1", [before_s])?;
            Ok(())
        })
    }

    /// Returns all hours of rates from `from_s` (seconds since 1970) on, the oldest first.
    ///
    /// # Errors
    /// A database error.
    pub fn rates(&self, from_s: i64) -> Result<Vec<RateHour>, StoreError> {
        self.read(|connection| {
            let mut statement = connection.prepare_cached(
                "SELECT kind, name, part, hour_s, kbps FROM rate JOIN subject ON subject.id = rate.subject
                     WHERE hour_s >= ?1 ORDER BY hour_s",
            )?;
            let rows = statement.query_map([from_s], read)?.collect::<Result<Vec<_>, _>>()?;
            Ok(rows)
        })
    }

    /// Returns the hours of one rate from `from_s` on, the oldest first.
    ///
    /// # Errors
    /// A database error.
    pub fn rates_of(&self, whose: &TrafficKey, from_s: i64) -> Result<Vec<RateHour>, StoreError> {
        self.read(|connection| {
            let Some(subject) = whose.names().find(connection)? else { return Ok(Vec::new()) };
            let mut statement = connection.prepare_cached(
                "SELECT kind, name, part, hour_s, kbps FROM rate JOIN subject ON subject.id = rate.subject
                 WHERE rate.subject = ?1 AND hour_s >= ?2 ORDER BY hour_s",
            )?;
            let rows = statement.query_map([subject, from_s], read)?.collect::<Result<Vec<_>, _>>()?;
            Ok(rows)
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::seal::MasterKey;

    #[test]
    fn hours_are_kept_whole_and_replaced_and_forgotten() {
        let store = Store::open_in_memory(MasterKey::from_bytes(&[1; 32])).unwrap();
        let hour = |hour_s, kbps| RateHour {
            whose: TrafficKey::Push("Line".into(), "Bramble".into()),
            hour_s,
            kbps,
        };
        store
            .save_rates(&[hour(3_600, vec![Some(5), None, Some(7)]), hour(7_200, vec![Some(1)])], 0)
            .unwrap();
        store.save_rates(&[hour(7_200, vec![Some(1), Some(2)])], 7_200).unwrap();
        let stored = store.rates(0).unwrap();
        assert_eq!((stored.len(), stored[0].hour_s, stored[0].kbps.len()), (1, 7_200, 60));
        assert_eq!(stored[0].kbps[..3], [Some(1), Some(2), None]);
        assert_eq!(store.rates(7_201).unwrap(), []);
        assert_eq!(store.rates_of(&stored[0].whose, 7_200).unwrap(), stored);
        assert_eq!(store.rates_of(&TrafficKey::Push("Line".into(), "Hall".into()), 0).unwrap(), []);
    }
}
