//! Signposts: stable public links to the picture of a relay.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// New signpost.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewSignpost {
    /// Alias in the address: lower-case letters, digits and hyphens.
    pub name: String,
    /// Relay.
    pub relay: String,
    /// Title of its pages; the name of the relay by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub title: Option<String>,
    /// The page plays the picture itself; true by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub player: Option<bool>,
    /// Destinations whose watch pages it leads to, the preferred one first; empty for all of the relay.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub to: Vec<String>,
    /// Its pages show nothing.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub paused: bool,
    /// Search engines are asked not to list it.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub unlisted: bool,
    /// Append a random part to the alias, which cannot be guessed.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub random: bool,
    /// It has a page with the availability of today.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub status_page: bool,
    /// Maximum viewers at a time; 500 by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max_viewers: Option<u32>,
    /// Maximum volume to viewers in a day, with its unit.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub daily: Option<String>,
}

/// Change of a signpost. Omitted fields are kept.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SignpostChange {
    /// New alias.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// New relay.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub relay: Option<String>,
    /// New title.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub title: Option<String>,
    /// The page plays the picture itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub player: Option<bool>,
    /// New destinations; empty for all of the relay.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<Vec<String>>,
    /// Its pages show nothing.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub paused: Option<bool>,
    /// Search engines are asked not to list it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unlisted: Option<bool>,
    /// It has a page with the availability of today.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub status_page: Option<bool>,
    /// New maximum of viewers at a time.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max_viewers: Option<u32>,
    /// New maximum volume to viewers in a day; empty removes it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub daily: Option<String>,
}

/// State of a signpost.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum SignpostState {
    /// The picture can be watched.
    Live,
    /// The relay should be on the air, but there is no picture.
    Interrupted,
    /// Nothing is on.
    OffAir,
    /// An operator has paused it.
    Paused,
}

impl SignpostState {
    /// Returns the name used in the API.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Live => "live",
            Self::Interrupted => "interrupted",
            Self::OffAir => "off-air",
            Self::Paused => "paused",
        }
    }
}

/// Addresses of a signpost on the public listener.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SignpostLinks {
    /// Page.
    pub page: String,
    /// Redirect to where the picture can be watched.
    pub go: String,
    /// Page for an iframe.
    pub embed: String,
    /// HLS playlist, with the own player.
    pub playlist: Option<String>,
    /// Page with the availability of today, if there is one.
    pub status: Option<String>,
    /// HTML for the website of the client.
    pub snippet: String,
}

/// Signpost.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Signpost {
    /// Alias in the address.
    pub name: String,
    /// Stable ID, independent of the name.
    #[serde(default)]
    pub id: String,
    /// Revision, incremented by each change. A change with `If-Match: "<revision>"` of another revision is refused (412).
    #[serde(default)]
    pub revision: i64,
    /// Relay.
    pub relay: String,
    /// Title of its pages.
    pub title: String,
    /// The page plays the picture itself.
    pub player: bool,
    /// Destinations whose watch pages it leads to; empty for all of the relay.
    pub to: Vec<String>,
    /// Search engines are asked not to list it.
    pub unlisted: bool,
    /// It has a page with the availability of today.
    pub status_page: bool,
    /// Maximum viewers at a time.
    pub max_viewers: u32,
    /// Maximum bytes to viewers in a day.
    pub daily_bytes: Option<u64>,
    /// State.
    pub state: SignpostState,
    /// Live watch page at a platform that it leads to; null if there is none.
    pub leads_to: Option<String>,
    /// Addresses; null without a public listener.
    pub links: Option<SignpostLinks>,
    /// Viewers of the own player now.
    pub viewers: u32,
    /// Viewers today.
    pub viewers_today: u64,
    /// Bytes to viewers today.
    pub bytes_today: u64,
}
