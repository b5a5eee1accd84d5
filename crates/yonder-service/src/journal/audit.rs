//! Audit entries.

use std::sync::Arc;
use std::time::SystemTime;

use yonder_api::FieldChange;
use yonder_store::{AuditEntry, Deed, Fate, Kind, Relay, StoreError};

use super::Journal;
use crate::change::Change;
use crate::error::ServiceError;
use crate::records::Snapshot;
use crate::sync::{lock, run_blocking};
use crate::time;

/// Maximum number of audit entries that wait in memory for the disk. Those beyond that are in the log alone.
const MAX_UNWRITTEN: usize = 10_000;

impl Journal {
    /// Records something that changes no record, like a revealed key: in the audit trail and the logbook.
    pub fn audit(&self, change: &Change) {
        self.keep_audit_of_fields(change, &[]);
    }

    /// Adds the entry of [`Journal::audit`] from an async task.
    ///
    /// # Cancel safety
    /// When dropped, it is recorded all the same.
    pub async fn audit_in_background(self: &Arc<Self>, change: Change) {
        let journal = Arc::clone(self);
        let audited = run_blocking(move || {
            journal.audit(&change);
            Ok(())
        });
        if let Err(error) = audited.await {
            tracing::error!(%error, "an audit entry is lost");
        }
    }

    /// Records a change that was made within a site book, in the transaction of that book.
    pub(crate) fn audit_fields(&self, change: &Change, fields: &[FieldChange]) -> Result<(), ServiceError> {
        let mut entry = audit_entry(change, None, None);
        entry.uid = self.records.store.identity(change.kind, &change.name)?.map(|identity| identity.uid);
        entry.fields = serde_json::to_string(fields).unwrap_or_default();
        self.add_audit(&entry)?;
        change.log();
        Ok(())
    }

    /// Stores an audit entry outside a transaction of a change, with the fields that were changed.
    pub(crate) fn keep_audit_of_fields(&self, change: &Change, fields: &[FieldChange]) {
        let mut entry = audit_entry(change, None, None);
        let identity = self.records.store.identity(change.kind, &change.name).ok().flatten();
        entry.uid = identity.map(|identity| identity.uid);
        entry.fields = serde_json::to_string(fields).unwrap_or_default();
        self.keep_audit(entry);
    }

    /// Stores an audit entry; what the disk does not take is stored later.
    pub(crate) fn keep_audit(&self, entry: AuditEntry) {
        tracing::info!(who = entry.who, action = entry.action, kind = entry.kind, name = entry.name, "audit");
        if let Err(error) = self.records.store.together(|| self.add_audit(&entry).map(Fate::Keep)) {
            tracing::error!(%error, "an audit entry is kept in memory");
            self.keep_in_memory(entry);
        }
        self.events.publish_log_lines();
    }

    /// Keeps the audit entry of a desired state that the disk did not take.
    pub(crate) fn keep_desired_state(&self, change: &Change, before: Option<&Relay>, after: Option<&Relay>) {
        let text = |relay: Option<&Relay>| relay.map(|relay| relay.wanted.as_str().to_owned());
        let field = FieldChange { field: "wanted".to_owned(), before: text(before), after: text(after) };
        let fields = if field.before == field.after { Vec::new() } else { vec![field] };
        let mut entry = audit_entry(change, None, None);
        entry.uid = before.map(|relay| relay.uid.clone());
        entry.fields = serde_json::to_string(&fields).unwrap_or_default();
        self.keep_in_memory(entry);
    }

    fn keep_in_memory(&self, entry: AuditEntry) {
        let mut entries = lock(&self.unwritten);
        if entries.len() >= MAX_UNWRITTEN {
            let AuditEntry { who, action, kind, name, .. } = entries.remove(0);
            tracing::error!(
                who,
                action,
                kind,
                name,
                "too many audit entries wait for the disk, the oldest is lost"
            );
        }
        entries.push(entry);
    }

    pub(crate) fn add_audit(&self, entry: &AuditEntry) -> Result<(), StoreError> {
        self.records.store.add_audit(entry)?;
        self.records.store.record_deed(&Deed {
            at_ms: entry.at_ms,
            who: Some(entry.who.clone()),
            what: entry.action.clone(),
            kind: Kind::from_word(&entry.kind).unwrap_or(Kind::Service),
            name: entry.name.clone(),
            detail: entry.detail.clone(),
        })
    }

    /// Stores what the disk did not take before: desired states, and audit entries.
    ///
    /// # Errors
    /// When the records cannot be written; then it stays in memory.
    pub(crate) fn write_kept_changes(&self) -> Result<(), ServiceError> {
        if self.records.store.save_wanted()? > 0 {
            tracing::info!("desired states have been stored");
            self.records.refresh_relays()?;
        }
        let entries = std::mem::take(&mut *lock(&self.unwritten));
        if entries.is_empty() {
            return Ok(());
        }
        let written = self.records.store.together(|| {
            entries.iter().try_for_each(|entry| self.add_audit(entry))?;
            Ok::<_, StoreError>(Fate::Keep(()))
        });
        if written.is_err() {
            let mut later = lock(&self.unwritten);
            let since = std::mem::replace(&mut *later, entries);
            later.extend(since);
        } else {
            self.events.publish_log_lines();
        }
        Ok(written?)
    }
}

/// Returns the audit entry of a change from one state of a record to another.
pub(crate) fn audit_entry(
    change: &Change,
    before: Option<&Snapshot>,
    after: Option<&Snapshot>,
) -> AuditEntry {
    let Change { actor, action, kind, name, .. } = change;
    let identity = after.or(before).and_then(|snapshot| snapshot.identity.as_ref());
    AuditEntry {
        id: 0,
        at_ms: time::millis(SystemTime::now()),
        who: actor.name.clone(),
        origin: actor.origin.as_str().to_owned(),
        address: actor.address.clone(),
        action: (*action).to_owned(),
        kind: kind.to_string(),
        name: name.clone(),
        uid: identity.map(|identity| identity.uid.clone()),
        fields: serde_json::to_string(&Snapshot::differences(before, after)).unwrap_or_default(),
        detail: String::new(),
    }
}
