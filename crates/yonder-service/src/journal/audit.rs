//! Audit entries.

use std::sync::Arc;
use std::time::SystemTime;

use yonder_api::FieldChange;
use yonder_store::{AuditEntry, LoggedAction, Outcome, RecordKind, Relay, StoreError};

use super::Journal;
use yonder_records::Change;
use yonder_records::ServiceError;
use yonder_records::Snapshot;
use yonder_records::run_blocking;
use yonder_records::time;

/// Maximum audit entries in memory while the disk fails. Further ones are only logged.
const MAX_UNWRITTEN: usize = 10_000;

impl Journal {
    /// Records an action that changes no record, such as revealing a key, in the audit log and the logbook.
    pub fn audit(&self, change: &Change) {
        self.keep_audit_of_fields(change, &[]);
    }

    /// As [`Journal::audit`], from an async task.
    ///
    /// # Cancel safety
    /// When dropped, the entry is still recorded.
    pub async fn audit_in_background(self: &Arc<Self>, change: Change) {
        self.audit_fields_in_background(change, Vec::new()).await;
    }

    /// As [`Journal::audit_in_background`], with changed values that are not fields of a record.
    ///
    /// # Cancel safety
    /// When dropped, the entry is still recorded.
    pub async fn audit_fields_in_background(self: &Arc<Self>, change: Change, fields: Vec<FieldChange>) {
        let journal = Arc::clone(self);
        let audited = run_blocking(move || {
            journal.keep_audit_of_fields(&change, &fields);
            Ok(())
        });
        if let Err(error) = audited.await {
            tracing::error!(%error, "an audit entry is lost");
        }
    }

    /// Records a change of a site book, in the transaction of the book.
    pub(crate) fn audit_fields(&self, change: &Change, fields: &[FieldChange]) -> Result<(), ServiceError> {
        let mut entry = audit_entry(change, None, None);
        entry.uid = self.records.store.identity(change.kind, &change.name)?.map(|identity| identity.uid);
        entry.fields = serde_json::to_string(fields).unwrap_or_default();
        self.add_audit(&entry)?;
        change.log();
        Ok(())
    }

    /// Records an audit entry with its changed fields outside of a change's transaction.
    pub(crate) fn keep_audit_of_fields(&self, change: &Change, fields: &[FieldChange]) {
        let mut entry = audit_entry(change, None, None);
        let identity = self.records.store.identity(change.kind, &change.name).ok().flatten();
        entry.uid = identity.map(|identity| identity.uid);
        entry.fields = serde_json::to_string(fields).unwrap_or_default();
        self.keep_audit(entry);
    }

    /// Writes an audit entry, or retries later if that fails.
    pub(crate) fn keep_audit(&self, entry: AuditEntry) {
        tracing::info!(who = entry.who, action = entry.action, kind = entry.kind, name = entry.name, "audit");
        if let Err(error) = self.records.store.transaction(|| self.add_audit(&entry).map(Outcome::Commit)) {
            tracing::error!(%error, "an audit entry is kept in memory");
            self.keep_in_memory(entry);
        }
        self.events.publish_log_lines();
    }

    /// Keeps the audit entry of a desired state that could not be written.
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
        let mut entries = self.unwritten.lock();
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
        self.records.store.log_action(&LoggedAction {
            at_ms: entry.at_ms,
            who: Some(entry.who.clone()),
            what: entry.action.clone(),
            kind: RecordKind::from_name(&entry.kind).unwrap_or(RecordKind::Service),
            name: entry.name.clone(),
            detail: entry.detail.clone(),
        })
    }

    /// Writes desired states and audit entries that could not be written before.
    ///
    /// # Errors
    /// If the records cannot be written; they stay in memory.
    pub(crate) fn write_unsaved_changes(&self) -> Result<(), ServiceError> {
        if self.records.store.save_desired_states()? > 0 {
            tracing::info!("desired states have been stored");
            self.records.refresh_relays()?;
        }
        let entries = std::mem::take(&mut *self.unwritten.lock());
        if entries.is_empty() {
            return Ok(());
        }
        let written = self.records.store.transaction(|| {
            entries.iter().try_for_each(|entry| self.add_audit(entry))?;
            Ok::<_, StoreError>(Outcome::Commit(()))
        });
        if written.is_err() {
            let mut later = self.unwritten.lock();
            let since = std::mem::replace(&mut *later, entries);
            later.extend(since);
        } else {
            self.events.publish_log_lines();
        }
        Ok(written?)
    }
}

/// Returns the audit entry of a change between two states of a record.
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
