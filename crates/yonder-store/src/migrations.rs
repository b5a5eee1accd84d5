//! Numbered migrations, each in its own transaction; `user_version` is the number of those that were applied.

use std::fs::OpenOptions;
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::{Path, PathBuf};

use rusqlite::{Connection, TransactionBehavior};

use crate::error::StoreError;

/// All migrations, the oldest first. They are not edited once released: a change is a new migration.
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
    include_str!("../migrations/0018-names.sql"),
    include_str!("../migrations/0019-session-address.sql"),
    include_str!("../migrations/0020-names.sql"),
    include_str!("../migrations/0021-renditions.sql"),
    include_str!("../migrations/0022-tuning.sql"),
    include_str!("../migrations/0023-ingest.sql"),
    include_str!("../migrations/0024-signposts.sql"),
];

/// Schema version after all migrations.
#[expect(clippy::cast_possible_wrap, reason = "there are few migrations")]
pub(crate) const VERSION: i64 = MIGRATIONS.len() as i64;

/// Migrates the records to this program's version. Those of an older version are copied to a file next to `path` first;
/// an in-memory database is not copied.
pub(crate) fn migrate(connection: &mut Connection, path: Option<&Path>) -> Result<(), StoreError> {
    let found: i64 = connection.pragma_query_value(None, "user_version", |row| row.get(0))?;
    let done = usize::try_from(found).map_err(|_| StoreError::Damaged("a negative version"))?;
    if found > VERSION {
        return Err(StoreError::TooNew { found, known: VERSION });
    }
    if let Some(path) = path.filter(|_| (1..VERSION).contains(&found)) {
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

/// Returns the path of the copy of an older version.
fn copy_path(path: &Path, version: i64) -> PathBuf {
    path.with_extension(format!("before-migration-{version}"))
}

/// Copies the records of an older version, for a return to the older program.
fn copy_before_migration(connection: &Connection, path: &Path, version: i64) -> Result<(), StoreError> {
    let copy = copy_path(path, version);
    let failed = |source| StoreError::NotCopied { path: copy.display().to_string(), source };
    // Readable by the owner only. SQLite accepts an empty file; an interrupted copy is repeated.
    let mut options = OpenOptions::new();
    options.write(true).create(true).truncate(true).mode(0o600).open(&copy).map_err(failed)?;
    connection.execute("VACUUM INTO ?1", [copy.to_string_lossy()])?;
    tracing::info!(version, copy = %copy.display(), "records copied before their migration");
    Ok(())
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;

    use rstest::rstest;
    use rusqlite::types::Value;

    use super::*;
    use crate::{MasterKey, Store};

    #[test]
    fn migrating_twice_changes_nothing() {
        let mut connection = Connection::open_in_memory().unwrap();
        migrate(&mut connection, None).unwrap();
        migrate(&mut connection, None).unwrap();
        let version: i64 = connection.pragma_query_value(None, "user_version", |row| row.get(0)).unwrap();
        assert_eq!(usize::try_from(version), Ok(MIGRATIONS.len()));
    }

    /// Rows that each version writes into the tables and columns of its migration.
    const ROWS: &[&str] = &[
        include_str!("../migrations/rows/0001.sql"),
        include_str!("../migrations/rows/0002.sql"),
        include_str!("../migrations/rows/0003.sql"),
        include_str!("../migrations/rows/0004.sql"),
        include_str!("../migrations/rows/0005.sql"),
        include_str!("../migrations/rows/0006.sql"),
        include_str!("../migrations/rows/0007.sql"),
        include_str!("../migrations/rows/0008.sql"),
        include_str!("../migrations/rows/0009.sql"),
        include_str!("../migrations/rows/0010.sql"),
        include_str!("../migrations/rows/0011.sql"),
        include_str!("../migrations/rows/0012.sql"),
        include_str!("../migrations/rows/0013.sql"),
        include_str!("../migrations/rows/0014.sql"),
        include_str!("../migrations/rows/0015.sql"),
        include_str!("../migrations/rows/0016.sql"),
        include_str!("../migrations/rows/0017.sql"),
        include_str!("../migrations/rows/0018.sql"),
        include_str!("../migrations/rows/0019.sql"),
        include_str!("../migrations/rows/0020.sql"),
        include_str!("../migrations/rows/0021.sql"),
        include_str!("../migrations/rows/0022.sql"),
        include_str!("../migrations/rows/0023.sql"),
        include_str!("../migrations/rows/0024.sql"),
    ];

    /// Tables that a later migration renames or replaces.
    const SUCCESSORS: &[(&str, &str)] =
        &[("deed", "logbook"), ("receiver", "contact"), ("alert_receiver", "alert_contact")];

    /// Creates records of `version` as earlier programs have left them: each migration runs on the rows of all previous ones.
    fn records_of_version(connection: &Connection, version: usize) {
        connection.pragma_update(None, "foreign_keys", true).unwrap();
        for (migration, rows) in MIGRATIONS.iter().zip(ROWS).take(version) {
            connection.execute_batch(migration).unwrap();
            connection.execute_batch(rows).unwrap();
        }
        connection.pragma_update(None, "user_version", i64::try_from(version).unwrap()).unwrap();
    }

    /// Returns the number of rows of every table.
    fn row_counts(connection: &Connection) -> BTreeMap<String, i64> {
        let select = "SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite_%'";
        let mut statement = connection.prepare(select).unwrap();
        let names = statement.query_map([], |row| row.get::<_, String>(0)).unwrap();
        names
            .map(|name| {
                let name = name.unwrap();
                let count = format!("SELECT COUNT(*) FROM {name}");
                let count = connection.query_row(&count, [], |row| row.get(0)).unwrap();
                (name, count)
            })
            .collect()
    }

    #[test]
    fn rows_of_every_table_outlive_the_migrations_from_every_version() {
        assert_eq!(ROWS.len(), MIGRATIONS.len(), "a migration brings its rows for this test");
        for version in 1..=MIGRATIONS.len() {
            let mut connection = Connection::open_in_memory().unwrap();
            records_of_version(&connection, version);
            let before = row_counts(&connection);
            let empty: Vec<_> = before.iter().filter(|(_, rows)| **rows == 0).collect();
            assert!(empty.is_empty(), "version {version} has no rows in {empty:?}");
            migrate(&mut connection, None).unwrap();
            let after = row_counts(&connection);
            for (table, rows) in &before {
                let successor = SUCCESSORS.iter().find(|(former, _)| former == table);
                let table = successor.map_or(table.as_str(), |(_, table)| table);
                assert!(
                    after.get(table) >= Some(rows),
                    "from version {version}: {table} had {rows} rows, {after:?}"
                );
            }
            let broken =
                connection.query_row("SELECT COUNT(*) FROM pragma_foreign_key_check", [], |row| row.get(0));
            assert_eq!(broken, Ok(0), "from version {version}");
            let integrity = connection.query_row("PRAGMA integrity_check", [], |row| row.get(0));
            assert_eq!(integrity, Ok("ok".to_owned()), "from version {version}");
        }
    }

    #[rstest]
    #[case::deeds(
        4,
        "SELECT group_concat(kind || ' ' || name || ' ' || what || ' ' || who) FROM logbook",
        "destination Bramble TV key-revealed desk,relay Line started desk"
    )]
    #[case::order_of_pushes(
        1,
        "SELECT group_concat(destination) FROM (SELECT * FROM relay_destination WHERE relay = 1 ORDER BY position)",
        "2,1"
    )]
    #[case::first_person(1, "SELECT group_concat(role) FROM person", "admin,admin")]
    #[case::begin_of_a_session(1, "SELECT begun_s || ' ' || seen_s FROM session", "1799395200 1799395200")]
    #[case::traffic_of_a_push(
        4,
        "SELECT kind || ' ' || name || ' ' || part || ' ' || bytes FROM traffic JOIN subject ON subject.id = traffic.subject WHERE kind = 'push'",
        "push Line Bramble TV 200"
    )]
    #[case::history_of_what_was_removed(
        5,
        "SELECT name || ' ' || uid FROM outage JOIN subject ON subject.id = outage.subject WHERE code = 'feed.stalled'",
        "Former former:Former"
    )]
    #[case::last_notification_of_an_open_alert(
        8,
        "SELECT last_notified_ms FROM open_alert WHERE subject = 'relay Line'",
        "22000"
    )]
    #[case::worked_before(
        4,
        "SELECT server_worked_s || ' ' || secrets_worked_s FROM destination WHERE name = 'Bramble TV'",
        "10 10"
    )]
    #[case::webhook(
        8,
        "SELECT settings FROM contact WHERE name = 'Desk'",
        r#"{"url":"https://hooks.example.net/relay","type":"webhook"}"#
    )]
    #[case::email(
        8,
        "SELECT settings ->> '$.type' || ' ' || (settings ->> '$.to[0]') FROM contact WHERE name = 'Night'",
        "email night@example.net"
    )]
    #[case::contacts_of_an_alert(
        8,
        "SELECT alert.name || ' ' || contact.name FROM alert_contact JOIN alert ON alert.id = alert JOIN contact ON contact.id = contact",
        "Slow Night"
    )]
    #[case::roles(
        11,
        "SELECT group_concat(name || ' ' || role) FROM (SELECT * FROM person ORDER BY id)",
        "desk admin,night operator"
    )]
    #[case::roles_of_tokens(
        11,
        "SELECT group_concat(name || ' ' || role) FROM (SELECT * FROM token ORDER BY id)",
        "wall viewer,robot admin"
    )]
    #[case::roles_of_invitations(
        11,
        "SELECT group_concat(name || ' ' || role) FROM (SELECT * FROM invitation ORDER BY name)",
        "chief admin,guest viewer"
    )]
    #[case::maker_of_a_token(
        11,
        "SELECT person.name FROM token JOIN person ON person.id = maker WHERE token.name = 'wall'",
        "desk"
    )]
    #[case::rules(
        4,
        "SELECT rules ->> '$.video.max_lines' || ' ' || (rules ->> '$.video.min_keyframe_interval_s') || ' ' || (rules ->> '$.audio.max_channels') FROM platform",
        "720 1.0 2"
    )]
    #[case::placeholders(
        3,
        "SELECT placeholders ->> '$[0].min' || '-' || (placeholders ->> '$[0].max') FROM pattern WHERE name = 'Engine shed'",
        "1-8"
    )]
    #[case::audit(14, "SELECT group_concat(kind) FROM audit", "contact,feed")]
    #[case::undelivered(
        15,
        "SELECT contact.name || ' ' || message FROM notification JOIN contact ON contact.id = notification.contact",
        "Day desk It is down."
    )]
    fn values_are_carried_over(#[case] version: usize, #[case] select: &str, #[case] expected: &str) {
        let mut connection = Connection::open_in_memory().unwrap();
        records_of_version(&connection, version);
        migrate(&mut connection, None).unwrap();
        let value: Value = connection.query_row(select, [], |row| row.get(0)).unwrap();
        let text = match value {
            Value::Text(text) => text,
            Value::Integer(number) => number.to_string(),
            other => panic!("{other:?}"),
        };
        assert_eq!(text, expected);
    }

    #[rstest]
    fn store_opens_records_of_every_version(#[values(1, 4, 8, 11, 13, 14, 16, 17)] version: usize) {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("yonder.db");
        records_of_version(&Connection::open(&path).unwrap(), version);
        let store = Store::open_with_foreign_key(&path, MasterKey::from_bytes(&[7; 32])).unwrap();
        assert_eq!(store.feeds().unwrap().len(), 2);
        assert_eq!(store.destinations().unwrap().len(), 2);
        assert_eq!(store.relays().unwrap().len(), 2);
        assert_eq!(store.people().unwrap().len(), 2);
        assert_eq!(store.contacts().unwrap().len(), if version < 8 { 0 } else { 2 });
        assert_eq!(store.alerts().unwrap().len(), if version < 8 { 0 } else { 2 });
        assert_eq!(store.patterns().unwrap().len(), if version < 3 { 3 } else { 4 });
        assert_eq!(store.platforms().unwrap().len(), usize::from(version >= 4));
        assert_eq!(store.uplinks().unwrap().len(), if version < 4 { 0 } else { 2 });
        assert_eq!(store.tokens().unwrap().len(), if version < 11 { 0 } else { 2 });
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
        // Left by an interrupted copy.
        std::fs::write(copy_path(&path, 3), "half").unwrap();
        migrate(&mut connection, Some(&path)).unwrap();
        let copy = Connection::open(copy_path(&path, 3)).unwrap();
        let version: i64 = copy.pragma_query_value(None, "user_version", |row| row.get(0)).unwrap();
        assert_eq!(version, 3);
        migrate(&mut connection, Some(&path)).unwrap();
        assert_eq!(files(), 2, "records of this version are not copied");
    }

    #[test]
    fn history_is_migrated_to_record_ids_without_loss() {
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
    fn records_of_a_newer_program_are_refused() {
        let mut connection = Connection::open_in_memory().unwrap();
        connection.pragma_update(None, "user_version", 99).unwrap();
        assert!(matches!(migrate(&mut connection, None), Err(StoreError::TooNew { found: 99, .. })));
    }
}
