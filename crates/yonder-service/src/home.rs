//! The home folder: records, master key, local token, and where the running service is.

use std::fs::{self, DirBuilder, OpenOptions};
use std::io::{self, Write as _};
use std::os::unix::fs::{DirBuilderExt as _, OpenOptionsExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};

use secrecy::SecretString;
use yonder_api::ServiceFacts;
use yonder_store::{LostSecret, MasterKey, SealError, Store, StoreError};

/// Names a file with the master key that lies outside the home folder.
const MASTER_KEY_VARIABLE: &str = "YONDER_MASTER_KEY_FILE";

/// Why a home folder cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum HomeError {
    /// A file or folder cannot be read or written.
    #[error("{path} cannot be used")]
    File {
        /// Path.
        path: String,
        /// Why.
        source: io::Error,
    },
    /// Another service runs in this folder.
    #[error("a service runs already in {0}")]
    Taken(String),
    /// There are records, but not the key that they are sealed under.
    #[error("the master key {path} is missing, and the records are sealed under it")]
    MasterKeyMissing {
        /// Path.
        path: String,
    },
    /// The records are sealed under another key.
    #[error("the records are sealed under another master key than {path}")]
    MasterKeyForeign {
        /// Path.
        path: String,
    },
    /// A restore was cut off while it replaced the records.
    #[error("a restore was interrupted while it replaced the records")]
    RestoreInterrupted,
    /// There are no records.
    #[error("there are no records at {path}")]
    NoRecords {
        /// Path.
        path: String,
    },
    /// The key opens the records, so that nothing is to be reset.
    #[error("the master key {path} opens these records")]
    MasterKeyFits {
        /// Path.
        path: String,
    },
    /// The master key cannot be used.
    #[error(transparent)]
    Seal(#[from] SealError),
    /// The records cannot be used.
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// A home folder.
#[derive(Debug, Clone)]
pub struct Home {
    folder: PathBuf,
}

impl Home {
    /// The home folder at `folder`, which need not exist yet.
    #[must_use]
    pub fn new(folder: impl Into<PathBuf>) -> Self {
        Self { folder: folder.into() }
    }

    /// Returns the file with the address of the running service.
    #[must_use]
    pub fn service_file(&self) -> PathBuf {
        self.folder.join("service.json")
    }

    /// Returns the file of the local token.
    #[must_use]
    pub fn token_file(&self) -> PathBuf {
        self.folder.join("token")
    }

    /// Makes the folder if need be, for its owner alone, and keeps other services out of it for as long as the
    /// returned file is open.
    ///
    /// # Errors
    /// [`HomeError`] when the folder cannot be used or is in use.
    pub fn occupy(&self) -> Result<fs::File, HomeError> {
        let at = |path: &Path| {
            let path = path.display().to_string();
            move |source| HomeError::File { path, source }
        };
        DirBuilder::new().recursive(true).mode(0o700).create(&self.folder).map_err(at(&self.folder))?;
        let path = self.folder.join("lock");
        let lock = OpenOptions::new().create(true).write(true).truncate(false).mode(0o600).open(&path);
        let lock = lock.map_err(at(&path))?;
        match lock.try_lock() {
            Ok(()) => Ok(lock),
            Err(fs::TryLockError::WouldBlock) => Err(HomeError::Taken(self.folder.display().to_string())),
            Err(fs::TryLockError::Error(source)) => Err(at(&path)(source)),
        }
    }

    /// Returns the file of the records.
    pub(crate) fn records_file(&self) -> PathBuf {
        self.folder.join("yonder.db")
    }

    /// Folder with the sources of slates, which outlive a restart.
    #[must_use]
    pub fn slate_folder(&self) -> PathBuf {
        self.folder.join("slates")
    }

    /// File of the master key, in the home folder unless the environment names another one.
    pub(crate) fn master_key_file(&self) -> PathBuf {
        std::env::var_os(MASTER_KEY_VARIABLE).map_or_else(|| self.folder.join("master.key"), PathBuf::from)
    }

    /// The key that secrets are sealed under. It is made together with fresh records, and never for records that are there
    /// already.
    ///
    /// # Errors
    /// [`HomeError::MasterKeyMissing`] for records whose key is not there, or why the key cannot be used.
    pub(crate) fn master_key(&self) -> Result<MasterKey, HomeError> {
        let path = self.master_key_file();
        match MasterKey::load(&path) {
            Err(SealError::Missing { path: shown }) if self.has_records() => {
                Err(HomeError::MasterKeyMissing { path: shown })
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
    /// [`HomeError::MasterKeyMissing`] or [`HomeError::MasterKeyForeign`] when the key is not that of the records, or why
    /// records or key cannot be used.
    pub fn open_store(&self) -> Result<Store, HomeError> {
        if self.restore_marker().exists() {
            return Err(HomeError::RestoreInterrupted);
        }
        let master_key = self.master_key()?;
        let path = self.create_records_file()?;
        self.restrict_rights();
        match Store::open(&path, master_key) {
            Err(StoreError::ForeignMasterKey) => {
                let file = self.master_key_file();
                // The records are sealed under the successor: a rotation was cut off before its last step.
                if let Ok(next) = MasterKey::load(&MasterKey::next_path(&file))
                    && let Ok(store) = Store::open(&path, next.clone())
                {
                    drop(store);
                    tracing::warn!("completing the rotation of the master key");
                    return Ok(Store::open(&path, next.replace(&file)?)?);
                }
                Err(HomeError::MasterKeyForeign { path: file.display().to_string() })
            }
            opened => Ok(opened?),
        }
    }

    /// Takes the rights of others away from the files with secrets, as after a copy that did not keep them.
    fn restrict_rights(&self) {
        let mode_of = |path: &Path| fs::metadata(path).map(|metadata| metadata.permissions().mode()).ok();
        for path in [self.token_file(), self.folder.join("master.key"), self.records_file()] {
            if mode_of(&path).is_none_or(|mode| mode & 0o077 == 0) {
                continue;
            }
            match fs::set_permissions(&path, fs::Permissions::from_mode(0o600)) {
                Ok(()) => tracing::warn!(
                    path = %path.display(),
                    "other users of this machine had rights to this file, which are withdrawn; if they may have read it, \
                     rotate the master key and the token"
                ),
                Err(error) => {
                    tracing::error!(path = %path.display(), %error, "other users have rights to this file");
                }
            }
        }
        // The folder may be shared on purpose; one that others can write to lets them replace the files.
        if mode_of(&self.folder).is_some_and(|mode| mode & 0o022 != 0) {
            tracing::warn!(path = %self.folder.display(), "other users of this machine can write to the home folder");
        }
        // A key elsewhere, as systemd passes it, is not ours to change.
        let key = self.master_key_file();
        if mode_of(&key).is_some_and(|mode| mode & 0o007 != 0) {
            tracing::error!(path = %key.display(), "every user of this machine can read the master key");
        }
    }

    /// File that is there while a restore replaces the records.
    pub(crate) fn restore_marker(&self) -> PathBuf {
        self.folder.join("restore-in-progress")
    }

    /// Gives records whose master key is lost a new one. Every secret in them is lost, and has to be set again.
    ///
    /// # Errors
    /// [`HomeError::Taken`] while a service runs here, [`HomeError::MasterKeyFits`] when the present key opens the records, or
    /// why records or key cannot be used.
    pub fn reset_master_key(&self) -> Result<Vec<LostSecret>, HomeError> {
        let _lock = self.occupy()?;
        let path = self.create_records_file()?;
        let file = self.master_key_file();
        let key = match MasterKey::load(&file) {
            Ok(key) => match Store::open(&path, key.clone()) {
                Err(StoreError::ForeignMasterKey) => key,
                Err(error) => return Err(error.into()),
                Ok(_) => return Err(HomeError::MasterKeyFits { path: file.display().to_string() }),
            },
            Err(SealError::Missing { .. }) => MasterKey::create(&file)?,
            Err(error) => return Err(error.into()),
        };
        Ok(Store::open_with_foreign_key(&path, key)?.verify_secrets()?)
    }

    fn create_records_file(&self) -> Result<PathBuf, HomeError> {
        let path = self.records_file();
        // SQLite makes its files with the rights of the first one.
        OpenOptions::new()
            .create(true)
            .append(true)
            .mode(0o600)
            .open(&path)
            .map_err(|source| HomeError::File { path: path.display().to_string(), source })?;
        Ok(path)
    }

    /// The token by which local clients sign in; made where there is none.
    ///
    /// # Errors
    /// [`HomeError::File`] when the file cannot be used.
    pub fn local_token(&self) -> Result<SecretString, HomeError> {
        let path = self.token_file();
        let at = |source| HomeError::File { path: path.display().to_string(), source };
        match fs::read_to_string(&path) {
            Ok(text) if text.trim().len() >= 32 => Ok(text.trim().into()),
            Ok(_) => Err(at(io::Error::other("it holds no token; remove it to get a new one"))),
            Err(error) if error.kind() == io::ErrorKind::NotFound => {
                let token = crate::secrets::random_token();
                let file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(&path);
                writeln!(file.map_err(at)?, "{token}").map_err(at)?;
                Ok(token.into())
            }
            Err(error) => Err(at(error)),
        }
    }

    /// Tells clients where the service is. The file appears whole or not at all.
    ///
    /// # Errors
    /// [`HomeError::File`] when it cannot be written.
    pub fn announce(&self, facts: &ServiceFacts) -> Result<(), HomeError> {
        let path = self.service_file();
        let at = |source| HomeError::File { path: path.display().to_string(), source };
        let draft = path.with_extension("draft");
        let text = serde_json::to_string_pretty(facts).map_err(io::Error::other).map_err(at)?;
        fs::write(&draft, text + "\n").map_err(at)?;
        fs::rename(&draft, &path).map_err(at)
    }

    /// Takes the announcement back.
    pub fn withdraw(&self) {
        if let Err(error) = fs::remove_file(self.service_file()) {
            tracing::debug!(%error, "service.json was not there to remove");
        }
    }
}
