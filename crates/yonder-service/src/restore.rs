//! Putting a backup in the place of the records, while no service runs.

use std::fs::{self, OpenOptions};
use std::io::{self, Write as _};
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::{Path, PathBuf};

use yonder_store::{MasterKey, SealError, Store, StoreError};

use crate::home::{Home, HomeError};

/// What a restore did.
#[derive(Debug)]
pub struct Restored {
    /// Where the records lie that were there before.
    pub before: Option<PathBuf>,
    /// Relays in the backup.
    pub relays: usize,
}

impl Home {
    /// Takes the records from a backup. It is brought to this version, and checked against damage and the master key, before
    /// anything is replaced; a backup that cannot be used changes nothing. `relays_off` switches every relay off, for
    /// a machine that shall not push what another one pushes already.
    ///
    /// # Errors
    /// [`HomeError::Taken`] while a service runs here, or why the backup cannot be used.
    pub fn restore(&self, backup: &Path, relays_off: bool) -> Result<Restored, HomeError> {
        let _lock = self.occupy()?;
        let draft = self.records_file().with_extension("restoring");
        let checked = self.check_backup(backup, &draft, relays_off);
        let relays = match checked {
            Ok(relays) => relays,
            Err(error) => {
                remove_records(&draft);
                return Err(error);
            }
        };
        let records = self.records_file();
        let before = records.exists().then(|| set_aside(&records)).transpose()?;
        fs::rename(&draft, &records).map_err(at(&records))?;
        Ok(Restored { before, relays })
    }

    fn check_backup(&self, backup: &Path, draft: &Path, relays_off: bool) -> Result<usize, HomeError> {
        remove_records(draft);
        let bytes = fs::read(backup).map_err(at(backup))?;
        let mut file =
            OpenOptions::new().write(true).create_new(true).mode(0o600).open(draft).map_err(at(draft))?;
        file.write_all(&bytes).and_then(|()| file.sync_all()).map_err(at(draft))?;
        let file = self.master_key_file().display().to_string();
        let key = MasterKey::load(&self.master_key_file()).map_err(|error| match error {
            SealError::Missing { path } => HomeError::MasterKeyMissing { path },
            error => error.into(),
        })?;
        let store = Store::open(draft, key).map_err(|error| match error {
            StoreError::ForeignMasterKey => HomeError::MasterKeyForeign { path: file },
            error => error.into(),
        })?;
        store.check()?;
        if relays_off {
            store.switch_all_off()?;
        }
        Ok(store.relays()?.len())
        // Closing the last connection writes everything into the one file.
    }
}

/// The first name beside the records that is free.
fn set_aside(records: &Path) -> Result<PathBuf, HomeError> {
    let mut before = records.with_extension("before-restore");
    for count in 2.. {
        if !before.exists() {
            break;
        }
        before = records.with_extension(format!("before-restore-{count}"));
    }
    fs::rename(records, &before).map_err(at(&before))?;
    // After an orderly end they are not there; after a crash they belong to the records.
    for end in ["wal", "shm"] {
        let (from, to) = (with_end(records, end), with_end(&before, end));
        if from.exists() {
            fs::rename(&from, &to).map_err(at(&to))?;
        }
    }
    Ok(before)
}

fn remove_records(path: &Path) {
    for path in [path.to_owned(), with_end(path, "wal"), with_end(path, "shm")] {
        // It is hardly ever there.
        let _removed = fs::remove_file(path);
    }
}

/// Names of the files that SQLite keeps beside its own.
fn with_end(path: &Path, end: &str) -> PathBuf {
    let mut name = path.as_os_str().to_owned();
    name.push("-");
    name.push(end);
    name.into()
}

fn at(path: &Path) -> impl Fn(io::Error) -> HomeError {
    let path = path.display().to_string();
    move |source| HomeError::File { path: path.clone(), source }
}
