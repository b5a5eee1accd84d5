//! Feeds.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use yonder_core::FeedPhase;

use crate::secret::Secret;

/// How a camera's packets travel.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Transport {
    /// The service chooses.
    #[default]
    Auto,
    /// Within the RTSP connection.
    Tcp,
    /// As datagrams.
    Udp,
}

impl Transport {
    /// The word that is kept and shown.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Auto => "auto",
            Self::Tcp => "tcp",
            Self::Udp => "udp",
        }
    }

    /// The transport of a kept word; unknown words are `auto`.
    #[must_use]
    pub fn from_word(word: &str) -> Self {
        match word {
            "tcp" => Self::Tcp,
            "udp" => Self::Udp,
            _ => Self::Auto,
        }
    }
}

/// A feed to be added.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewFeed {
    /// Name, unique among feeds.
    pub name: String,
    /// RTSP address of the main stream. A user name and password in it are taken out and sealed.
    pub url: Secret,
    /// RTSP address of a lighter stream.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sub_url: Option<Secret>,
    /// Transport.
    #[serde(default)]
    pub transport: Transport,
    /// User name, where the address holds none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// Password, where the address holds none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<Secret>,
    /// SHA-256 fingerprint of the one certificate that is trusted, for rtsps:// with a device's own certificate.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pin: Option<String>,
    /// Site that the camera is at, when that is not where the service runs: its uplink carries the pull.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub site: Option<String>,
}

/// A change of a feed; what is left out stays.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct FeedChange {
    /// New name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// New address of the main stream.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub url: Option<Secret>,
    /// New address of the sub stream; empty removes it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sub_url: Option<Secret>,
    /// New transport.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub transport: Option<Transport>,
    /// New user name; empty removes user name and password.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// New password.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<Secret>,
    /// New certificate fingerprint; empty goes back to normal trust.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pin: Option<String>,
    /// New site; empty for where the service runs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub site: Option<String>,
}

/// A feed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Feed {
    /// Name.
    pub name: String,
    /// Stable id: it stays when the name changes.
    #[serde(default)]
    pub id: String,
    /// Number that each change raises. A change with `If-Match: "<revision>"` is refused (412) once it is another one.
    #[serde(default)]
    pub revision: i64,
    /// Address of the main stream, without user name and password.
    pub url: String,
    /// Address of the sub stream, likewise.
    pub sub_url: Option<String>,
    /// Transport.
    pub transport: Transport,
    /// User name.
    pub user: Option<String>,
    /// A password is kept.
    pub has_password: bool,
    /// The stored password cannot be opened and has to be set again; until then the feed is blocked.
    #[serde(default)]
    pub secret_lost: bool,
    /// SHA-256 fingerprint of the one certificate that is trusted.
    pub pin: Option<String>,
    /// Site that the camera is at.
    #[serde(default)]
    pub site: Option<String>,
    /// Warnings, in sentences.
    pub warnings: Vec<String>,
    /// State.
    pub state: FeedPhase,
}
