//! Records of the service: read by all parts, changed only in a [`Transaction`].
//!
//! Reading methods are on [`Records`], changing methods on [`Transaction`], so that they cannot be called without the
//! write lock and a database transaction. Actions of the engine are collected as [`EngineAction`]s and applied after
//! the commit.

mod alerts;
mod blocking;
mod book;
mod change;
mod contacts;
mod destination_input;
mod destinations;
mod error;
mod feeds;
mod holding;
mod ingest;
mod jobs;
mod mailboxes;
mod maintenance;
mod patterns;
mod people;
mod platforms;
mod relays;
pub mod secrets;
mod signposts;
mod site;
mod snapshot;
pub mod time;
mod tokens;
mod transaction;
mod uplinks;
pub mod views;
mod windows;

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

use parking_lot::MutexGuard;
use parking_lot::{Mutex, RwLock};
use yonder_core::nearest_name;
use yonder_engine::{Engine, Picture};
use yonder_store::{
    Alert as StoredAlert, Contact as StoredContact, RecordKind, Relay as StoredRelay, Store, StoreError,
};

pub use alerts::DEFAULT_REPEAT_S;
pub use blocking::run_blocking;
pub use change::{Actor, Change, Origin};
pub use contacts::read_channel;
pub use destinations::{is_encrypted, stored_server};
pub use error::{DeviceProblem, ServiceError};
pub use feeds::{measured, read_device, unstored_specs};
pub use ingest::{IngestKeys, IngestSecrets};
pub use jobs::{JobContext, JobEntry, Jobs, NewJob, Outcome};
pub use mailboxes::parse_mail_server;
pub use maintenance::LOW_BYTES;
pub use people::check_person_name;
pub use signposts::{SignpostRecord, WatchTarget};
pub use snapshot::Snapshot;
pub use transaction::EngineAction;
pub use transaction::Transaction;
pub use uplinks::{read_rate, unsigned, uplink, uplink_facts};
pub use windows::{facts as window_facts, is_on_air, schedule, schedule_of};

/// Maximum wait of an observation for a change in progress.
const CHANGE_TIMEOUT: Duration = Duration::from_secs(1);

/// Alert rules and contacts.
#[derive(Debug, Default)]
pub struct Alerting {
    /// Alert rules.
    pub alerts: Vec<StoredAlert>,
    /// Contacts.
    pub contacts: Vec<StoredContact>,
}

/// Store, with copies of some records in memory.
#[derive(Debug)]
pub struct Records {
    /// Store, for reads without a view.
    pub store: Store,
    /// Engine, for the states that are shown with the records.
    engine: Engine,
    /// Locked from the first read of a change until its actions are applied, so that records and engine change together.
    write_lock: Mutex<()>,
    /// Stored relays, for views that must not block on the disk.
    relays: RwLock<Arc<[Arc<StoredRelay>]>>,
    /// Stored alert rules and contacts, for the evaluation of alerts, which must not block on the disk.
    alerting: RwLock<Arc<Alerting>>,
    /// Stored signposts, for public pages, which must not block on the disk.
    signposts: RwLock<Arc<[SignpostRecord]>>,
    /// Locked while the copies are read from the store, so that older ones never replace newer ones.
    refresh_lock: Mutex<()>,
    /// Decoded holding pictures of relays.
    pictures: Mutex<HashMap<String, Arc<Picture>>>,
}

impl Records {
    /// Creates the records of an opened store.
    ///
    /// # Errors
    /// If the relays cannot be read.
    pub fn new(store: Store, engine: Engine) -> Result<Self, ServiceError> {
        let relays = store.relays()?.into_iter().map(Arc::new).collect();
        let alerting = Alerting { alerts: store.alerts()?, contacts: store.contacts()? };
        let records = Self {
            store,
            engine,
            write_lock: Mutex::default(),
            relays: RwLock::new(relays),
            alerting: RwLock::new(Arc::new(alerting)),
            refresh_lock: Mutex::default(),
            pictures: Mutex::default(),
            signposts: RwLock::new(Arc::default()),
        };
        *records.signposts.write() = records.read_signposts()?.into();
        Ok(records)
    }

    /// Acquires the write lock.
    pub(crate) fn lock_changes(&self) -> MutexGuard<'_, ()> {
        self.write_lock.lock()
    }

    /// Acquires the write lock within a second, so that an observation does not overlap a rename.
    /// `None` if a change takes longer, as on a blocked disk.
    pub fn try_lock_changes(&self) -> Option<MutexGuard<'_, ()>> {
        self.write_lock.try_lock_for(CHANGE_TIMEOUT)
    }

    /// Returns the stored relays, from memory.
    pub fn stored_relays(&self) -> Arc<[Arc<StoredRelay>]> {
        Arc::clone(&self.relays.read())
    }

    /// Returns the stored alert rules and contacts, from memory.
    pub fn alerting(&self) -> Arc<Alerting> {
        Arc::clone(&self.alerting.read())
    }

    /// Returns the stored signposts, from memory.
    pub fn signposts(&self) -> Arc<[SignpostRecord]> {
        Arc::clone(&self.signposts.read())
    }

    /// Refreshes all copies after a change.
    pub(crate) fn refresh_all(&self) -> Result<(), ServiceError> {
        let _refreshing = self.refresh_lock.lock();
        self.read_relays()?;
        let alerting = Alerting { alerts: self.store.alerts()?, contacts: self.store.contacts()? };
        *self.alerting.write() = Arc::new(alerting);
        *self.signposts.write() = self.read_signposts()?.into();
        Ok(())
    }

    /// Refreshes all relays after a change.
    ///
    /// # Errors
    /// If the records cannot be read.
    pub fn refresh_relays(&self) -> Result<(), ServiceError> {
        let _refreshing = self.refresh_lock.lock();
        self.read_relays()
    }

    fn read_relays(&self) -> Result<(), ServiceError> {
        let relays = self.store.relays()?.into_iter().map(Arc::new).collect();
        *self.relays.write() = relays;
        Ok(())
    }

    /// Refreshes the relay `name` after a change of it.
    pub(crate) fn refresh_relay(&self, name: &str) -> Result<(), ServiceError> {
        let _refreshing = self.refresh_lock.lock();
        let known = self.stored_relays();
        let Some(at) = known.iter().position(|relay| relay.name.eq_ignore_ascii_case(name)) else {
            return self.read_relays();
        };
        let relay = match self.store.relay(name) {
            Ok(relay) if relay.name == known[at].name => relay,
            // Removed or renamed.
            Ok(_) | Err(StoreError::NotFound { .. }) => return self.read_relays(),
            Err(error) => return Err(error.into()),
        };
        let mut changed = known.to_vec();
        changed[at] = Arc::new(relay);
        *self.relays.write() = changed.into();
        Ok(())
    }

    /// Adds the nearest known name to a "not found" error.
    pub fn explain(&self, error: StoreError) -> ServiceError {
        let StoreError::NotFound { kind, name } = error else { return error.into() };
        let known = match kind {
            // Includes built-in platforms.
            RecordKind::Platform => {
                self.sheets().map(|all| all.into_iter().map(|sheet| sheet.name).collect())
            }
            _ => self.store.names(kind),
        }
        .unwrap_or_default();
        let nearest = nearest_name(&name, known.iter().map(String::as_str)).map(str::to_owned);
        ServiceError::NotFound { kind, name, nearest }
    }
}
