//! Backup and integrity check of the records.

use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;

use rusqlite::{Connection, OpenFlags, params};

use crate::error::StoreError;
use crate::migrations;
use crate::seal::SealError;
use crate::store::{BUSY_TIMEOUT, STILL_BUSY_TIMEOUT, Store};

impl Store {
    /// Schema version of this program.
    pub const VERSION: i64 = migrations::VERSION;

    /// Returns a copy of all records as a SQLite file, with sealed secrets.
    ///
    /// # Errors
    /// A database error, or if no file can be written next to the records.
    pub fn backup(&self) -> Result<Vec<u8>, StoreError> {
        let beside = self.path().map_or_else(|| std::env::temp_dir().join("records"), Path::to_owned);
        let draft = beside.with_file_name(format!("backup-{}.draft", std::process::id()));
        // Left over from a crash.
        let _left = fs::remove_file(&draft);
        let copied = self.backup_to(&draft).and_then(|_| {
            fs::read(&draft)
                .map_err(|source| SealError::File { path: draft.display().to_string(), source }.into())
        });
        let _removed = fs::remove_file(&draft);
        copied
    }

    /// Writes a copy of all records to a new file, with sealed secrets, and returns its size.
    ///
    /// # Errors
    /// A database error, or if the file cannot be written.
    pub fn backup_to(&self, path: &Path) -> Result<u64, StoreError> {
        #[cfg(debug_assertions)]
        self.hang.wait(crate::hang::DiskWork::Backup);
        match self.path() {
            // Uses a separate connection, so that no writer waits for the copy.
            Some(records) => copy(&Connection::open(records)?, path),
            None => self.read(|connection| copy(connection, path)),
        }
    }

    /// Merges the write-ahead log into the database file and empties it, so that the file alone is complete. Pages that
    /// are used by a reader of another process stay in the log.
    ///
    /// # Errors
    /// A database error.
    pub fn checkpoint(&self) -> Result<(), StoreError> {
        #[cfg(debug_assertions)]
        self.hang.wait(crate::hang::DiskWork::Records);
        let writer = self.writer.lock();
        // An orderly end must not wait for a reader of another process.
        writer.busy_timeout(STILL_BUSY_TIMEOUT)?;
        // A checkpoint cannot be part of a transaction.
        Ok(writer.query_row("PRAGMA wal_checkpoint(TRUNCATE)", [], |_| Ok(()))?)
    }

    /// Copies records of any version to a new file, without opening or migrating them, and returns the size of the
    /// copy. A service may use them at the same time.
    ///
    /// # Errors
    /// A database error, or if the file cannot be written.
    pub fn copy_file(records: &Path, path: &Path) -> Result<u64, StoreError> {
        let connection = Connection::open_with_flags(records, OpenFlags::SQLITE_OPEN_READ_ONLY)?;
        connection.busy_timeout(BUSY_TIMEOUT)?;
        copy(&connection, path)
    }

    /// Returns the schema version of records, without migrating them.
    ///
    /// # Errors
    /// A database error.
    pub fn file_version(records: &Path) -> Result<i64, StoreError> {
        let connection = Connection::open_with_flags(records, OpenFlags::SQLITE_OPEN_READ_ONLY)?;
        connection.busy_timeout(BUSY_TIMEOUT)?;
        Ok(connection.pragma_query_value(None, "user_version", |row| row.get(0))?)
    }

    /// Checks the whole file for damage.
    ///
    /// # Errors
    /// [`StoreError::Damaged`], or a database error.
    pub fn check(&self) -> Result<(), StoreError> {
        self.read(|connection| {
            let found: String = connection.query_row("PRAGMA quick_check(1)", [], |row| row.get(0))?;
            if found == "ok" { Ok(()) } else { Err(StoreError::Damaged("pages that do not fit together")) }
        })
    }

    /// Switches every relay off.
    ///
    /// # Errors
    /// A database error.
    pub fn switch_all_off(&self) -> Result<(), StoreError> {
        self.write(|transaction| {
            transaction.execute("UPDATE relay SET wanted = 'off'", [])?;
            Ok(())
        })
    }

    /// Ends all sessions and revokes all invitations.
    ///
    /// # Errors
    /// A database error.
    pub fn end_all_sessions(&self) -> Result<(), StoreError> {
        self.write(|transaction| {
            transaction.execute("DELETE FROM session", [])?;
            transaction.execute("DELETE FROM invitation", [])?;
            Ok(())
        })
    }
}

fn copy(connection: &Connection, to: &Path) -> Result<u64, StoreError> {
    connection.execute("VACUUM INTO ?1", params![to.to_string_lossy()])?;
    let file = |source| SealError::File { path: to.display().to_string(), source };
    // Readable by the owner only, like the records.
    fs::set_permissions(to, fs::Permissions::from_mode(0o600)).map_err(file)?;
    Ok(fs::metadata(to).map_err(file)?.len())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::seal::MasterKey;

    fn key() -> MasterKey {
        MasterKey::from_bytes(&[7; 32])
    }

    #[test]
    fn a_copy_opens_and_leaves_nothing_behind() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(&folder.path().join("yonder.db"), key()).unwrap();
        let copy = store.backup().unwrap();
        assert!(copy.starts_with(b"SQLite format 3"));
        let other = folder.path().join("other.db");
        fs::write(&other, copy).unwrap();
        let other = Store::open(&other, key()).unwrap();
        other.check().unwrap();
        assert_eq!(other.verify_secrets().unwrap(), []);
        let left: Vec<_> =
            fs::read_dir(folder.path()).unwrap().map(|file| file.unwrap().file_name()).collect();
        assert!(!left.iter().any(|name| name.to_string_lossy().contains("draft")), "{left:?}");
    }

    #[test]
    fn damage_is_found() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("yonder.db");
        let copy = Store::open(&path, key()).unwrap().backup().unwrap();
        let damaged = folder.path().join("damaged.db");
        let mut bytes = copy;
        // The second page and those after it.
        for byte in &mut bytes[5_000..20_000] {
            *byte ^= 0x5a;
        }
        fs::write(&damaged, bytes).unwrap();
        let sound = Store::open(&damaged, key()).and_then(|store| store.check());
        assert!(sound.is_err());
    }
}
