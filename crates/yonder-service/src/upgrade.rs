//! Migration of the records to this version, tried on a copy before it is done.

use std::path::Path;

use yonder_store::{LostSecret, MasterKey, SealError, Store, StoreError};

use crate::home::{DataDir, DataDirError};
use crate::restore::remove_records;

/// Records before and after a migration.
#[derive(Debug)]
pub struct Upgrade {
    /// Version of the records found.
    pub found: i64,
    /// Version that this program writes.
    pub known: i64,
    /// Relays in the records.
    pub relays: usize,
    /// Secrets that do not open under the master key.
    pub lost: Vec<LostSecret>,
}

impl DataDir {
    /// Migrates a copy of the records, checks it, and removes it again. Nothing else is changed; a service of the
    /// former version may run meanwhile.
    ///
    /// # Errors
    /// [`DataDirError::NoRecords`], or why the records cannot be migrated.
    pub fn check_upgrade(&self) -> Result<Upgrade, DataDirError> {
        let records = self.existing_records()?;
        let copy = records.with_file_name("upgrade-check.db");
        remove_records(&copy);
        let checked =
            Store::copy_file(&records, &copy).map_err(DataDirError::from).and_then(|_| self.migrate(&copy));
        remove_records(&copy);
        checked
    }

    /// Migrates the records. Those of an older version are copied first, to a file with `before-migration` in its name.
    ///
    /// # Errors
    /// [`DataDirError::Taken`] while a service runs here, and as [`DataDir::check_upgrade`].
    pub fn upgrade(&self) -> Result<Upgrade, DataDirError> {
        let _lock = self.lock_exclusively()?;
        self.migrate(&self.existing_records()?)
    }

    fn existing_records(&self) -> Result<std::path::PathBuf, DataDirError> {
        let records = self.records_file();
        if self.has_records() {
            return Ok(records);
        }
        Err(DataDirError::NoRecords { path: records.display().to_string() })
    }

    fn migrate(&self, records: &Path) -> Result<Upgrade, DataDirError> {
        let found = Store::file_version(records)?;
        let file = self.master_key_file();
        let key = MasterKey::load(&file).map_err(|error| match error {
            SealError::Missing { path } => DataDirError::MasterKeyMissing { path },
            error => error.into(),
        })?;
        let store = Store::open(records, key).map_err(|error| match error {
            StoreError::ForeignMasterKey => {
                DataDirError::MasterKeyForeign { path: file.display().to_string() }
            }
            error => error.into(),
        })?;
        store.check()?;
        let (relays, lost) = (store.relays()?.len(), store.verify_secrets()?);
        Ok(Upgrade { found, known: Store::VERSION, relays, lost })
    }
}

#[cfg(test)]
mod tests {
    use std::fs;

    use rstest::rstest;
    use rusqlite::Connection;

    use super::*;

    /// Makes a home folder with records of an older version and a relay in them.
    fn home_of_version(folder: &Path, version: usize) -> DataDir {
        let migrations = concat!(env!("CARGO_MANIFEST_DIR"), "/../yonder-store/migrations");
        let mut files: Vec<_> = fs::read_dir(migrations).unwrap().map(|file| file.unwrap().path()).collect();
        files.retain(|file| file.extension().is_some_and(|extension| extension == "sql"));
        files.sort();
        let connection = Connection::open(folder.join("yonder.db")).unwrap();
        for file in &files[..version] {
            connection.execute_batch(&fs::read_to_string(file).unwrap()).unwrap();
        }
        let rows = "INSERT INTO feed (name, url, transport, created_s) VALUES ('Summit', 'rtsp://192.0.2.7/main', 'auto', 1);
            INSERT INTO relay (name, feed, wanted, created_s) VALUES ('Line', 1, 'on', 1);";
        connection.execute_batch(rows).unwrap();
        connection.pragma_update(None, "user_version", i64::try_from(version).unwrap()).unwrap();
        MasterKey::create(&folder.join("master.key")).unwrap();
        DataDir::new(folder)
    }

    fn files(folder: &Path) -> Vec<String> {
        let files = fs::read_dir(folder).unwrap();
        let mut names: Vec<_> = files.map(|file| file.unwrap().file_name().into_string().unwrap()).collect();
        names.sort();
        names
    }

    #[test]
    fn a_check_migrates_a_copy_and_leaves_everything_as_it_was() {
        let folder = tempfile::tempdir().unwrap();
        let home = home_of_version(folder.path(), 3);
        let records = fs::read(folder.path().join("yonder.db")).unwrap();
        let before = files(folder.path());
        // The former version runs.
        let _lock = home.lock_exclusively().unwrap();
        let upgrade = home.check_upgrade().unwrap();
        assert_eq!((upgrade.found, upgrade.known, upgrade.relays), (3, Store::VERSION, 1));
        assert!(upgrade.lost.is_empty());
        assert_eq!(fs::read(folder.path().join("yonder.db")).unwrap(), records);
        fs::remove_file(folder.path().join("lock")).unwrap();
        assert_eq!(files(folder.path()), before);
        assert!(matches!(home.upgrade(), Ok(Upgrade { found: 3, .. })), "the lock is the file's");
    }

    #[test]
    fn an_upgrade_keeps_a_copy_of_the_former_records() {
        let folder = tempfile::tempdir().unwrap();
        let home = home_of_version(folder.path(), 7);
        let upgrade = home.upgrade().unwrap();
        assert_eq!((upgrade.found, upgrade.relays), (7, 1));
        assert!(files(folder.path()).contains(&"yonder.before-migration-7".to_owned()));
        assert_eq!(home.upgrade().unwrap().found, Store::VERSION, "the second time there is nothing to do");
    }

    #[rstest]
    fn records_that_cannot_be_migrated_are_named_and_left(
        #[values("none", "newer", "no-key", "foreign-key")] fault: &str,
    ) {
        let folder = tempfile::tempdir().unwrap();
        let home = home_of_version(folder.path(), 17);
        let (records, key) = (folder.path().join("yonder.db"), folder.path().join("master.key"));
        match fault {
            "none" => fs::remove_file(&records).unwrap(),
            "newer" => Connection::open(&records).unwrap().pragma_update(None, "user_version", 99).unwrap(),
            "no-key" => fs::remove_file(&key).unwrap(),
            _ => {
                home.upgrade().unwrap();
                fs::remove_file(&key).unwrap();
                MasterKey::create(&key).unwrap();
            }
        }
        let refused = home.check_upgrade().unwrap_err();
        let is_expected = match fault {
            "none" => matches!(refused, DataDirError::NoRecords { .. }),
            "newer" => matches!(refused, DataDirError::Store(StoreError::TooNew { found: 99, .. })),
            "no-key" => matches!(refused, DataDirError::MasterKeyMissing { .. }),
            _ => matches!(refused, DataDirError::MasterKeyForeign { .. }),
        };
        assert!(is_expected, "{fault}: {refused:?}");
        assert!(!files(folder.path()).iter().any(|name| name.starts_with("upgrade-check")));
    }
}
