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
