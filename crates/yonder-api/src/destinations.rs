//! Destinations with their stream keys.

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

/// Destination to be added. Server address and key may be pasted together, into either field.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewDestination {
    /// Name, unique among destinations.
    pub name: String,
    /// Server address: `rtmp://`, `rtmps://` or `srt://`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub server: Option<Secret>,
    /// Backup server address.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub backup_server: Option<Secret>,
    /// Failback delay: seconds for which the main server must be reachable before a push returns to it; 120 by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub return_after_s: Option<u32>,
    /// Name of the platform whose rules apply.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub platform: Option<String>,
    /// Address of the watch page.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub watch_page: Option<String>,
    /// Stream key; optional for SRT.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<Secret>,
    /// Validity of the key; by default as in the platform's rules.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key_kind: Option<KeyKind>,
    /// Expiry of the key: a day like 2026-12-31, or a time in RFC 3339.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key_expires: Option<String>,
    /// Passphrase of an encrypted SRT connection.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub passphrase: Option<Secret>,
    /// Key length of the encryption, in bits: 128, 192 or 256.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key_length: Option<u16>,
    /// Certificates of a private authority, in PEM, trusted in addition to the system's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub authority: Option<String>,
    /// Uplinks that its pushes are bound to, the preferred one first; empty leaves the choice to the system.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub uplinks: Vec<String>,
}

/// Change of a destination; omitted fields are kept. Key and passphrase are set by `rekey`.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DestinationChange {
    /// New name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// New server address.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub server: Option<Secret>,
    /// New backup server address; empty removes it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub backup_server: Option<Secret>,
    /// Failback delay: seconds for which the main server must be reachable before a push returns to it.
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
    /// Expiry of the key; empty for none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key_expires: Option<String>,
    /// Key length of the encryption, in bits.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key_length: Option<u16>,
    /// Certificates of a private authority; empty removes them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub authority: Option<String>,
    /// Removes the passphrase: the connection is not encrypted.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub no_passphrase: bool,
    /// New uplinks, the preferred one first; an empty list leaves the choice to the system.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub uplinks: Option<Vec<String>>,
}

/// New secrets; omitted ones are kept.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Rekey {
    /// Stream key.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<Secret>,
    /// Validity of the new key; by default that of the old one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key_kind: Option<KeyKind>,
    /// Expiry of the new key; never by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key_expires: Option<String>,
    /// Passphrase.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub passphrase: Option<Secret>,
}

/// Facts about a stream key that are not secret.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct KeyFacts {
    /// Last characters: at most four, none of a short key.
    pub ending: String,
    /// Length in characters.
    pub length: usize,
    /// When it was set.
    #[schema(format = DateTime)]
    pub set_at: String,
    /// Age in days.
    pub age_days: u64,
    /// Number of replacements.
    pub rolls: u64,
    /// Validity.
    pub kind: KeyKind,
    /// Expiry.
    #[schema(format = DateTime)]
    pub expires_at: Option<String>,
    /// When a broadcast with the key was first live.
    #[schema(format = DateTime)]
    pub used_at: Option<String>,
}

/// Facts about a passphrase that are not secret.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PassphraseFacts {
    /// When it was set.
    #[schema(format = DateTime)]
    pub set_at: String,
    /// Key length of the encryption, in bits.
    pub key_length: u16,
}

/// Destination.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Destination {
    /// Name.
    pub name: String,
    /// Stable ID, independent of the name.
    #[serde(default)]
    pub id: String,
    /// Revision, incremented by each change. A change with `If-Match: "<revision>"` of another revision is refused (412).
    #[serde(default)]
    pub revision: i64,
    /// Server address.
    pub server: String,
    /// Backup server address.
    pub backup_server: Option<String>,
    /// Failback delay: seconds for which the main server must be reachable before a push returns to it.
    pub return_after_s: u32,
    /// `rtmp`, `rtmps` or `srt`.
    #[schema(value_type = Protocol)]
    pub protocol: String,
    /// The connection is encrypted.
    pub encrypted: bool,
    /// Platform.
    pub platform: Option<String>,
    /// Address of the watch page.
    pub watch_page: Option<String>,
    /// Stream key.
    pub key: Option<KeyFacts>,
    /// The stored key or passphrase cannot be decrypted and must be set again; until then pushes are blocked.
    #[serde(default)]
    pub secret_lost: bool,
    /// Passphrase.
    pub passphrase: Option<PassphraseFacts>,
    /// A private certificate authority is trusted.
    pub has_authority: bool,
    /// Uplinks that its pushes are bound to, the preferred one first.
    #[serde(default)]
    pub uplinks: Vec<String>,
    /// Relays that push to it.
    pub relays: Vec<String>,
}

/// Stored destination, with the corrections of the input.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Stored {
    /// Destination.
    pub destination: Destination,
    /// Corrections and remarks, as sentences.
    pub repairs: Vec<String>,
}

/// Response to `reveal`.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RevealedKey {
    /// Stream key in clear.
    pub key: Option<Secret>,
    /// Passphrase in clear.
    pub passphrase: Option<Secret>,
}
