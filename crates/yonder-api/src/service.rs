//! Service, sign-in and set-up.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::people::Role;
use crate::relays::Relay;
use crate::secret::Secret;

/// `service.json` in the data directory: address of the running service.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ServiceFacts {
    /// Base URL.
    pub url: String,
    /// Process ID.
    pub pid: u32,
    /// Version of the program.
    pub version: String,
    /// Addresses for encoders on this machine; omitted if the service does not listen for them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ingest: Option<IngestListeners>,
    /// Address of the public pages on this machine; omitted if they are not served.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub public: Option<String>,
}

/// Addresses that encoders publish to.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct IngestListeners {
    /// RTMP.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rtmp: Option<String>,
    /// RTMPS.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rtmps: Option<String>,
    /// SRT.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub srt: Option<String>,
}

/// State of the service.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Status {
    /// Version of the service.
    pub version: String,
    /// Time of the service.
    pub now: String,
    /// All relays by name.
    pub relays: Vec<Relay>,
}

/// Whether the first person must be set up.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SetUpNeeded {
    /// True until there is a person.
    pub needed: bool,
}

/// First person, with the code of the set-up link.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SetUp {
    /// Code of the one-time link.
    pub code: Secret,
    /// Name.
    pub name: String,
    /// Password, at least ten characters.
    pub password: Secret,
}

/// Name and password of a sign-in.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Credentials {
    /// Name.
    pub name: String,
    /// Password.
    pub password: Secret,
}

/// Open session.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SignedIn {
    /// Name of the person.
    pub person: String,
    /// Role.
    pub role: Role,
    /// CSRF token for the `X-Yonder-Token` header of changes.
    pub token: String,
}

/// Result of a rotation of the master key.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct MasterKeyRotation {
    /// Number of secrets sealed with the new key.
    pub sealed: usize,
}
