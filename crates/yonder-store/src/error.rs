//! Errors of the store.

use rusqlite::ErrorCode;

use crate::record_kind::RecordKind;
use crate::seal::SealError;

/// Error of the store.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum StoreError {
    /// No record with this name.
    #[error("there is no {kind} named {name:?}")]
    NotFound {
        /// Kind of record.
        kind: RecordKind,
        /// Requested name.
        name: String,
    },
    /// Another record has the name.
    #[error("there is already a {kind} named {name:?}")]
    NameTaken {
        /// Kind of record.
        kind: RecordKind,
        /// The name.
        name: String,
    },
    /// The record is used by others.
    #[error("the {kind} {name:?} is used by {}", users.join(", "))]
    InUse {
        /// Kind of record.
        kind: RecordKind,
        /// Its name.
        name: String,
        /// Names of the records that use it.
        users: Vec<String>,
    },
    /// The last admin cannot be removed or demoted.
    #[error("{0:?} is the last admin")]
    LastAdmin(String),
    /// The records are sealed with another master key.
    #[error("the records were sealed under another master key")]
    ForeignMasterKey,
    /// The copy of the records before a migration failed.
    #[error("the records cannot be copied to {path} before they are migrated")]
    NotCopied {
        /// Path of the copy.
        path: String,
        /// I/O error.
        source: std::io::Error,
    },
    /// A secret cannot be sealed or decrypted.
    #[error(transparent)]
    Seal(#[from] SealError),
    /// The file is from a newer version of the program.
    #[error("the records are of version {found}, newer than this program's {known}")]
    TooNew {
        /// Version found.
        found: i64,
        /// Newest known.
        known: i64,
    },
    /// Invalid value in the file.
    #[error("the records hold {0}")]
    Damaged(&'static str),
    /// The disk is full.
    #[error("the disk is full, and nothing can be kept")]
    Full,
    /// The file is locked by another process.
    #[error("the records are locked by another program")]
    Locked,
    /// SQLite failed.
    #[error("the records cannot be read or written")]
    Sqlite(#[source] rusqlite::Error),
}

impl StoreError {
    /// Returns true if the disk or a lock is the reason, so that the same call may succeed later.
    #[must_use]
    pub fn is_of_disk(&self) -> bool {
        match self {
            Self::Full | Self::Locked => true,
            Self::Sqlite(error) => matches!(
                error.sqlite_error_code(),
                Some(ErrorCode::SystemIoFailure | ErrorCode::CannotOpen | ErrorCode::ReadOnly)
            ),
            _ => false,
        }
    }
}

impl From<rusqlite::Error> for StoreError {
    fn from(error: rusqlite::Error) -> Self {
        match error.sqlite_error_code() {
            Some(ErrorCode::DiskFull) => Self::Full,
            Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked) => Self::Locked,
            Some(ErrorCode::DatabaseCorrupt) => Self::Damaged("pages that do not fit together"),
            Some(ErrorCode::NotADatabase) => Self::Damaged("something else than records"),
            _ => Self::Sqlite(error),
        }
    }
}
