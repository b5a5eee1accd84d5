//! People, their sessions, invitations, and tokens for programs.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::secret::Secret;

/// Role of a person; each includes the permissions of those before it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Role {
    /// Sees everything but secrets, and changes nothing.
    Viewer,
    /// Starts, stops, holds, resumes and rekeys what is set up, and measures it.
    Operator,
    /// Changes everything, and looks after people.
    #[serde(alias = "keeper")]
    Admin,
}

/// Person who can sign in.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Person {
    /// Name.
    pub name: String,
    /// Stable id: it stays when the name changes.
    #[serde(default)]
    pub id: String,
    /// Number that each change raises. A change with `If-Match: "<revision>"` is refused (412) once it is another one.
    #[serde(default)]
    pub revision: i64,
    /// Role.
    pub role: Role,
    /// When they came.
    #[schema(format = DateTime)]
    pub since: String,
    /// When they were last here; null where they have no session.
    #[schema(format = DateTime)]
    pub seen: Option<String>,
}

/// A change of a person.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PersonChange {
    /// New role, from their next request on.
    pub role: Role,
}

/// New invitation. For a person who can sign in already, the link sets a new password and keeps the role.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewInvitation {
    /// Name.
    pub name: String,
    /// Role; viewer by default, for a new person.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub role: Option<Role>,
}

/// An invitation that nobody has taken up yet.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Invitation {
    /// Name of the invited person.
    pub name: String,
    /// Role of the invited person.
    pub role: Role,
    /// They may sign in already, and get a new password.
    pub resets: bool,
    /// Name of the inviting person.
    pub by: String,
    /// When it is void.
    #[schema(format = DateTime)]
    pub expires: String,
}

/// A fresh invitation, with the code of its link. It is shown once.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MadeInvitation {
    /// The invitation.
    pub invitation: Invitation,
    /// Code of the one-time link: `/join#CODE` at the console's address.
    pub code: Secret,
}

/// The code of an invitation.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct InvitationCode {
    /// Code of the link.
    pub code: Secret,
}

/// An invitation taken up.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Join {
    /// Code of the link.
    pub code: Secret,
    /// Password, ten characters at least.
    pub password: Secret,
}

/// New password of the caller.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PasswordChange {
    /// The password that is valid now.
    pub current: Secret,
    /// The one to be valid from now on, ten characters at least.
    pub new: Secret,
}

/// A session of somebody who is signed in.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Session {
    /// Tells it apart from others.
    pub id: String,
    /// Name of the person.
    pub person: String,
    /// User agent of the browser.
    pub agent: String,
    /// Network address from which it was begun; empty where it is not known.
    #[serde(default)]
    pub address: String,
    /// When it began.
    #[schema(format = DateTime)]
    pub since: String,
    /// When it was last used, to the minute.
    #[schema(format = DateTime)]
    pub seen: String,
    /// When it ends by itself.
    #[schema(format = DateTime)]
    pub expires: String,
    /// It is the one that asks.
    pub this: bool,
}

/// A token to be made for a program.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewToken {
    /// Name, unique among tokens.
    pub name: String,
    /// Role of its bearer; viewer by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub role: Option<Role>,
    /// Days until it expires, 1 to 3650; 90 by default. 0 for a token that does not expire.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub days: Option<u32>,
}

/// A token for programs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Token {
    /// Name.
    pub name: String,
    /// Stable id: it stays when the name changes.
    #[serde(default)]
    pub id: String,
    /// Number that each change raises. A change with `If-Match: "<revision>"` is refused (412) once it is another one.
    #[serde(default)]
    pub revision: i64,
    /// Role of the bearer.
    pub role: Role,
    /// Name of the person who made it.
    pub by: String,
    /// When.
    #[schema(format = DateTime)]
    pub since: String,
    /// When it is void; null for never.
    #[schema(format = DateTime)]
    pub expires: Option<String>,
    /// It is void.
    pub void: bool,
    /// When it was last used, to the minute.
    #[schema(format = DateTime)]
    pub used: Option<String>,
}

/// A fresh token, with its secret. It is shown once.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MadeToken {
    /// The token.
    pub token: Token,
    /// The token, to be sent as a bearer token.
    pub secret: Secret,
}
