//! Changes of records: author, origin, and expected revision.

use yonder_core::Role;
use yonder_store::RecordKind;

use crate::error::ServiceError;

/// Origin of a change.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Origin {
    /// The web console.
    Console,
    /// The command line.
    CommandLine,
    /// Another API client.
    Api,
    /// A site book.
    SiteBook,
    /// An on-air window.
    Schedule,
}

impl Origin {
    /// Returns the name used in the API and the records.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Console => "console",
            Self::CommandLine => "command-line",
            Self::Api => "api",
            Self::SiteBook => "site-book",
            Self::Schedule => "schedule",
        }
    }
}

/// Author and origin of a change.
#[derive(Debug, Clone)]
pub struct Actor {
    /// Name of the person or token.
    pub name: String,
    /// Responsible person: the author, or the creator of the token. `None` for the local token and the service.
    pub person: Option<String>,
    /// Role, which limits the changes.
    pub role: Role,
    /// Origin.
    pub origin: Origin,
    /// Network address.
    pub address: Option<String>,
}

impl Actor {
    /// Returns the service itself, for on-air windows.
    pub fn schedule() -> Self {
        Self {
            name: "schedule".to_owned(),
            person: None,
            role: Role::Admin,
            origin: Origin::Schedule,
            address: None,
        }
    }
}

/// Requested change.
#[derive(Debug, Clone)]
pub struct Change {
    /// Author.
    pub actor: Actor,
    /// Required role.
    pub needs: Role,
    /// Action, such as `changed`.
    pub action: &'static str,
    /// Kind of the record.
    pub kind: RecordKind,
    /// Name of the record.
    pub name: String,
    /// Expected revision of the record; `None` for any.
    pub expected_revision: Option<i64>,
}

impl Change {
    /// Checks the role of the author.
    ///
    /// # Errors
    /// [`ServiceError::RoleNeeded`].
    pub fn check_role(&self) -> Result<(), ServiceError> {
        let has = self.actor.role;
        if has >= self.needs { Ok(()) } else { Err(ServiceError::RoleNeeded { has, needs: self.needs }) }
    }

    /// Checks the current revision of the record; `None` if it does not exist, which the change itself reports.
    ///
    /// # Errors
    /// [`ServiceError::Stale`] if it is not the expected one.
    pub fn check_revision(&self, present: Option<i64>) -> Result<(), ServiceError> {
        match self.expected_revision.zip(present) {
            Some((expected, present)) if expected != present => {
                Err(ServiceError::Stale { kind: self.kind, name: self.name.clone() })
            }
            _ => Ok(()),
        }
    }

    /// Writes the change to the log.
    pub fn log(&self) {
        let Self { actor, action, kind, name, .. } = self;
        tracing::info!(who = actor.name, origin = actor.origin.as_str(), action, %kind, name, "change");
    }
}
