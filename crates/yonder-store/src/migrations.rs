//! Numbered migrations. Each runs in a transaction of its own; `user_version` tells which have run.

use rusqlite::{Connection, TransactionBehavior};

use crate::error::StoreError;

/// All migrations, oldest first. Never edited once released: a change is a new one at the end.
const MIGRATIONS: &[&str] = &[
    include_str!("../migrations/0001-records.sql"),
    include_str!("../migrations/0002-camera-certificates.sql"),
    include_str!("../migrations/0003-address-patterns.sql"),
    include_str!("../migrations/0004-platform-side.sql"),
    include_str!("../migrations/0005-record.sql"),
    include_str!("../migrations/0006-holding.sql"),
    include_str!("../migrations/0007-on-air.sql"),
    include_str!("../migrations/0008-alerts.sql"),
    include_str!("../migrations/0009-rates.sql"),
    include_str!("../migrations/0010-uplink-binding.sql"),
    include_str!("../migrations/0011-people.sql"),
    include_str!("../migrations/0012-history.sql"),
    include_str!("../migrations/0013-sealed-secrets.sql"),
    include_str!("../migrations/0014-changes.sql"),
    include_str!("../migrations/0015-notifications.sql"),
    include_str!("../migrations/0016-subjects.sql"),
    include_str!("../migrations/0017-address-secrets.sql"),
];

/// Brings the records to this program's version.
pub(crate) fn migrate(connection: &mut Connection) -> Result<(), StoreError> {
    let found: i64 = connection.pragma_query_value(None, "user_version", |row| row.get(0))?;
    let known = i64::try_from(MIGRATIONS.len()).unwrap_or(i64::MAX);
    let done = usize::try_from(found).map_err(|_| StoreError::Damaged("a negative version"))?;
    if found > known {
        return Err(StoreError::TooNew { found, known });
    }
    for (version, migration) in (1_i64..).zip(MIGRATIONS).skip(done) {
        let transaction = connection.transaction_with_behavior(TransactionBehavior::Exclusive)?;
        transaction.execute_batch(migration)?;
        transaction.pragma_update(None, "user_version", version)?;
        transaction.commit()?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn migrating_twice_changes_nothing() {
        let mut connection = Connection::open_in_memory().unwrap();
        migrate(&mut connection).unwrap();
        migrate(&mut connection).unwrap();
        let version: i64 = connection.pragma_query_value(None, "user_version", |row| row.get(0)).unwrap();
        assert_eq!(usize::try_from(version), Ok(MIGRATIONS.len()));
    }

    #[test]
    fn records_of_every_older_version_are_brought_up_and_keep_what_they_hold() {
        for oldest in 1..MIGRATIONS.len() {
            let mut connection = Connection::open_in_memory().unwrap();
            for migration in &MIGRATIONS[..oldest] {
                connection.execute_batch(migration).unwrap();
            }
            connection.pragma_update(None, "user_version", i64::try_from(oldest).unwrap()).unwrap();
            let insert = "INSERT INTO feed (name, url, transport, created_s) VALUES ('Summit', 'rtsp://h/a', 'auto', 1)";
            connection.execute(insert, []).unwrap();
            migrate(&mut connection).unwrap();
            let kept: String = connection.query_row("SELECT url FROM feed", [], |row| row.get(0)).unwrap();
            assert_eq!(kept, "rtsp://h/a", "from version {oldest}");
        }
    }

    #[test]
    fn history_is_tied_to_the_ids_of_records_and_nothing_of_it_is_lost() {
        let mut connection = Connection::open_in_memory().unwrap();
        for migration in &MIGRATIONS[..15] {
            connection.execute_batch(migration).unwrap();
        }
        connection.pragma_update(None, "user_version", 15).unwrap();
        connection
            .execute_batch(
                "INSERT INTO feed (name, url, transport, created_s) VALUES ('Summit', 'rtsp://h/a', 'auto', 1);
                 INSERT INTO relay (name, feed, wanted, created_s) VALUES ('Line', 1, 'off', 1);
                 INSERT INTO run (kind, name, part, begin_ms, end_ms) VALUES
                     ('feed', 'summit', '', 10, 20), ('feed', 'Summit', '', 30, NULL), ('push', 'Line', 'Gone', 30, 40);
                 INSERT INTO outage (kind, name, part, begin_ms, end_ms, code, side, message) VALUES
                     ('relay', 'Line', '', 12, 14, 'c', 'camera', 'm'), ('push', 'Old', 'Gone', 1, 2, 'c', 'camera', 'm');
                 INSERT INTO rate (kind, name, part, hour_s, kbps) VALUES ('feed', 'Summit', '', 3600, x'00');
                 INSERT INTO traffic (day, kind, subject, bytes) VALUES
                     ('2026-11-23', 'feed', 'Summit', 5), ('2026-11-23', 'push', 'Line' || char(10) || 'Gone', 7);",
            )
            .unwrap();
        migrate(&mut connection).unwrap();
        let count = |select: &str| -> i64 { connection.query_row(select, [], |row| row.get(0)).unwrap() };
        assert_eq!(count("SELECT COUNT(*) FROM run"), 3);
        assert_eq!(count("SELECT COUNT(DISTINCT subject) FROM run"), 2, "names differ in case alone");
        assert_eq!(count("SELECT COUNT(*) FROM outage"), 2);
        assert_eq!(count("SELECT COUNT(*) FROM rate"), 1);
        assert_eq!(count("SELECT SUM(bytes) FROM traffic"), 12);
        let of_feed =
            "SELECT COUNT(*) FROM run JOIN subject ON subject.id = run.subject JOIN feed USING (uid)";
        assert_eq!(count(of_feed), 2);
    }

    #[test]
    fn records_of_a_newer_program_are_left_alone() {
        let mut connection = Connection::open_in_memory().unwrap();
        connection.pragma_update(None, "user_version", 99).unwrap();
        assert!(matches!(migrate(&mut connection), Err(StoreError::TooNew { found: 99, .. })));
    }
}
