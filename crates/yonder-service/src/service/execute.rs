//! Path of every change: role, revision, transaction with its audit entry, then actions of the engine.
//!
//! The API, the command line, the site book and the schedules use it. A change and its audit entry are stored together
//! or not at all; the engine follows after the commit. Stop and hold act on the engine first, and are not lost on a
//! full disk.

use std::sync::Arc;

use yonder_store::{Outcome, RecordKind, Relay as StoredRelay};

use super::Service;
use crate::journal::audit_entry;
use crate::rename::Rename;
use yonder_records::Change;
use yonder_records::ServiceError;
use yonder_records::{EngineAction, Records, Snapshot, Transaction};

/// Consequences of a change for data stored by name.
pub(super) struct RecordChange {
    /// Old and new name.
    pub(super) renamed: Option<(String, String)>,
    pub(super) is_removed: bool,
}

impl Service {
    /// Executes a change of a record.
    ///
    /// # Errors
    /// [`ServiceError::RoleNeeded`], [`ServiceError::Stale`] for another revision, the error of `act`, or if the
    /// records cannot be written; nothing is changed then.
    pub fn execute<T>(
        &self,
        change: &Change,
        act: impl FnOnce(&Transaction<'_>) -> Result<T, ServiceError>,
    ) -> Result<T, ServiceError> {
        change.check_role()?;
        // Normalized as when stored.
        let asked = change.name.trim();
        let within = |transaction: &Transaction<'_>| {
            let before = transaction.snapshot(change.kind, asked)?;
            let identity = before.as_ref().and_then(|before| before.identity.as_ref());
            change.check_revision(identity.map(|identity| identity.revision))?;
            let value = act(transaction)?;
            let name = match identity {
                Some(identity) => transaction.store.name_of(change.kind, &identity.uid)?,
                None => None,
            };
            let after = transaction.snapshot(change.kind, name.as_deref().unwrap_or(asked))?;
            self.journal.add_audit(&audit_entry(change, before.as_ref(), after.as_ref()))?;
            let names = before.as_ref().and_then(Snapshot::name).zip(after.as_ref().and_then(Snapshot::name));
            let outcome = RecordChange {
                renamed: names.filter(|(old, new)| old != new),
                is_removed: before.is_some() && after.is_none(),
            };
            Ok(Outcome::Commit((value, outcome)))
        };
        let apply = |(_, outcome): &(T, RecordChange), actions| self.apply(change.kind, outcome, actions);
        let (value, _) = self.records.transaction(within, apply)?;
        if matches!(
            change.kind,
            RecordKind::Person | RecordKind::Token | RecordKind::Session | RecordKind::Invitation
        ) {
            self.auth.clear_caches();
        }
        change.log();
        self.events.publish_log_lines();
        Ok(value)
    }

    /// Executes changes without an author, such as those of a demonstration: in one transaction, without audit entries.
    ///
    /// # Errors
    /// The error of `act`, or if the records cannot be written; nothing is changed then.
    pub fn provision<T>(
        &self,
        act: impl FnOnce(&Transaction<'_>) -> Result<T, ServiceError>,
    ) -> Result<T, ServiceError> {
        let done = self.records.transaction(
            |transaction| act(transaction).map(Outcome::Commit),
            |_, actions| {
                self.reconciler.apply(&actions);
                self.previews.drop_stills();
            },
        );
        self.events.notify_changes();
        done
    }

    /// Executes a protective change such as a stop, after the caller has acted on the engine. If the disk fails, the
    /// desired state is kept in memory by `remember`, and stored later with its audit entry.
    ///
    /// # Errors
    /// As [`Service::execute`], except for a full or locked disk.
    pub fn execute_protective<T>(
        &self,
        change: &Change,
        act: impl FnOnce(&Transaction<'_>) -> Result<T, ServiceError>,
        remember: impl FnOnce(&Records) -> Result<T, ServiceError>,
    ) -> Result<T, ServiceError> {
        match self.execute(change, act) {
            Err(ServiceError::Store(error)) if error.is_of_disk() => {
                tracing::error!(%error, name = change.name, action = change.action, "change kept in memory");
                let before = self.stored_relay(&change.name);
                let value = remember(&self.records)?;
                let after = self.stored_relay(&change.name);
                self.journal.keep_desired_state(change, before.as_deref(), after.as_deref());
                change.log();
                Ok(value)
            }
            done => done,
        }
    }

    /// Checks role and revision before an action that cannot be undone. Records that cannot be read do not prevent it.
    ///
    /// # Errors
    /// [`ServiceError::RoleNeeded`], [`ServiceError::Stale`].
    pub fn check_before(&self, change: &Change) -> Result<(), ServiceError> {
        change.check_role()?;
        if change.expected_revision.is_none() {
            return Ok(());
        }
        let present = self.records.store.identity(change.kind, change.name.trim()).ok().flatten();
        change.check_revision(present.map(|present| present.revision))
    }

    /// Updates all parts after a commit. Must be called under the write lock.
    pub(super) fn apply(&self, kind: RecordKind, outcome: &RecordChange, actions: Vec<EngineAction>) {
        self.reconciler.apply(&actions);
        if actions.iter().any(|action| matches!(action, EngineAction::UpdateFeed(_))) {
            self.previews.drop_stills();
        }
        if let Some((old, new)) = &outcome.renamed {
            let rename = Rename { kind, old, new };
            self.history.rename(rename);
            self.notifications.rename(rename);
        }
        // Ends the runs of a removed record before another one gets its name.
        if outcome.is_removed
            && matches!(kind, RecordKind::Feed | RecordKind::Relay | RecordKind::Destination)
            && let Err(error) = self.history.observe_locked()
        {
            tracing::warn!(%error, "states could not be recorded");
        }
    }

    fn stored_relay(&self, name: &str) -> Option<Arc<StoredRelay>> {
        let relays = self.records.stored_relays();
        relays.iter().find(|relay| relay.name.eq_ignore_ascii_case(name.trim())).cloned()
    }
}
