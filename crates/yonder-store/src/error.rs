//! Why a record could not be read or written.

use std::fmt;

use crate::seal::SealError;

/// What a record is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
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
    /// Somebody who is told.
    Receiver,
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
            Self::Receiver => "receiver",
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
    /// Relays use the record.
    #[error("the {kind} {name:?} is used by {}", relays.join(", "))]
    InUse {
        /// Kind of record.
        kind: Kind,
        /// Its name.
        name: String,
        /// Relays that use it.
        relays: Vec<String>,
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
    /// SQLite failed.
    #[error("the records cannot be read or written")]
    Sqlite(#[from] rusqlite::Error),
}
