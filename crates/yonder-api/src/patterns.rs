//! Address patterns.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::feeds::Transport;
use crate::secret::Secret;

/// RTSP address of a camera with named placeholders.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Pattern {
    /// Name, unique among patterns.
    pub name: String,
    /// Address with placeholders in braces, such as `rtsp://{host}:{port}/ch{channel}/{stream}`.
    pub template: String,
    /// Placeholders; `host` and `port` are built in.
    #[serde(default, alias = "blanks")]
    pub placeholders: Vec<Placeholder>,
    /// Purpose.
    #[serde(default)]
    pub note: String,
}

/// Stored pattern.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct StoredPattern {
    /// Name, unique among patterns.
    pub name: String,
    /// Stable ID, independent of the name.
    #[serde(default)]
    pub id: String,
    /// Revision, incremented by each change. A change with `If-Match: "<revision>"` of another revision is refused (412).
    #[serde(default)]
    pub revision: i64,
    /// Address with placeholders in braces, such as `rtsp://{host}:{port}/ch{channel}/{stream}`.
    pub template: String,
    /// Placeholders; `host` and `port` are built in.
    #[serde(default, alias = "blanks")]
    pub placeholders: Vec<Placeholder>,
    /// Purpose.
    #[serde(default)]
    pub note: String,
}

/// Named placeholder.
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
    /// Any text; percent-encoded where necessary.
    Text,
    /// Integer.
    Number {
        /// Minimum number of digits, padded with zeros.
        #[serde(default)]
        width: u8,
        /// Added to the value before it is inserted.
        #[serde(default)]
        offset: i64,
        /// Minimum value.
        #[serde(alias = "least")]
        min: i64,
        /// Maximum value.
        #[serde(alias = "most")]
        max: i64,
    },
    /// Choice of a named value.
    Choice {
        /// Choices. A placeholder `stream` with the choices `main` and `sub` yields both addresses.
        choices: Vec<Choice>,
    },
}

/// Choice: name and inserted text.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Choice {
    /// Name of the choice.
    pub word: String,
    /// Inserted text.
    pub value: String,
}

/// Feeds to be created from a pattern, all or none.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PatternFeeds {
    /// Name of the feed; with several channels each name ends with its number.
    pub name: String,
    /// Values of the placeholders.
    pub set: BTreeMap<String, String>,
    /// Channels of a recorder, such as `1-4,7`.
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
    /// SHA-256 fingerprint of the only trusted certificate.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pin: Option<String>,
    /// Site of the cameras, if it is not that of the service.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub site: Option<String>,
}
