//! People with access, and invitations.

use secrecy::SecretString;
use yonder_api::{
    Invitation as InvitationFacts, Join, MadeInvitation, NewInvitation, Person as PersonFacts, PersonChange,
    SignedIn,
};
use yonder_core::{Role, check_name};
use yonder_store::{Identity, Invitation, Person, RecordKind, StoreError};

use super::{Auth, SignInClient};
use crate::change::{Actor, Change, Origin};
use crate::error::ServiceError;
use crate::records::{Records, Transaction};
use crate::secrets::random_token;
use crate::time;
use crate::views::{role_facts, role_of};

/// Name under which attempts with an invitation code are counted.
const JOIN: &str = "join";
/// Validity of an invitation, in seconds: three days.
const INVITATION_S: i64 = 3 * 86_400;

/// Names with another meaning in the audit log and the logbook.
const RESERVED_NAMES: [&str; 3] = ["local", "schedule", "service"];

/// Returns the normalized name of a person.
///
/// # Errors
/// [`ServiceError::Invalid`], also for the names that the audit log uses for the service itself.
pub(super) fn check_person_name(name: &str) -> Result<String, ServiceError> {
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

/// Returns a change of a person's own record, made in the console.
pub(super) fn own_change(person: &Person, action: &'static str, address: Option<String>) -> Change {
    let actor = Actor {
        name: person.name.clone(),
        person: Some(person.name.clone()),
        role: person.role,
        origin: Origin::Console,
        address,
    };
    let name = person.name.clone();
    Change { actor, needs: Role::Viewer, action, kind: RecordKind::Person, name, expected_revision: None }
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

impl Auth {
    /// Adds a person.
    ///
    /// # Errors
    /// [`ServiceError::Invalid`] for name or password, a name that is taken, or if the records cannot be written.
    pub fn add_person(&self, name: &str, password: &SecretString, role: Role) -> Result<(), ServiceError> {
        let name = check_person_name(name)?;
        let hash = self.hash(password)?;
        self.records.write(|transaction| transaction.add_person(&name, &hash, role))
    }

    /// Sets the password of a person; an unknown person is added as an admin.
    ///
    /// # Errors
    /// As [`Auth::add_person`], except for an existing name.
    pub fn set_person(&self, name: &str, password: &SecretString) -> Result<(), ServiceError> {
        if self.records.store.person(name).is_ok() {
            let hash = self.hash(password)?;
            self.records.write(|transaction| Ok(transaction.store.set_password(name, &hash)?))?;
        } else {
            self.add_person(name, password, Role::Admin)?;
        }
        // The set-up link is only valid without people.
        *self.set_up_code.lock() = None;
        self.clear_caches();
        Ok(())
    }

    /// Accepts an invitation: adds the person or sets the new password, and creates a session.
    ///
    /// # Errors
    /// [`ServiceError::InvitationRefused`], [`ServiceError::Invalid`] for the password, or if the records cannot be written.
    pub fn join(&self, join: Join, client: &SignInClient) -> Result<(SecretString, SignedIn), ServiceError> {
        let (code, password) = (join.code.into_inner(), join.password.into_inner());
        let source = client.source();
        self.begin_attempt(source, JOIN)?;
        // Checked before the password is hashed.
        self.records.invitation_of_code(&code)?;
        self.attempts.lock().succeed(source, JOIN);
        let hash = self.hash(&password)?;
        let (person, is_new) = self.records.write(|transaction| {
            let (store, now_s) = (&transaction.store, time::now_s());
            let invitation = store.invitation(&code, now_s)?.ok_or(ServiceError::InvitationRefused)?;
            store.remove_invitation(&invitation.name)?;
            let is_new = match store.set_password(&invitation.name, &hash) {
                Err(StoreError::NotFound { .. }) => {
                    store.add_person(&invitation.name, &hash, invitation.role, now_s)?;
                    true
                }
                other => other.map(|()| false)?,
            };
            Ok((store.person(&invitation.name)?, is_new))
        })?;
        let action = if is_new { "joined" } else { "password-changed" };
        self.journal.audit(&own_change(&person, action, client.address.map(|address| address.to_string())));
        self.clear_caches();
        self.begin_session(&person, client)
    }
}

impl Transaction<'_> {
    /// Adds a person.
    ///
    /// # Errors
    /// A name that is taken, or if the records cannot be written.
    fn add_person(&self, name: &str, password_hash: &str, role: Role) -> Result<(), ServiceError> {
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
}
