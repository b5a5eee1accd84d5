//! Address patterns.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::feeds::Transport;
use crate::secret::Secret;

/// A camera's RTSP address with named placeholders.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Pattern {
    /// Name, unique among patterns.
    pub name: String,
    /// Address with placeholders in braces, like `rtsp://{host}:{port}/ch{channel}/{stream}`.
    pub template: String,
    /// The placeholders; `host` and `port` need no declaration.
    #[serde(default, alias = "blanks")]
    pub placeholders: Vec<Placeholder>,
    /// Purpose.
    #[serde(default)]
    pub note: String,
}

/// A stored pattern.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct StoredPattern {
    /// Name, unique among patterns.
    pub name: String,
    /// Stable id: it stays when the name changes.
    #[serde(default)]
    pub id: String,
    /// Number that each change raises. A change with `If-Match: "<revision>"` is refused (412) once it is another one.
    #[serde(default)]
    pub revision: i64,
    /// Address with placeholders in braces, like `rtsp://{host}:{port}/ch{channel}/{stream}`.
    pub template: String,
    /// The placeholders; `host` and `port` need no declaration.
    #[serde(default, alias = "blanks")]
    pub placeholders: Vec<Placeholder>,
    /// Purpose.
    #[serde(default)]
    pub note: String,
}

/// A named placeholder.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Placeholder {
    /// Name, as in `{name}`.
    pub name: String,
    /// Type of the value.
    #[serde(flatten)]
    pub kind: PlaceholderKind,
}

/// Type of a placeholder's value.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "lowercase")]
pub enum PlaceholderKind {
    /// Any text; percent codes are made where they are needed.
    Text,
    /// A number as people count it.
    Number {
        /// Minimum number of digits, with zeros in front.
        #[serde(default)]
        width: u8,
        /// Added before it is written.
        #[serde(default)]
        offset: i64,
        /// Smallest that is accepted.
        #[serde(alias = "least")]
        min: i64,
        /// Largest that is accepted.
        #[serde(alias = "most")]
        max: i64,
    },
    /// A word, and what is written for it.
    Choice {
        /// The choices. A placeholder named `stream` with the words `main` and `sub` makes both addresses.
        choices: Vec<Choice>,
    },
}

/// A word, and what is written for it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Choice {
    /// The word that people choose.
    pub word: String,
    /// The value.
    pub value: String,
}

/// Feeds to be made from a pattern, all or none.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PatternFeeds {
    /// Name of the feed; with several channels each name ends in its number.
    pub name: String,
    /// Values of the placeholders.
    pub set: BTreeMap<String, String>,
    /// A recorder's channels to be added in one go, like `1-4,7`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub channels: Option<String>,
    /// Transport.
    #[serde(default)]
    pub transport: Transport,
    /// User name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// Password.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<Secret>,
    /// SHA-256 fingerprint of the one certificate that is trusted.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pin: Option<String>,
    /// Site that the cameras are at, when that is not where the service runs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub site: Option<String>,
}
