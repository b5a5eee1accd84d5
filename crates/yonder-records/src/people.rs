//! People with access, invitations, and the end of sessions.

use secrecy::SecretString;
use yonder_api::{
    Invitation as InvitationFacts, MadeInvitation, NewInvitation, Person as PersonFacts, PersonChange,
};
use yonder_core::{Role, check_name};
use yonder_store::{Identity, Invitation, Person, RecordKind, StoreError};

use super::{Records, Transaction};
use crate::change::Actor;
use crate::error::ServiceError;
use crate::secrets::random_token;
use crate::time;
use crate::views::{role_facts, role_of};

/// Validity of an invitation, in seconds: three days.
const INVITATION_S: i64 = 3 * 86_400;

/// Names with another meaning in the audit log and the logbook.
const RESERVED_NAMES: [&str; 3] = ["local", "schedule", "service"];

/// Returns the normalized name of a person.
///
/// # Errors
/// [`ServiceError::Invalid`], also for the names that the audit log uses for the service itself.
pub fn check_person_name(name: &str) -> Result<String, ServiceError> {
    let name = check_name(name).map_err(|error| ServiceError::name(&error))?;
    if RESERVED_NAMES.iter().any(|reserved| name.eq_ignore_ascii_case(reserved)) {
        return Err(ServiceError::Invalid {
            field: "name",
            detail: format!("{name:?} is the service itself in the audit trail"),
            hint: "Choose another name.",
        });
    }
    Ok(name)
}

impl Records {
    /// Returns all people, sorted by name.
    ///
    /// # Errors
    /// If the records cannot be read.
    pub fn people(&self) -> Result<Vec<PersonFacts>, ServiceError> {
        let sessions = self.store.sessions(None, time::now_s())?;
        let identities = self.store.identities(RecordKind::Person)?;
        let facts = |person: Person| {
            let Identity { uid, revision } = identities.get(&person.name).cloned().unwrap_or_default();
            // Sorted by last use, the latest first.
            let session = sessions.iter().find(|session| session.person == person.name);
            PersonFacts {
                id: uid,
                revision,
                role: role_facts(person.role),
                since: time::text(time::from_s(person.created_s)),
                seen: session.map(|session| time::text(time::from_s(session.seen_s))),
                name: person.name,
            }
        };
        Ok(self.store.people()?.into_iter().map(facts).collect())
    }

    fn person_facts(&self, name: &str) -> Result<PersonFacts, ServiceError> {
        let named = self.store.person(name).map_err(|error| self.explain(error))?;
        let found = self.people()?.into_iter().find(|person| person.name == named.name);
        found.ok_or(ServiceError::Internal("a person vanished"))
    }

    fn invitation_facts(&self, invitation: Invitation) -> InvitationFacts {
        InvitationFacts {
            resets: self.store.person(&invitation.name).is_ok(),
            role: role_facts(invitation.role),
            by: invitation.made_by,
            expires: time::text(time::from_s(invitation.expires_s)),
            name: invitation.name,
        }
    }

    /// Returns all open invitations.
    ///
    /// # Errors
    /// If the records cannot be read.
    pub fn invitations(&self) -> Result<Vec<InvitationFacts>, ServiceError> {
        let open = self.store.invitations(time::now_s())?;
        Ok(open.into_iter().map(|invitation| self.invitation_facts(invitation)).collect())
    }

    /// Returns the invitation of a code.
    ///
    /// # Errors
    /// [`ServiceError::InvitationRefused`], or if the records cannot be read.
    pub fn invitation_of_code(&self, code: &SecretString) -> Result<InvitationFacts, ServiceError> {
        let found = self.store.invitation(code, time::now_s())?;
        Ok(self.invitation_facts(found.ok_or(ServiceError::InvitationRefused)?))
    }
}

impl Transaction<'_> {
    /// Adds a person.
    ///
    /// # Errors
    /// A name that is taken, or if the records cannot be written.
    pub fn add_person(&self, name: &str, password_hash: &str, role: Role) -> Result<(), ServiceError> {
        self.store.add_person(name, password_hash, role, time::now_s())?;
        tracing::info!(person = name, role = role.as_str(), "person added");
        Ok(())
    }

    /// Changes the role of a person, which limits their tokens and invitations as well.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or if the records cannot be read or written.
    pub fn edit_person(&self, name: &str, change: &PersonChange) -> Result<PersonFacts, ServiceError> {
        self.store.set_role(name, role_of(change.role)).map_err(|error| self.explain(error))?;
        self.person_facts(name)
    }

    /// Removes a person with their sessions, tokens and invitations.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or if the records cannot be read or written.
    pub fn remove_person(&self, name: &str) -> Result<(), ServiceError> {
        self.store.remove_person(name).map_err(|error| self.explain(error))
    }

    /// Creates an invitation, or a link to a new password for an existing person.
    ///
    /// # Errors
    /// [`ServiceError::Invalid`] naming the field, or if the records cannot be written.
    pub fn invite(&self, new: &NewInvitation, by: &Actor) -> Result<MadeInvitation, ServiceError> {
        let name = check_person_name(&new.name)?;
        let known = match self.store.person(&name) {
            Ok(person) => Some(person),
            Err(StoreError::NotFound { .. }) => None,
            Err(error) => return Err(error.into()),
        };
        let role = match (&known, new.role) {
            (Some(person), None) => person.role,
            (Some(_), Some(_)) => {
                return Err(ServiceError::Invalid {
                    field: "role",
                    detail: format!(
                        "{name:?} has an account already, and keeps the role with a new password"
                    ),
                    hint: "Change the role separately, or omit it from the invitation.",
                });
            }
            (None, role) => role.map_or(Role::Viewer, role_of),
        };
        let invitation = Invitation {
            name: known.map_or(name, |person| person.name),
            role,
            made_by: by.name.clone(),
            maker: by.person.clone(),
            expires_s: time::now_s() + INVITATION_S,
        };
        let code = SecretString::from(random_token());
        self.store.add_invitation(&code, &invitation)?;
        Ok(MadeInvitation { invitation: self.invitation_facts(invitation), code: code.into() })
    }

    /// Revokes an invitation.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or if the records cannot be read or written.
    pub fn revoke_invitation(&self, name: &str) -> Result<(), ServiceError> {
        self.store.remove_invitation(name).map_err(|error| self.explain(error))
    }

    /// Ends a session by its ID, optionally only if it belongs to `whose`.
    ///
    /// # Errors
    /// If the records cannot be read or written.
    pub fn end_session(&self, id: &str, whose: Option<&str>) -> Result<(), ServiceError> {
        Ok(self.store.end_session(id, whose)?)
    }
}
