//! People with access, and invitations.

use secrecy::SecretString;
use yonder_api::{Join, SignedIn};
use yonder_core::Role;
use yonder_records::{Actor, Change, Origin, ServiceError, check_person_name, time};
use yonder_store::{Person, RecordKind, StoreError};

use super::{Auth, SignInClient};

/// Name under which attempts with an invitation code are counted.
const JOIN: &str = "join";

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
