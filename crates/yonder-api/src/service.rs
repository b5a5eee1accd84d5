//! The service itself, and signing in to it.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::people::Role;
use crate::relays::Relay;
use crate::secret::Secret;

/// `service.json` in the home folder: where the running service is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ServiceFacts {
    /// Base address.
    pub url: String,
    /// Process number.
    pub pid: u32,
    /// Version of the program.
    pub version: String,
}

/// Everything at one moment.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Status {
    /// Version of the service.
    pub version: String,
    /// The service's clock.
    pub now: String,
    /// All relays by name.
    pub relays: Vec<Relay>,
}

/// Whether the first person is still to be made.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SetUpNeeded {
    /// True until there is somebody who may sign in.
    pub needed: bool,
}

/// The first person, with the code of the set-up link.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SetUp {
    /// Code of the one-time link.
    pub code: Secret,
    /// Name.
    pub name: String,
    /// Password, ten characters at least.
    pub password: Secret,
}

/// Name and password.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Credentials {
    /// Name.
    pub name: String,
    /// Password.
    pub password: Secret,
}

/// A session.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SignedIn {
    /// Name of the person.
    pub person: String,
    /// Role.
    pub role: Role,
    /// Token that changes must carry in the `X-Yonder-Token` header.
    pub token: String,
}

/// Result of a rotation of the master key.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct MasterKeyRotation {
    /// Secrets that are sealed under the new key.
    pub sealed: usize,
}
