//! Site book: a TOML document that describes all settings of a service, written by hand or kept under version control.
//!
//! Each record is a table named by section and name, like `[feed."Summit Station"]`, with the fields of the API. A book never
//! contains secrets: a field names the source of the secret.

mod read;
mod shape;
mod write;

use std::fmt;

use serde_json::{Map, Value};

pub use read::read;
pub use write::write;

/// Section of a book, in dependency order.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Section {
    /// Uplinks.
    Uplink,
    /// User-defined rule sheets.
    Platform,
    /// Address patterns.
    Pattern,
    /// Feeds.
    Feed,
    /// Destinations.
    Destination,
    /// Relays.
    Relay,
    /// Signposts.
    Signpost,
    /// Contact, which receives notices.
    Contact,
    /// Alert rule.
    Alert,
}

impl Section {
    /// All sections.
    pub const ALL: [Self; 9] = [
        Self::Uplink,
        Self::Platform,
        Self::Pattern,
        Self::Feed,
        Self::Destination,
        Self::Relay,
        Self::Signpost,
        Self::Contact,
        Self::Alert,
    ];

    /// Returns the key of the section's tables.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Uplink => "uplink",
            Self::Platform => "platform",
            Self::Pattern => "pattern",
            Self::Feed => "feed",
            Self::Destination => "destination",
            Self::Relay => "relay",
            Self::Signpost => "signpost",
            Self::Contact => "contact",
            Self::Alert => "alert",
        }
    }

    /// Returns the section with this key.
    #[must_use]
    pub fn from_name(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|section| section.as_str() == word)
    }
}

impl fmt::Display for Section {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.as_str())
    }
}

/// Source of a secret or of a long text.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Origin {
    /// `{ file = "…" }`: a file, its path relative to the book.
    File(String),
    /// `{ env = "…" }`: an environment variable.
    Env(String),
    /// `"ask"`: the person who applies the book is asked.
    Ask,
    /// `"keep"`: the value that the service has stored.
    Keep,
}

/// One record.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// Section.
    pub section: Section,
    /// Name.
    pub name: String,
    /// Line of the record's table in the book, from 1.
    pub line: usize,
    /// Fields as in the API, including `name`, without those in `origins`.
    pub fields: Map<String, Value>,
    /// Fields with an external source.
    pub origins: Vec<(&'static str, Origin)>,
}

/// Error in a site book.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Fault {
    /// Line, from 1.
    pub line: usize,
    /// Message, in one sentence.
    pub detail: String,
    /// Correction.
    pub hint: String,
}

impl Fault {
    fn new(line: usize, detail: impl Into<String>, hint: impl Into<String>) -> Self {
        Self { line, detail: detail.into(), hint: hint.into() }
    }
}
