//! Contacts and alerts as they are shown, with what is open and undelivered.

use std::time::SystemTime;

use yonder_api::{Alert, AlertMessage, Contact, OpenAlert};
use yonder_store::{Alert as StoredAlert, Contact as StoredContact, Identity, Kind};

use super::Notifications;
use crate::error::ServiceError;
use crate::records::{DEFAULT_REPEAT_S, Transaction, read_channel};
use crate::sync::lock;
use crate::{channel, time};

impl Notifications {
    /// All contacts by name.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub fn contacts(&self) -> Result<Vec<Contact>, ServiceError> {
        let identities = self.records.store.identities(Kind::Contact)?;
        let identity = |kept: &StoredContact| identities.get(&kept.name).cloned().unwrap_or_default();
        let stored = self.records.store.contacts()?;
        stored.iter().map(|contact| self.contact_facts(contact, identity(contact))).collect()
    }

    /// One contact.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or when the records cannot be read.
    pub fn contact(&self, name: &str) -> Result<Contact, ServiceError> {
        let kept = self.records.store.contact(name).map_err(|error| self.records.explain(error))?;
        let identity = self.records.store.identity(Kind::Contact, &kept.name)?.unwrap_or_default();
        self.contact_facts(&kept, identity)
    }

    /// Sends a test message to a contact. Blocks until it is delivered.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], [`ServiceError::NotTold`] with the reason, or when the records cannot be read.
    pub fn test_contact(&self, name: &str, who: &str) -> Result<(), ServiceError> {
        let kept = self.records.store.contact(name).map_err(|error| self.records.explain(error))?;
        let now = time::text(SystemTime::now());
        let message = AlertMessage {
            kind: "test".to_owned(),
            alert: "test".to_owned(),
            subject: "this service".to_owned(),
            message: format!("This is a test, asked for by {who}. Nothing is wrong."),
            since: now.clone(),
            at: now,
            messages: Vec::new(),
        };
        let secret = self.records.open_contact_secret(&kept)?;
        channel::send(&self.records.full_channel(&kept)?, secret.as_ref(), &message)
            .map_err(|error| ServiceError::NotTold(error.to_string()))
    }

    /// Number of notifications that wait for a contact.
    fn undelivered_to(&self, name: &str) -> usize {
        let outbox = lock(&self.outbox);
        outbox.pending().iter().filter(|pending| pending.contact == name).count()
    }

    fn contact_facts(&self, kept: &StoredContact, identity: Identity) -> Result<Contact, ServiceError> {
        Ok(Contact {
            name: kept.name.clone(),
            id: identity.uid,
            revision: identity.revision,
            channel: read_channel(kept)?,
            has_secret: kept.secret.is_some(),
            sign_of_life_h: kept.sign_of_life_h,
            undelivered: self.undelivered_to(&kept.name),
            secret_lost: kept
                .secret
                .iter()
                .chain(&kept.address)
                .any(|secret| self.records.store.is_lost(secret)),
        })
    }

    /// All alerts by name.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub fn alerts(&self) -> Result<Vec<Alert>, ServiceError> {
        let open = lock(&self.book).open();
        let identities = self.records.store.identities(Kind::Alert)?;
        let facts = |kept: StoredAlert| {
            let Identity { uid, revision } = identities.get(&kept.name).cloned().unwrap_or_default();
            let open = open.iter().filter(|open| open.rule == kept.name);
            let open = open.map(|open| OpenAlert {
                subject: open.subject.clone(),
                message: open.message.clone(),
                since: time::text(time::from_millis(open.raised_ms)),
                acknowledged: open.is_acknowledged,
            });
            Alert {
                open: open.collect(),
                name: kept.name,
                id: uid,
                revision,
                when: kept.trigger,
                about: kept.about,
                to: kept.to,
                repeat_s: u32::try_from(kept.repeat_s).unwrap_or(DEFAULT_REPEAT_S),
                muted_until: kept
                    .muted_until_ms
                    .filter(|until_ms| *until_ms > time::millis(SystemTime::now()))
                    .map(|until_ms| time::text(time::from_millis(until_ms))),
            }
        };
        Ok(self.records.store.alerts()?.into_iter().map(facts).collect())
    }

    /// One alert.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or when the records cannot be read.
    pub fn alert(&self, name: &str) -> Result<Alert, ServiceError> {
        let kept = self.records.store.alert(name).map_err(|error| self.records.explain(error))?;
        let mut all = self.alerts()?.into_iter();
        all.find(|alert| alert.name == kept.name).ok_or(ServiceError::Internal("an alert has gone"))
    }

    /// Acknowledges an open alert, which is then not repeated, and returns its name. Without a subject, all open subjects of it.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], [`ServiceError::Invalid`] if it is not open, or when the records cannot be
    pub fn acknowledge_alert(
        &self,
        transaction: &Transaction<'_>,
        name: &str,
        subject: Option<&str>,
    ) -> Result<String, ServiceError> {
        let alert = transaction.store.alert(name).map_err(|error| self.records.explain(error))?;
        let open = {
            let mut book = lock(&self.book);
            if book.acknowledge(&alert.name, subject) == 0 {
                return Err(ServiceError::Invalid {
                    field: "subject",
                    detail: "the alert is not open for that subject".to_owned(),
                    hint: "`yonder alert show` lists the open alerts of a rule.",
                });
            }
            book.open()
        };
        transaction.store.keep_open_alerts(&open)?;
        Ok(alert.name)
    }
}
