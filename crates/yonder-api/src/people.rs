//! People, sessions, invitations and API tokens.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::secret::Secret;

/// Role of a person; each includes the permissions of those before it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Role {
    /// Reads everything except secrets.
    Viewer,
    /// Starts, stops, holds, resumes and rekeys existing relays, and measures them.
    Operator,
    /// Changes everything and manages people.
    #[serde(alias = "keeper")]
    Admin,
}

/// Person with access.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Person {
    /// Name.
    pub name: String,
    /// Stable ID, independent of the name.
    #[serde(default)]
    pub id: String,
    /// Revision, incremented by each change. A change with `If-Match: "<revision>"` of another revision is refused (412).
    #[serde(default)]
    pub revision: i64,
    /// Role.
    pub role: Role,
    /// When the person was added.
    #[schema(format = DateTime)]
    pub since: String,
    /// Last activity; null without a session.
    #[schema(format = DateTime)]
    pub seen: Option<String>,
}

/// Change of a person.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PersonChange {
    /// New role, from their next request on.
    pub role: Role,
}

/// New invitation. For an existing person, the link sets a new password and keeps the role.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewInvitation {
    /// Name.
    pub name: String,
    /// Role of a new person; viewer by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub role: Option<Role>,
}

/// Open invitation.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Invitation {
    /// Name of the invited person.
    pub name: String,
    /// Role of the invited person.
    pub role: Role,
    /// The person exists and gets a new password.
    pub resets: bool,
    /// Name of the inviting person.
    pub by: String,
    /// Expiry.
    #[schema(format = DateTime)]
    pub expires: String,
}

/// New invitation, with the code of its link, which is returned only once.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MadeInvitation {
    /// Invitation.
    pub invitation: Invitation,
    /// Code of the one-time link: `/join#CODE` at the console's address.
    pub code: Secret,
}

/// Code of an invitation.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct InvitationCode {
    /// Code of the link.
    pub code: Secret,
}

/// Acceptance of an invitation.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Join {
    /// Code of the link.
    pub code: Secret,
    /// Password, at least ten characters.
    pub password: Secret,
}

/// New password of the caller.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PasswordChange {
    /// Current password.
    pub current: Secret,
    /// New password, at least ten characters.
    pub new: Secret,
}

/// Session of a signed-in person.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Session {
    /// ID.
    pub id: String,
    /// Name of the person.
    pub person: String,
    /// User agent of the browser.
    pub agent: String,
    /// Network address from which it was begun; empty if unknown.
    #[serde(default)]
    pub address: String,
    /// Begin.
    #[schema(format = DateTime)]
    pub since: String,
    /// Last use, to the minute.
    #[schema(format = DateTime)]
    pub seen: String,
    /// Expiry.
    #[schema(format = DateTime)]
    pub expires: String,
    /// It is the session of the request.
    pub this: bool,
}

/// API token to be created.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewToken {
    /// Name, unique among tokens.
    pub name: String,
    /// Role; viewer by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub role: Option<Role>,
    /// Lifetime in days, 1 to 3650; 90 by default. 0 for a token that does not expire.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub days: Option<u32>,
}

/// API token.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Token {
    /// Name.
    pub name: String,
    /// Stable ID, independent of the name.
    #[serde(default)]
    pub id: String,
    /// Revision, incremented by each change. A change with `If-Match: "<revision>"` of another revision is refused (412).
    #[serde(default)]
    pub revision: i64,
    /// Role.
    pub role: Role,
    /// Name of the person who created it.
    pub by: String,
    /// Creation time.
    #[schema(format = DateTime)]
    pub since: String,
    /// Expiry; null for never.
    #[schema(format = DateTime)]
    pub expires: Option<String>,
    /// It has expired.
    pub void: bool,
    /// Last use, to the minute.
    #[schema(format = DateTime)]
    pub used: Option<String>,
}

/// New token, with its secret, which is returned only once.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MadeToken {
    /// Token.
    pub token: Token,
    /// Secret, to be sent as a bearer token.
    pub secret: Secret,
}
