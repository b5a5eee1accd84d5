//! Destinations and their stream keys.

use crate::enums::Protocol;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::secret::Secret;

/// Validity of a stream key.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum KeyKind {
    /// Any number of broadcasts.
    Reusable,
    /// One broadcast.
    OneBroadcast,
}

/// A destination to be added. Server address and key may be pasted together, into either field.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewDestination {
    /// Name, unique among destinations.
    pub name: String,
    /// Server address: `rtmp://`, `rtmps://` or `srt://`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub server: Option<Secret>,
    /// Second server address, for when the first cannot be used.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub backup_server: Option<Secret>,
    /// Seconds that the first server must be reachable again before a push returns to it; 120 where nothing is said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub return_after_s: Option<u32>,
    /// Name of the platform, whose rules apply.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub platform: Option<String>,
    /// Address of the watch page.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub watch_page: Option<String>,
    /// Stream key; SRT may do without.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<Secret>,
    /// Validity of the key; by default as in the platform's rules.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key_kind: Option<KeyKind>,
    /// When the key expires: a day like 2026-12-31, or a time in RFC 3339.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key_expires: Option<String>,
    /// Passphrase of an encrypted SRT connection.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub passphrase: Option<Secret>,
    /// Bits of the key made from the passphrase: 128, 192 or 256.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key_length: Option<u16>,
    /// Certificates of a private authority, in PEM, trusted beside the system's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub authority: Option<String>,
    /// Uplinks that its pushes are bound to, the one to be preferred first; none leaves it to the system.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub uplinks: Vec<String>,
}

/// A change of a destination; what is left out stays. Key and passphrase are set by `rekey`.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DestinationChange {
    /// New name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// New server address.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub server: Option<Secret>,
    /// New second server address; empty removes it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub backup_server: Option<Secret>,
    /// Seconds that the first server must be reachable again before a push returns to it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub return_after_s: Option<u32>,
    /// New platform; empty removes it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub platform: Option<String>,
    /// New watch page; empty removes it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub watch_page: Option<String>,
    /// Validity of the key.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key_kind: Option<KeyKind>,
    /// When the key expires; empty says that it does not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key_expires: Option<String>,
    /// Bits of the key made from the passphrase.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key_length: Option<u16>,
    /// Certificates of a private authority; empty removes them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub authority: Option<String>,
    /// Takes the passphrase away: what is sent goes in clear.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub no_passphrase: bool,
    /// New uplinks, the one to be preferred first; an empty list leaves it to the system.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub uplinks: Option<Vec<String>>,
}

/// New secrets; what is left out stays.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Rekey {
    /// Stream key.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<Secret>,
    /// Validity of the new key; by default that of the old one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key_kind: Option<KeyKind>,
    /// When the new key expires; never where nothing is said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key_expires: Option<String>,
    /// Passphrase.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub passphrase: Option<Secret>,
}

/// Facts about a stream key that are not secret.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct KeyFacts {
    /// Its last characters: four at most, none of a short key.
    pub ending: String,
    /// Its length in characters.
    pub length: usize,
    /// When it was set.
    #[schema(format = DateTime)]
    pub set_at: String,
    /// Days since then.
    pub age_days: u64,
    /// How often it was replaced.
    pub rolls: u64,
    /// Validity.
    pub kind: KeyKind,
    /// When it expires.
    #[schema(format = DateTime)]
    pub expires_at: Option<String>,
    /// When a broadcast was first live under it.
    #[schema(format = DateTime)]
    pub used_at: Option<String>,
}

/// Facts about a passphrase that are not secret.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PassphraseFacts {
    /// When it was set.
    #[schema(format = DateTime)]
    pub set_at: String,
    /// Bits of the key made from it.
    pub key_length: u16,
}

/// A destination.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Destination {
    /// Name.
    pub name: String,
    /// Stable id: it stays when the name changes.
    #[serde(default)]
    pub id: String,
    /// Number that each change raises. A change with `If-Match: "<revision>"` is refused (412) once it is another one.
    #[serde(default)]
    pub revision: i64,
    /// Server address.
    pub server: String,
    /// Second server address.
    pub backup_server: Option<String>,
    /// Seconds that the first server must be reachable again before a push returns to it.
    pub return_after_s: u32,
    /// `rtmp`, `rtmps` or `srt`.
    #[schema(value_type = Protocol)]
    pub protocol: String,
    /// The media is encrypted.
    pub encrypted: bool,
    /// Platform.
    pub platform: Option<String>,
    /// Address of the watch page.
    pub watch_page: Option<String>,
    /// Key.
    pub key: Option<KeyFacts>,
    /// The stored key or passphrase cannot be opened and has to be set again; until then pushes are blocked.
    #[serde(default)]
    pub secret_lost: bool,
    /// Passphrase.
    pub passphrase: Option<PassphraseFacts>,
    /// A private authority is trusted.
    pub has_authority: bool,
    /// Uplinks that its pushes are bound to, the one to be preferred first.
    #[serde(default)]
    pub uplinks: Vec<String>,
    /// Relays that push to it.
    pub relays: Vec<String>,
}

/// A destination as it was stored, and what was put right in what was pasted.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Stored {
    /// The destination.
    pub destination: Destination,
    /// Repairs and remarks, as sentences.
    pub repairs: Vec<String>,
}

/// The answer to `reveal`.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RevealedKey {
    /// The key in clear.
    pub key: Option<Secret>,
    /// The passphrase in clear.
    pub passphrase: Option<Secret>,
}
