//! Destinations and their stream keys.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::secret::Secret;

/// A destination to be added.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewDestination {
    /// Name, unique among destinations.
    pub name: String,
    /// Server address, without the key.
    pub server: String,
    /// Name of the platform.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub platform: Option<String>,
    /// Stream key.
    pub key: Secret,
}

/// A change of a destination; what is left out stays. The key is changed by `rekey`.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DestinationChange {
    /// New name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// New server address.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub server: Option<String>,
    /// New platform; empty removes it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub platform: Option<String>,
}

/// A new key.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Rekey {
    /// Stream key.
    pub key: Secret,
}

/// What may be shown of a key.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct KeyFacts {
    /// Its last characters: four at most, none of a short key.
    pub ending: String,
    /// Its length in characters.
    pub length: usize,
    /// When it was set.
    pub set_at: String,
}

/// A destination.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Destination {
    /// Name.
    pub name: String,
    /// Server address.
    pub server: String,
    /// Platform.
    pub platform: Option<String>,
    /// Key.
    pub key: KeyFacts,
    /// Relays that push to it.
    pub relays: Vec<String>,
}

/// A destination as it was stored, and what was put right in what was pasted.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Stored {
    /// The destination.
    pub destination: Destination,
    /// Repairs, as sentences.
    pub repairs: Vec<String>,
}

/// The answer to `reveal`.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RevealedKey {
    /// The key in clear.
    pub key: Secret,
}
