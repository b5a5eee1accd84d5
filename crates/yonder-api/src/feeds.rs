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
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewFeed {
    /// Name, unique among feeds.
    pub name: String,
    /// RTSP address of the main stream. A user name and password in it are removed and sealed. Omitted for a feed that encoders
    /// publish to.
    #[serde(default, skip_serializing_if = "Secret::is_empty")]
    pub url: Secret,
    /// Encoders publish to the feed; it has no address then.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub ingest: bool,
    /// Stream key of encoders; one is generated if it is omitted.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<Secret>,
    /// Passphrase of SRT encoders, 10 to 79 characters; without one they must not encrypt.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub passphrase: Option<Secret>,
    /// Length of the SRT encryption key, 128, 192 or 256 bits, in the address for encoders. Any length is accepted.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key_length: Option<u16>,
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

/// New stream key of a feed that encoders publish to.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct IngestRekey {
    /// Stream key; one is generated if it is omitted.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<Secret>,
    /// Seconds for which the present key stays valid, up to 30 days; 0 by default.
    #[serde(default)]
    pub grace_s: u32,
}

/// Access of encoders in clear: what to type into an encoder. Response to `reveal`.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RevealedIngest {
    /// RTMP, if the service listens for it.
    pub rtmp: Option<RtmpAccess>,
    /// RTMPS, if the service listens for it.
    pub rtmps: Option<RtmpAccess>,
    /// SRT, if the service listens for it.
    pub srt: Option<SrtAccess>,
    /// Stream key.
    pub key: Secret,
    /// SHA-256 fingerprint of the service's self-signed certificate for RTMPS; null with a certificate of an authority.
    pub certificate: Option<String>,
}

/// Access by RTMP or RTMPS.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RtmpAccess {
    /// Server address.
    pub server: String,
    /// Stream key.
    pub key: Secret,
    /// Server and key joined, for encoders with a single field.
    pub joined: Secret,
}

/// Access by SRT.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SrtAccess {
    /// Address with the stream key as stream ID.
    pub address: Secret,
    /// Passphrase.
    pub passphrase: Option<Secret>,
    /// Length of the encryption key in bits, with a passphrase.
    pub key_length: Option<u16>,
}

/// Access of encoders to a feed, without its secrets.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct IngestFacts {
    /// When the stream key was set.
    #[schema(format = DateTime)]
    pub key_set_at: String,
    /// Until when the former stream key is accepted as well.
    #[schema(format = DateTime)]
    pub former_key_until: Option<String>,
    /// SRT encoders need a passphrase.
    pub has_passphrase: bool,
    /// Length of the SRT encryption key, in bits.
    pub key_length: u16,
}

/// Encoder that publishes to a feed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PublisherFacts {
    /// `rtmp`, `rtmps` or `srt`.
    pub protocol: String,
    /// Network address and port.
    pub address: String,
    /// Name and version of its software, as it says.
    pub software: Option<String>,
    /// The connection is encrypted.
    pub encrypted: bool,
    /// When it began to publish.
    #[schema(format = DateTime)]
    pub since: String,
    /// Round-trip time in milliseconds, with SRT.
    pub rtt_ms: Option<u64>,
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
    /// New passphrase of SRT encoders; empty removes it. `rekey` replaces their stream key.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub passphrase: Option<Secret>,
    /// New length of the SRT encryption key, in bits.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key_length: Option<u16>,
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
    /// Address of the main stream, without user name and password; empty for a feed that encoders publish to.
    pub url: String,
    /// Access of encoders; null for a feed that is pulled.
    #[serde(default)]
    pub ingest: Option<IngestFacts>,
    /// Encoder that publishes now.
    #[serde(default)]
    pub publisher: Option<PublisherFacts>,
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
