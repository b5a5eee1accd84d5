//! Feeds.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use yonder_core::FeedPhase;

use crate::secret::Secret;

/// Transport of RTP packets.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Transport {
    /// Chosen by the service.
    #[default]
    Auto,
    /// Interleaved with RTSP.
    Tcp,
    /// UDP.
    Udp,
}

impl Transport {
    /// Returns the name that is stored and shown.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Auto => "auto",
            Self::Tcp => "tcp",
            Self::Udp => "udp",
        }
    }

    /// Returns the transport with this name; `auto` for unknown names.
    #[must_use]
    pub fn from_name(word: &str) -> Self {
        match word {
            "tcp" => Self::Tcp,
            "udp" => Self::Udp,
            _ => Self::Auto,
        }
    }
}

/// Feed to be added.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewFeed {
    /// Name, unique among feeds.
    pub name: String,
    /// RTSP address of the main stream. A user name and password in it are removed and sealed.
    pub url: Secret,
    /// RTSP address of the sub stream.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sub_url: Option<Secret>,
    /// Transport.
    #[serde(default)]
    pub transport: Transport,
    /// User name, unless the address contains one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// Password, unless the address contains one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<Secret>,
    /// SHA-256 fingerprint of the only trusted certificate, for `rtsps://` with a self-signed certificate.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pin: Option<String>,
    /// Site of the camera, if it is not that of the service: its uplink carries the pull.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub site: Option<String>,
    /// ONVIF device service of the camera: a host, a host with a port, or a URL; by default port 80 of the feed's host.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub device: Option<String>,
}

/// Change of a feed; omitted fields are kept.
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
    /// New certificate fingerprint; empty restores the trust in the system's authorities.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pin: Option<String>,
    /// New site; empty for that of the service.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub site: Option<String>,
    /// New ONVIF device service; empty for the default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub device: Option<String>,
}

/// Feed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Feed {
    /// Name.
    pub name: String,
    /// Stable ID, independent of the name.
    #[serde(default)]
    pub id: String,
    /// Revision, incremented by each change. A change with `If-Match: "<revision>"` of another revision is refused (412).
    #[serde(default)]
    pub revision: i64,
    /// Address of the main stream, without user name and password.
    pub url: String,
    /// Address of the sub stream, without user name and password.
    pub sub_url: Option<String>,
    /// Transport.
    pub transport: Transport,
    /// User name.
    pub user: Option<String>,
    /// A password is stored.
    pub has_password: bool,
    /// The stored password cannot be decrypted and must be set again; until then the feed is blocked.
    #[serde(default)]
    pub secret_lost: bool,
    /// SHA-256 fingerprint of the only trusted certificate.
    pub pin: Option<String>,
    /// Site of the camera.
    #[serde(default)]
    pub site: Option<String>,
    /// ONVIF device service of the camera, if it is not at port 80 of the feed's host.
    #[serde(default)]
    pub device: Option<String>,
    /// Warnings, as sentences.
    pub warnings: Vec<String>,
    /// State.
    pub state: FeedPhase,
}
