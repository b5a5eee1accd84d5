//! The site book: a TOML text that describes everything a service keeps, by hand or under version control.
//!
//! Each record is a table under its section and its name, like `[feed."Summit Station"]`, with the fields that the API
//! has. Secrets never stand in a book: a field says where the secret comes from.

mod read;
mod shape;
mod write;

use std::fmt;

use serde_json::{Map, Value};

pub use read::read;
pub use write::write;

/// A section of a book, in the order in which one needs the other.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Section {
    /// Uplinks.
    Uplink,
    /// Rule sheets of one's own.
    Platform,
    /// Address patterns.
    Pattern,
    /// Feeds.
    Feed,
    /// Destinations.
    Destination,
    /// Relays.
    Relay,
    /// Contact, which receives notices.
    Contact,
    /// Alert rule.
    Alert,
}

impl Section {
    /// All sections.
    pub const ALL: [Self; 8] = [
        Self::Uplink,
        Self::Platform,
        Self::Pattern,
        Self::Feed,
        Self::Destination,
        Self::Relay,
        Self::Contact,
        Self::Alert,
    ];

    /// The word that the section's tables begin with.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Uplink => "uplink",
            Self::Platform => "platform",
            Self::Pattern => "pattern",
            Self::Feed => "feed",
            Self::Destination => "destination",
            Self::Relay => "relay",
            Self::Contact => "contact",
            Self::Alert => "alert",
        }
    }

    /// The section of a word.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|section| section.word() == word)
    }
}

impl fmt::Display for Section {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}

/// Source of a secret, or of a long text.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Origin {
    /// `{ file = "…" }`: a file, its path relative to the book.
    File(String),
    /// `{ env = "…" }`: a variable of the environment.
    Env(String),
    /// `"ask"`: somebody who is asked.
    Ask,
    /// `"keep"`: the service has it already.
    Keep,
}

/// One record.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// Its section.
    pub section: Section,
    /// Its name.
    pub name: String,
    /// Line of its table in the book, from 1 on.
    pub line: usize,
    /// Its fields as the API has them, `name` included, without those that come from elsewhere.
    pub fields: Map<String, Value>,
    /// Fields that come from elsewhere.
    pub origins: Vec<(&'static str, Origin)>,
}

/// Error in a site book.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Fault {
    /// Line, from 1 on.
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
