//! Data directory: records, master key, local token, and the address of the running service.

use std::fs::{self, DirBuilder, OpenOptions};
use std::io::{self, Write as _};
use std::os::unix::fs::{DirBuilderExt as _, OpenOptionsExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};

use secrecy::SecretString;
use yonder_api::ServiceFacts;
use yonder_store::{LostSecret, MasterKey, SealError, Store, StoreError};

/// Environment variable with the path of a master key outside of the data directory.
const MASTER_KEY_VARIABLE: &str = "YONDER_MASTER_KEY_FILE";

/// Error of a data directory.
#[derive(Debug, thiserror::Error)]
pub enum DataDirError {
    /// A file or folder cannot be read or written.
    #[error("{path} cannot be used")]
    File {
        /// Path.
        path: String,
        /// I/O error.
        source: io::Error,
    },
    /// The data directory is used by another process.
    #[error("a service runs already in {0}")]
    Taken(String),
    /// The master key of the records is missing.
    #[error("the master key {path} of the records is missing")]
    MasterKeyMissing {
        /// Path.
        path: String,
    },
    /// The records are sealed with another key.
    #[error("the records are encrypted with another master key than {path}")]
    MasterKeyForeign {
        /// Path.
        path: String,
    },
    /// A restore was interrupted while it replaced the records.
    #[error("a restore was interrupted while it replaced the records")]
    RestoreInterrupted,
    /// There are no records.
    #[error("there are no records at {path}")]
    NoRecords {
        /// Path.
        path: String,
    },
    /// The master key is valid, so a reset is refused.
    #[error("the master key {path} belongs to these records")]
    MasterKeyFits {
        /// Path.
        path: String,
    },
    /// The master key is invalid.
    #[error(transparent)]
    Seal(#[from] SealError),
    /// The records cannot be used.
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// Data directory.
#[derive(Debug, Clone)]
pub struct DataDir {
    folder: PathBuf,
}

impl DataDir {
    /// Returns the data directory at `folder`, which need not exist.
    #[must_use]
    pub fn new(folder: impl Into<PathBuf>) -> Self {
        Self { folder: folder.into() }
    }

    /// Returns the path of the file with the address of the running service.
    #[must_use]
    pub fn service_file(&self) -> PathBuf {
        self.folder.join("service.json")
    }

    /// Returns the path of the local token.
    #[must_use]
    pub fn token_file(&self) -> PathBuf {
        self.folder.join("token")
    }

    /// Creates the folder if necessary, with access for the owner only, and locks it against other services while the
    /// returned file is open.
    ///
    /// # Errors
    /// [`DataDirError`] if the folder is unusable or in use. [`DataDirError`] when the folder cannot be used or is in
    /// use.
    pub fn lock_exclusively(&self) -> Result<fs::File, DataDirError> {
        let at = |path: &Path| {
            let path = path.display().to_string();
            move |source| DataDirError::File { path, source }
        };
        DirBuilder::new().recursive(true).mode(0o700).create(&self.folder).map_err(at(&self.folder))?;
        let path = self.folder.join("lock");
        let lock = OpenOptions::new().create(true).write(true).truncate(false).mode(0o600).open(&path);
        let lock = lock.map_err(at(&path))?;
        match lock.try_lock() {
            Ok(()) => Ok(lock),
            Err(fs::TryLockError::WouldBlock) => Err(DataDirError::Taken(self.folder.display().to_string())),
            Err(fs::TryLockError::Error(source)) => Err(at(&path)(source)),
        }
    }

    /// Returns the path of the records.
    pub(crate) fn records_file(&self) -> PathBuf {
        self.folder.join("yonder.db")
    }

    /// Returns the folder of slate sources, which survive a restart.
    #[must_use]
    pub fn slate_folder(&self) -> PathBuf {
        self.folder.join("slates")
    }

    /// Returns the path of the master key: in the data directory unless the environment names another one.
    pub(crate) fn master_key_file(&self) -> PathBuf {
        std::env::var_os(MASTER_KEY_VARIABLE).map_or_else(|| self.folder.join("master.key"), PathBuf::from)
    }

    /// Returns the master key. It is generated for new records, never for existing ones.
    ///
    /// # Errors
    /// [`DataDirError::MasterKeyMissing`] for records without their key, or the error of the key.
    pub(crate) fn master_key(&self) -> Result<MasterKey, DataDirError> {
        let path = self.master_key_file();
        match MasterKey::load(&path) {
            Err(SealError::Missing { path: shown }) if self.has_records() => {
                Err(DataDirError::MasterKeyMissing { path: shown })
            }
            Err(SealError::Missing { .. }) => Ok(MasterKey::create(&path)?),
            loaded => Ok(loaded?),
        }
    }

    pub(crate) fn has_records(&self) -> bool {
        fs::metadata(self.records_file()).is_ok_and(|file| file.len() > 0)
    }

    /// Opens the records.
    ///
    /// # Errors
    /// [`DataDirError::MasterKeyMissing`] or [`DataDirError::MasterKeyForeign`] if the key is not that of the records,
    /// or the error of records or key.
    pub fn open_store(&self) -> Result<Store, DataDirError> {
        if self.restore_marker().exists() {
            return Err(DataDirError::RestoreInterrupted);
        }
        let master_key = self.master_key()?;
        let path = self.create_records_file()?;
        self.restrict_rights();
        match Store::open(&path, master_key) {
            Err(StoreError::ForeignMasterKey) => {
                let file = self.master_key_file();
                // Sealed with the next key: a rotation was interrupted before its last step.
                if let Ok(next) = MasterKey::load(&MasterKey::next_path(&file))
                    && let Ok(store) = Store::open(&path, next.clone())
                {
                    drop(store);
                    tracing::warn!("completing the rotation of the master key");
                    return Ok(Store::open(&path, next.replace(&file)?)?);
                }
                Err(DataDirError::MasterKeyForeign { path: file.display().to_string() })
            }
            opened => Ok(opened?),
        }
    }

    /// Removes the permissions of others from files with secrets, as after a copy that did not preserve them.
    fn restrict_rights(&self) {
        let mode_of = |path: &Path| fs::metadata(path).map(|metadata| metadata.permissions().mode()).ok();
        for path in [self.token_file(), self.folder.join("master.key"), self.records_file()] {
            if mode_of(&path).is_none_or(|mode| mode & 0o077 == 0) {
                continue;
            }
            match fs::set_permissions(&path, fs::Permissions::from_mode(0o600)) {
                Ok(()) => tracing::warn!(
                    path = %path.display(),
                    "other users of this machine had access to this file; it was revoked. If they may have read it, rotate the master key and the token"
                ),
                Err(error) => {
                    tracing::error!(path = %path.display(), %error, "other users have access to this file");
                }
            }
        }
        // The folder may be readable on purpose; if others can write to it, they can replace the files.
        if mode_of(&self.folder).is_some_and(|mode| mode & 0o022 != 0) {
            tracing::warn!(path = %self.folder.display(), "other users of this machine can write to the data directory");
        }
        // A key outside of the directory, as passed by systemd, is not changed.
        let key = self.master_key_file();
        if mode_of(&key).is_some_and(|mode| mode & 0o007 != 0) {
            tracing::error!(path = %key.display(), "every user of this machine can read the master key");
        }
    }

    /// Returns the path of the marker that exists while a restore replaces the records.
    pub(crate) fn restore_marker(&self) -> PathBuf {
        self.folder.join("restore-in-progress")
    }

    /// Creates a new master key for records whose key is lost. All their secrets are lost and must be set again.
    ///
    /// # Errors
    /// [`DataDirError::Taken`] while a service runs here, [`DataDirError::MasterKeyFits`] if the present key is valid,
    /// or the error of records or key.
    pub fn reset_master_key(&self) -> Result<Vec<LostSecret>, DataDirError> {
        let _lock = self.lock_exclusively()?;
        let path = self.create_records_file()?;
        let file = self.master_key_file();
        let key = match MasterKey::load(&file) {
            Ok(key) => match Store::open(&path, key.clone()) {
                Err(StoreError::ForeignMasterKey) => key,
                Err(error) => return Err(error.into()),
                Ok(_) => return Err(DataDirError::MasterKeyFits { path: file.display().to_string() }),
            },
            Err(SealError::Missing { .. }) => MasterKey::create(&file)?,
            Err(error) => return Err(error.into()),
        };
        Ok(Store::open_with_foreign_key(&path, key)?.verify_secrets()?)
    }

    fn create_records_file(&self) -> Result<PathBuf, DataDirError> {
        let path = self.records_file();
        // SQLite creates its files with the permissions of the first one.
        OpenOptions::new()
            .create(true)
            .append(true)
            .mode(0o600)
            .open(&path)
            .map_err(|source| DataDirError::File { path: path.display().to_string(), source })?;
        Ok(path)
    }

    /// Returns the token of local clients, which is generated if necessary.
    ///
    /// # Errors
    /// [`DataDirError::File`] if the file is unusable.
    pub fn local_token(&self) -> Result<SecretString, DataDirError> {
        let path = self.token_file();
        let at = |source| DataDirError::File { path: path.display().to_string(), source };
        match fs::read_to_string(&path) {
            Ok(text) if text.trim().len() >= 32 => Ok(text.trim().into()),
            Ok(_) => Err(at(io::Error::other("it contains no token; remove it to get a new one"))),
            Err(error) if error.kind() == io::ErrorKind::NotFound => {
                let token = yonder_records::secrets::random_token();
                let file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(&path);
                writeln!(file.map_err(at)?, "{token}").map_err(at)?;
                Ok(token.into())
            }
            Err(error) => Err(at(error)),
        }
    }

    /// Writes the service file with the address for clients, atomically.
    ///
    /// # Errors
    /// [`DataDirError::File`] if it cannot be written.
    pub fn write_service_file(&self, facts: &ServiceFacts) -> Result<(), DataDirError> {
        let path = self.service_file();
        let at = |source| DataDirError::File { path: path.display().to_string(), source };
        let draft = path.with_extension("draft");
        let text = serde_json::to_string_pretty(facts).map_err(io::Error::other).map_err(at)?;
        fs::write(&draft, text + "\n").map_err(at)?;
        fs::rename(&draft, &path).map_err(at)
    }

    /// Removes the service file.
    pub fn remove_service_file(&self) {
        if let Err(error) = fs::remove_file(self.service_file()) {
            tracing::debug!(%error, "service.json was not there to remove");
        }
    }
}
