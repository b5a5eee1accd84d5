//! Restore of a backup, while no service runs.

use std::fs::{self, OpenOptions};
use std::io::{self, Write as _};
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::{Path, PathBuf};

use yonder_store::{MasterKey, SealError, Store, StoreError};

use crate::home::{DataDir, DataDirError};

/// Result of a restore.
#[derive(Debug)]
pub struct Restored {
    /// File of the replaced records.
    pub before: Option<PathBuf>,
    /// Number of relays in the backup.
    pub relays: usize,
    /// Number of people in the backup, whose access is restored.
    pub people: usize,
    /// Number of tokens in the backup, which are valid again.
    pub tokens: usize,
}

/// Options of a restore.
#[derive(Debug, Clone, Copy, Default)]
pub struct RestoreOptions {
    /// Switch every relay off, for a second machine with the same destinations.
    pub relays_off: bool,
    /// Keep sessions and invitations of the backup.
    pub keep_sessions: bool,
}

impl DataDir {
    /// Replaces the records with a backup, which is migrated and checked for damage and for its master key first; an
    /// invalid backup changes nothing. During the replacement a marker file keeps a service from starting without
    /// records, even after a power failure.
    ///
    /// # Errors
    /// [`DataDirError::Taken`] while a service runs here, or the fault of the backup.
    pub fn restore(&self, backup: &Path, options: RestoreOptions) -> Result<Restored, DataDirError> {
        let _lock = self.lock_exclusively()?;
        let draft = self.records_file().with_file_name("restore-draft.db");
        let checked = self.check_backup(backup, &draft, options);
        let restored = match checked {
            Ok(restored) => restored,
            Err(error) => {
                remove_records(&draft);
                return Err(error);
            }
        };
        let (records, marker) = (self.records_file(), self.restore_marker());
        fs::write(&marker, "").map_err(at(&marker))?;
        self.sync_folder()?;
        let before = records.exists().then(|| move_aside(&records)).transpose()?;
        fs::rename(&draft, &records).map_err(at(&records))?;
        self.sync_folder()?;
        fs::remove_file(&marker).map_err(at(&marker))?;
        remove_records(&draft);
        Ok(Restored { before, ..restored })
    }

    /// Makes renames in the folder durable.
    fn sync_folder(&self) -> Result<(), DataDirError> {
        let records = self.records_file();
        let folder = records.parent().unwrap_or_else(|| Path::new("."));
        fs::File::open(folder).and_then(|folder| folder.sync_all()).map_err(at(folder))
    }

    fn check_backup(
        &self,
        backup: &Path,
        draft: &Path,
        options: RestoreOptions,
    ) -> Result<Restored, DataDirError> {
        remove_records(draft);
        let bytes = fs::read(backup).map_err(at(backup))?;
        let mut file =
            OpenOptions::new().write(true).create_new(true).mode(0o600).open(draft).map_err(at(draft))?;
        file.write_all(&bytes).and_then(|()| file.sync_all()).map_err(at(draft))?;
        let file = self.master_key_file().display().to_string();
        let key = MasterKey::load(&self.master_key_file()).map_err(|error| match error {
            SealError::Missing { path } => DataDirError::MasterKeyMissing { path },
            error => error.into(),
        })?;
        let store = Store::open(draft, key).map_err(|error| match error {
            StoreError::ForeignMasterKey => DataDirError::MasterKeyForeign { path: file },
            error => error.into(),
        })?;
        store.check()?;
        if options.relays_off {
            store.switch_all_off()?;
        }
        if !options.keep_sessions {
            store.end_all_sessions()?;
        }
        Ok(Restored {
            before: None,
            relays: store.relays()?.len(),
            people: store.people()?.len(),
            tokens: store.tokens()?.len(),
        })
        // Closing the last connection merges the write-ahead log.
    }
}

/// Moves the records to the first unused name, and returns it.
fn move_aside(records: &Path) -> Result<PathBuf, DataDirError> {
    let mut before = records.with_extension("before-restore");
    for count in 2.. {
        if !before.exists() {
            break;
        }
        before = records.with_extension(format!("before-restore-{count}"));
    }
    fs::rename(records, &before).map_err(at(&before))?;
    // Missing after an orderly end; after a crash they belong to the records.
    for end in ["wal", "shm"] {
        let (from, to) = (with_end(records, end), with_end(&before, end));
        if from.exists() {
            fs::rename(&from, &to).map_err(at(&to))?;
        }
    }
    Ok(before)
}

/// Removes a draft of the records with all associated files. The copy made before its migration is removed as well,
/// since the backup itself exists.
pub(crate) fn remove_records(draft: &Path) {
    let (Some(folder), Some(stem)) = (draft.parent(), draft.file_stem()) else { return };
    let files = fs::read_dir(folder).into_iter().flatten().flatten();
    let stem = format!("{}.", stem.to_string_lossy());
    for file in files.filter(|file| file.file_name().to_string_lossy().starts_with(&stem)) {
        // A file that cannot be removed is replaced by the next restore.
        let _removed = fs::remove_file(file.path());
    }
}

/// Returns the name of a file that SQLite keeps next to the database.
fn with_end(path: &Path, end: &str) -> PathBuf {
    let mut name = path.as_os_str().to_owned();
    name.push("-");
    name.push(end);
    name.into()
}

fn at(path: &Path) -> impl Fn(io::Error) -> DataDirError {
    let path = path.display().to_string();
    move |source| DataDirError::File { path: path.clone(), source }
}
