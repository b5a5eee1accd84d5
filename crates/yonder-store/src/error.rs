//! Why a record could not be read or written.

use std::fmt;

use rusqlite::ErrorCode;

use crate::seal::SealError;

/// Kind of a record.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Kind {
    /// Feed.
    Feed,
    /// Destination.
    Destination,
    /// Relay.
    Relay,
    /// Person.
    Person,
    /// Address pattern.
    Pattern,
    /// Rule sheet of a platform.
    Platform,
    /// Uplink.
    Uplink,
    /// The service itself.
    Service,
    /// Alert.
    Alert,
    /// Contact.
    Contact,
    /// An invitation to become somebody who may sign in.
    Invitation,
    /// A token for programs.
    Token,
    /// A session of somebody who is signed in.
    Session,
}

impl Kind {
    /// The kind of a word.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        let all = [
            Self::Feed,
            Self::Destination,
            Self::Relay,
            Self::Person,
            Self::Pattern,
            Self::Platform,
            Self::Uplink,
            Self::Service,
            Self::Alert,
            Self::Contact,
            Self::Invitation,
            Self::Token,
            Self::Session,
        ];
        all.into_iter().find(|kind| kind.to_string() == word)
    }

    /// True if records of this kind have an id and a revision. Their tables are called like the kind.
    pub(crate) fn has_identity(self) -> bool {
        !matches!(self, Self::Service | Self::Session | Self::Invitation)
    }
}

impl fmt::Display for Kind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Feed => "feed",
            Self::Destination => "destination",
            Self::Relay => "relay",
            Self::Person => "person",
            Self::Pattern => "pattern",
            Self::Platform => "platform",
            Self::Uplink => "uplink",
            Self::Service => "service",
            Self::Alert => "alert",
            Self::Contact => "contact",
            Self::Invitation => "invitation",
            Self::Token => "token",
            Self::Session => "session",
        })
    }
}

/// Why the store refused or failed.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum StoreError {
    /// There is no record of that name.
    #[error("there is no {kind} named {name:?}")]
    NotFound {
        /// Kind of record.
        kind: Kind,
        /// Name asked for.
        name: String,
    },
    /// Another record has the name.
    #[error("there is already a {kind} named {name:?}")]
    NameTaken {
        /// Kind of record.
        kind: Kind,
        /// The name.
        name: String,
    },
    /// Other records need this one.
    #[error("the {kind} {name:?} is used by {}", users.join(", "))]
    InUse {
        /// Kind of record.
        kind: Kind,
        /// Its name.
        name: String,
        /// Names of the relays, or destinations, that use it.
        users: Vec<String>,
    },
    /// The last admin cannot be removed.
    #[error("{0:?} is the last admin")]
    LastAdmin(String),
    /// The records were sealed under another master key.
    #[error("the records were sealed under another master key")]
    ForeignMasterKey,
    /// The records of an older version cannot be copied before they are migrated.
    #[error("the records cannot be copied to {path} before they are migrated")]
    NotCopied {
        /// Path of the copy.
        path: String,
        /// Why.
        source: std::io::Error,
    },
    /// A secret cannot be sealed or opened.
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
    /// A value in the file makes no sense.
    #[error("the records hold {0}")]
    Damaged(&'static str),
    /// There is no room on the disk.
    #[error("the disk is full, and nothing can be kept")]
    Full,
    /// Another program holds the file.
    #[error("the records are locked by another program")]
    Locked,
    /// SQLite failed.
    #[error("the records cannot be read or written")]
    Sqlite(#[source] rusqlite::Error),
}

impl StoreError {
    /// True if the disk, or another program that holds the file, is the reason: the same call may work later.
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
