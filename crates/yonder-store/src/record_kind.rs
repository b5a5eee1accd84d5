//! Kinds of records.

use std::fmt;

/// Kind of a record.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum RecordKind {
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
    /// Invitation.
    Invitation,
    /// API token.
    Token,
    /// Session of a signed-in person.
    Session,
    /// Signpost.
    Signpost,
}

impl RecordKind {
    /// Returns the kind with this name.
    #[must_use]
    pub fn from_name(word: &str) -> Option<Self> {
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
            Self::Signpost,
        ];
        all.into_iter().find(|kind| kind.to_string() == word)
    }

    /// Returns true if records of this kind have an ID and a revision. Their tables are named like the kind.
    pub(crate) fn has_identity(self) -> bool {
        !matches!(self, Self::Service | Self::Session | Self::Invitation)
    }
}

impl fmt::Display for RecordKind {
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
            Self::Signpost => "signpost",
        })
    }
}
