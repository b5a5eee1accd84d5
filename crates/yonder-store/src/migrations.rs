//! Numbered migrations. Each runs in a transaction of its own; `user_version` tells which have run.

use std::fs::OpenOptions;
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::{Path, PathBuf};

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

/// Brings the records to this program's version. Those of an older version are copied first, to a file beside `path`; records in
/// memory have none.
pub(crate) fn migrate(connection: &mut Connection, path: Option<&Path>) -> Result<(), StoreError> {
    let found: i64 = connection.pragma_query_value(None, "user_version", |row| row.get(0))?;
    let known = i64::try_from(MIGRATIONS.len()).unwrap_or(i64::MAX);
    let done = usize::try_from(found).map_err(|_| StoreError::Damaged("a negative version"))?;
    if found > known {
        return Err(StoreError::TooNew { found, known });
    }
    if let Some(path) = path.filter(|_| (1..known).contains(&found)) {
        copy_before_migration(connection, path, found)?;
    }
    for (version, migration) in (1_i64..).zip(MIGRATIONS).skip(done) {
        let transaction = connection.transaction_with_behavior(TransactionBehavior::Exclusive)?;
        transaction.execute_batch(migration)?;
        transaction.pragma_update(None, "user_version", version)?;
        transaction.commit()?;
    }
    Ok(())
}

/// Returns the file with the records of an older version, before they were migrated.
fn copy_path(path: &Path, version: i64) -> PathBuf {
    path.with_extension(format!("before-migration-{version}"))
}

/// Copies the records of an older version: with that file and the older program one can go back.
fn copy_before_migration(connection: &Connection, path: &Path, version: i64) -> Result<(), StoreError> {
    let copy = copy_path(path, version);
    let failed = |source| StoreError::NotCopied { path: copy.display().to_string(), source };
    // Readable by the owner alone. SQLite accepts an empty file; an interrupted copy is made again.
    let mut options = OpenOptions::new();
    options.write(true).create(true).truncate(true).mode(0o600).open(&copy).map_err(failed)?;
    connection.execute("VACUUM INTO ?1", [copy.to_string_lossy()])?;
    tracing::info!(version, copy = %copy.display(), "records copied before their migration");
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn migrating_twice_changes_nothing() {
        let mut connection = Connection::open_in_memory().unwrap();
        migrate(&mut connection, None).unwrap();
        migrate(&mut connection, None).unwrap();
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
            migrate(&mut connection, None).unwrap();
            let kept: String = connection.query_row("SELECT url FROM feed", [], |row| row.get(0)).unwrap();
            assert_eq!(kept, "rtsp://h/a", "from version {oldest}");
        }
    }

    #[test]
    fn records_of_an_older_version_are_copied_before_they_are_migrated() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("yonder.db");
        let mut connection = Connection::open(&path).unwrap();
        migrate(&mut connection, Some(&path)).unwrap();
        let files = || std::fs::read_dir(folder.path()).unwrap().count();
        assert_eq!(files(), 1, "new records are not copied");
        drop(connection);
        std::fs::remove_file(&path).unwrap();

        let mut connection = Connection::open(&path).unwrap();
        for migration in &MIGRATIONS[..3] {
            connection.execute_batch(migration).unwrap();
        }
        connection.pragma_update(None, "user_version", 3).unwrap();
        // What an interrupted copy has left.
        std::fs::write(copy_path(&path, 3), "half").unwrap();
        migrate(&mut connection, Some(&path)).unwrap();
        let copy = Connection::open(copy_path(&path, 3)).unwrap();
        let version: i64 = copy.pragma_query_value(None, "user_version", |row| row.get(0)).unwrap();
        assert_eq!(version, 3);
        migrate(&mut connection, Some(&path)).unwrap();
        assert_eq!(files(), 2, "records of this version are not copied");
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
        migrate(&mut connection, None).unwrap();
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
        assert!(matches!(migrate(&mut connection, None), Err(StoreError::TooNew { found: 99, .. })));
    }
}
