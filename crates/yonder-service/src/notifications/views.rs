//! Contacts and alerts for the API, with open alerts and undelivered notifications.

use std::sync::atomic::Ordering;
use std::time::SystemTime;

use yonder_api::{Alert, AlertMessage, Contact, OpenAlert};
use yonder_store::{Alert as StoredAlert, Contact as StoredContact, Identity, RecordKind};

use super::Notifications;
use yonder_records::ServiceError;
use yonder_records::time;
use yonder_records::{DEFAULT_REPEAT_S, Transaction, read_channel};

use crate::channel;

impl Notifications {
    /// Returns all contacts by name.
    ///
    /// # Errors
    /// If the records cannot be read.
    pub fn contacts(&self) -> Result<Vec<Contact>, ServiceError> {
        let identities = self.records.store.identities(RecordKind::Contact)?;
        let identity = |stored: &StoredContact| identities.get(&stored.name).cloned().unwrap_or_default();
        let stored = self.records.store.contacts()?;
        stored.iter().map(|contact| self.contact_facts(contact, identity(contact))).collect()
    }

    /// Returns a contact.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or if the records cannot be read.
    pub fn contact(&self, name: &str) -> Result<Contact, ServiceError> {
        let stored = self.records.store.contact(name).map_err(|error| self.records.explain(error))?;
        let identity = self.records.store.identity(RecordKind::Contact, &stored.name)?.unwrap_or_default();
        self.contact_facts(&stored, identity)
    }

    /// Delivers a test message to a contact. Blocks.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], [`ServiceError::TestNotDelivered`] with the reason, or if the records cannot be read.
    pub fn test_contact(&self, name: &str, who: &str) -> Result<(), ServiceError> {
        let stored = self.records.store.contact(name).map_err(|error| self.records.explain(error))?;
        let now = time::text(SystemTime::now());
        let message = AlertMessage {
            kind: "test".to_owned(),
            alert: "test".to_owned(),
            subject: "this service".to_owned(),
            message: format!("This is a test, requested by {who}. No action is needed."),
            since: now.clone(),
            at: now,
            messages: Vec::new(),
        };
        let secret = self.records.open_contact_secret(&stored)?;
        channel::send(&self.records.full_channel(&stored)?, secret.as_ref(), &message)
            .map_err(|error| ServiceError::TestNotDelivered(error.to_string()))
    }

    /// Returns the number of undelivered notifications of a contact.
    fn undelivered_to(&self, name: &str) -> usize {
        let outbox = self.outbox.lock();
        outbox.pending().iter().filter(|pending| pending.contact == name).count()
    }

    fn contact_facts(&self, stored: &StoredContact, identity: Identity) -> Result<Contact, ServiceError> {
        Ok(Contact {
            name: stored.name.clone(),
            id: identity.uid,
            revision: identity.revision,
            channel: read_channel(stored)?,
            has_secret: stored.secret.is_some(),
            sign_of_life_h: stored.sign_of_life_h,
            undelivered: self.undelivered_to(&stored.name),
            secret_lost: stored
                .secret
                .iter()
                .chain(&stored.address)
                .any(|secret| self.records.store.is_lost(secret)),
        })
    }

    /// Returns all alerts by name.
    ///
    /// # Errors
    /// If the records cannot be read.
    pub fn alerts(&self) -> Result<Vec<Alert>, ServiceError> {
        let open = self.book.lock().open();
        let identities = self.records.store.identities(RecordKind::Alert)?;
        let facts = |stored: StoredAlert| {
            let Identity { uid, revision } = identities.get(&stored.name).cloned().unwrap_or_default();
            let open = open.iter().filter(|open| open.rule == stored.name);
            let open = open.map(|open| OpenAlert {
                subject: open.subject.clone(),
                message: open.message.clone(),
                since: time::text(time::from_millis(open.raised_ms)),
                acknowledged: open.is_acknowledged,
            });
            Alert {
                open: open.collect(),
                name: stored.name,
                id: uid,
                revision,
                when: stored.trigger,
                about: stored.about,
                to: stored.to,
                repeat_s: u32::try_from(stored.repeat_s).unwrap_or(DEFAULT_REPEAT_S),
                muted_until: stored
                    .muted_until_ms
                    .filter(|until_ms| *until_ms > time::millis(SystemTime::now()))
                    .map(|until_ms| time::text(time::from_millis(until_ms))),
            }
        };
        Ok(self.records.store.alerts()?.into_iter().map(facts).collect())
    }

    /// Returns an alert rule.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or if the records cannot be read.
    pub fn alert(&self, name: &str) -> Result<Alert, ServiceError> {
        let stored = self.records.store.alert(name).map_err(|error| self.records.explain(error))?;
        let mut all = self.alerts()?.into_iter();
        all.find(|alert| alert.name == stored.name).ok_or(ServiceError::Internal("an alert vanished"))
    }

    /// Acknowledges open alerts of a rule, so that they are not repeated: that of `subject`, or all. Returns the rule's name.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], [`ServiceError::Invalid`] if it is not open, or if the records cannot be
    pub fn acknowledge_alert(
        &self,
        transaction: &Transaction<'_>,
        name: &str,
        subject: Option<&str>,
    ) -> Result<String, ServiceError> {
        let alert = transaction.store.alert(name).map_err(|error| self.records.explain(error))?;
        let (open, pending) = {
            let _evaluation = self.evaluation.lock();
            let mut book = self.book.lock();
            if book.acknowledge(&alert.name, subject) == 0 {
                return Err(ServiceError::Invalid {
                    field: "subject",
                    detail: "the alert is not open for that subject".to_owned(),
                    hint: "`yonder alert show` lists the open alerts of a rule.",
                });
            }
            (book.open(), self.outbox.lock().pending().to_vec())
        };
        transaction.store.save_alert_state(Some(&open), Some(&pending))?;
        // A state that was read before, and waits for this transaction, is stored after it.
        self.has_changed_alerts.store(true, Ordering::Relaxed);
        self.store_later();
        Ok(alert.name)
    }
}
