//! Reconciliation of the engine with the records.

mod schedules;

use std::collections::HashSet;
use std::sync::Arc;

use parking_lot::Mutex;
use yonder_engine::Engine;
use yonder_store::{DesiredState, Relay as StoredRelay, StoreError};

use crate::ingest::Ingest;
use crate::journal::Journal;
use yonder_records::ServiceError;
use yonder_records::{EngineAction, Records, is_on_air};

/// Keeps the engine in step with the records.
#[derive(Debug)]
pub struct Reconciler {
    records: Arc<Records>,
    engine: Engine,
    journal: Arc<Journal>,
    ingest: Arc<Ingest>,
    /// Relays whose windows are being opened or closed.
    switching: Mutex<HashSet<String>>,
}

impl Reconciler {
    pub(crate) fn new(
        records: Arc<Records>,
        engine: Engine,
        journal: Arc<Journal>,
        ingest: Arc<Ingest>,
    ) -> Self {
        Self { records, engine, journal, ingest, switching: Mutex::default() }
    }

    /// Starts all relays with a desired state of running. Failures are logged and do not affect the others.
    pub(crate) fn resume(&self) {
        for relay in self.records.stored_relays().iter().filter(|relay| relay.wanted.is_running()) {
            if let Err(error) = self.bring_up(relay) {
                tracing::error!(relay = relay.name, %error, "a relay that should run cannot be started");
            }
        }
    }

    /// Applies the stored settings to a running feed.
    fn update_feed(&self, name: &str) -> Result<(), ServiceError> {
        self.engine.update_feed(self.records.feed_spec(&self.records.store.feed(name)?)?);
        self.ingest.apply(name)
    }

    /// Ends the broadcasts of a relay at once, before anything that may block on the disk.
    pub fn withdraw_relay(&self, name: &str) {
        if let Some(known) =
            self.records.stored_relays().iter().find(|relay| relay.name.eq_ignore_ascii_case(name))
        {
            self.engine.withdraw(&known.name);
        }
    }

    /// Applies the stored settings of a relay that should run, or ends it outside of its windows.
    fn bring_up(&self, relay: &StoredRelay) -> Result<(), ServiceError> {
        if !is_on_air(relay) {
            self.engine.withdraw(&relay.name);
            return Ok(());
        }
        self.engine.apply(self.records.relay_spec(relay)?);
        Ok(())
    }

    /// Switches the output of a running relay at once, before anything that may block on the disk.
    pub fn switch_output(&self, name: &str, wanted: DesiredState) {
        let relays = self.records.stored_relays();
        let known = relays.iter().find(|relay| relay.name.eq_ignore_ascii_case(name));
        let Some(relay) = known.filter(|relay| relay.wanted.is_running()) else { return };
        self.engine.hold(&relay.name, wanted == DesiredState::Hold);
    }

    /// Applies the actions of a committed change. Must be called under the write lock.
    pub(crate) fn apply(&self, actions: &[EngineAction]) {
        for action in actions {
            if let Err(error) = self.apply_one(action) {
                tracing::error!(?action, %error, "the engine could not apply a stored change");
            }
        }
    }

    fn apply_one(&self, action: &EngineAction) -> Result<(), ServiceError> {
        match action {
            EngineAction::UpdateFeed(name) => self.update_feed(name),
            EngineAction::EndFeed(name) => {
                self.ingest.end(name);
                Ok(())
            }
            EngineAction::Withdraw(name) => {
                self.engine.withdraw(name);
                Ok(())
            }
            EngineAction::ForgetPicture(name) => {
                self.records.forget_picture(name);
                Ok(())
            }
            EngineAction::Apply(name) => {
                match self.records.store.relay(name) {
                    Ok(relay) => self.follow_desired_state(&relay),
                    // Removed in the same transaction.
                    Err(StoreError::NotFound { .. }) => Ok(()),
                    Err(error) => Err(error.into()),
                }
            }
        }
    }

    fn follow_desired_state(&self, relay: &StoredRelay) -> Result<(), ServiceError> {
        if relay.wanted.is_running() {
            return self.bring_up(relay);
        }
        self.engine.withdraw(&relay.name);
        Ok(())
    }
}
