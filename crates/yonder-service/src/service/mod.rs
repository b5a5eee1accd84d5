//! The service behind the API: keeps records and engine in step. Calls may block for a moment.

mod alerts;
mod audit;
mod backlog;
mod book;
mod care;
mod change;
mod day;
mod destinations;
mod effects;
mod feeds;
mod finds;
mod holding;
mod ledger;
mod live;
mod loops;
mod on_air;
mod patterns;
mod people;
mod platforms;
mod preflights;
mod rates;
mod record;
mod rehearsals;
mod relays;
mod rename;
mod sessions;
mod stills;
mod surveys;
mod tokens;
mod uplinks;
mod views;

use std::collections::HashMap;
use std::sync::atomic::AtomicU64;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, RwLock};
use std::time::{Duration, SystemTime};

use parking_lot::{ReentrantMutex, ReentrantMutexGuard};
use secrecy::SecretString;
use tokio::sync::{Notify, broadcast};
use yonder_api::Status;
use yonder_core::nearest_name;
use yonder_core::record::{Note, Recorder};
use yonder_engine::{Engine, Picture};
use yonder_store::{AuditEntry, Deed, Kind, Relay as StoredRelay, Session, Store, StoreError, Token};

use crate::auth::{Attempts, TokenCache, Touches};
use crate::error::ServiceError;
use crate::jobs::Jobs;
use crate::time;

use backlog::Backlog;
pub use change::{Actor, Change, Origin};
use effects::{Postponed, Refresh};
use ledger::Ledger;
pub use live::LiveEvent;
use live::Snapshot;
pub use loops::Loops;
pub use people::role_facts;
pub use preflights::run_blocking;
pub use sessions::SESSION_S;
use stills::Stills;
use surveys::Surveys;

/// Records, engine, and who may use them.
#[derive(Debug)]
pub struct Service {
    store: Store,
    engine: Engine,
    local_token: SecretString,
    /// Held through every change, so that records and engine change together. Re-entrant, so that a group of changes
    /// is made of the same calls as single ones.
    changing: ReentrantMutex<()>,
    /// What the changes of an open group do to what runs.
    postponed: Mutex<Option<Postponed>>,
    /// Relays as they are stored, for views that must not wait for the disk.
    relays: RwLock<Arc<[Arc<StoredRelay>]>>,
    set_up_code: Mutex<Option<SecretString>>,
    attempts: Mutex<Attempts>,
    touches: Mutex<Touches>,
    live: Mutex<Snapshot>,
    /// Number of the last line of the logbook that was told to those who listen.
    told_lines: Mutex<i64>,
    events: broadcast::Sender<LiveEvent>,
    surveys: Mutex<Surveys>,
    stills: Mutex<Stills>,
    /// Media rates of feeds as they were last measured, in kilobits per second.
    rates: Mutex<HashMap<String, u64>>,
    ledger: Mutex<Ledger>,
    /// Holding pictures of relays that have one of their own, decoded.
    holding_pictures: Mutex<HashMap<String, Arc<Picture>>>,
    alarm: alerts::Alarm,
    series: Mutex<rates::Series>,
    recorder: Mutex<Recorder>,
    /// What the recorder noted and the disk did not take yet.
    unwritten_notes: Mutex<Vec<Note>>,
    /// Audit entries that the disk did not take yet.
    unwritten_audit: Mutex<Vec<AuditEntry>>,
    /// Signals that the records have changed, for the next publication of events.
    records_changed: Notify,
    /// Restarts of background loops after panics.
    loop_restarts: AtomicU64,
    jobs: Jobs,
    backlog: Backlog,
    known_sessions: Mutex<TokenCache<Session>>,
    known_tokens: Mutex<TokenCache<Token>>,
}

/// How long an observation waits for a change that is being made.
const CHANGE_TIMEOUT: Duration = Duration::from_secs(1);
/// Events that a slow listener may be behind before it must start anew.
const EVENT_BACKLOG: usize = 1024;

impl Service {
    /// A service over opened records. Nothing runs until [`Service::resume`].
    ///
    /// # Errors
    /// When the records cannot be read.
    pub fn new(store: Store, engine: Engine, local_token: SecretString) -> Result<Self, ServiceError> {
        let relays = store.relays()?;
        let last_line = store.last_log_line()?;
        let set_up_code = if store.has_people()? { None } else { Some(crate::auth::random_token().into()) };
        Ok(Self {
            store,
            engine,
            local_token,
            changing: ReentrantMutex::new(()),
            postponed: Mutex::default(),
            relays: RwLock::new(relays.into_iter().map(Arc::new).collect()),
            set_up_code: Mutex::new(set_up_code),
            attempts: Mutex::default(),
            touches: Mutex::default(),
            live: Mutex::default(),
            told_lines: Mutex::new(last_line),
            events: broadcast::Sender::new(EVENT_BACKLOG),
            surveys: Mutex::default(),
            stills: Mutex::default(),
            rates: Mutex::default(),
            ledger: Mutex::default(),
            holding_pictures: Mutex::default(),
            alarm: alerts::Alarm::default(),
            series: Mutex::default(),
            recorder: Mutex::default(),
            unwritten_notes: Mutex::default(),
            unwritten_audit: Mutex::default(),
            records_changed: Notify::new(),
            loop_restarts: AtomicU64::new(0),
            jobs: Jobs::default(),
            backlog: Backlog::default(),
            known_sessions: Mutex::default(),
            known_tokens: Mutex::default(),
        })
    }

    /// Records what the service did by itself.
    fn record_own(&self, what: &'static str, kind: Kind, name: &str, detail: &str) {
        tracing::info!(what, %kind, name, "recorded");
        self.record_later(Deed {
            at_ms: time::millis(SystemTime::now()),
            who: None,
            what: what.to_owned(),
            kind,
            name: name.to_owned(),
            detail: detail.to_owned(),
        });
    }

    fn keep_deed(&self, deed: &Deed) {
        if let Err(error) = self.store.record_deed(deed) {
            tracing::error!(%error, "what was done could not be recorded");
        }
        // What a group of changes wrote may be undone.
        if !self.postpones() {
            self.tell_lines();
        }
    }

    /// Everything at this moment.
    #[must_use]
    pub fn status(&self) -> Status {
        Status {
            version: env!("CARGO_PKG_VERSION").to_owned(),
            now: time::text(SystemTime::now()),
            relays: self.stored_relays().iter().map(|relay| self.view(relay)).collect(),
        }
    }

    /// Ends all broadcasts in order.
    ///
    /// # Cancel safety
    /// As [`Engine::shutdown`].
    pub async fn shutdown(&self) {
        if let Err(error) = self.look_into_ledger(true) {
            tracing::warn!(%error, "the ledger could not be written");
        }
        if let Err(error) = self.write_rates() {
            tracing::warn!(%error, "rates could not be kept");
        }
        self.flush_backlog();
        // Before the broadcasts end: that they do is no news of theirs.
        if let Err(error) = self.look_into_record(true, false) {
            tracing::warn!(%error, "the record could not be written");
        }
        self.engine.shutdown().await;
    }

    /// Work in the background.
    #[must_use]
    pub fn jobs(&self) -> &Jobs {
        &self.jobs
    }

    /// The engine.
    #[must_use]
    pub fn engine(&self) -> &Engine {
        &self.engine
    }

    /// Ages of the media threads' heartbeats. Asks neither the records nor the threads.
    #[must_use]
    pub fn heartbeat_ages(&self) -> Vec<Duration> {
        self.engine.heartbeat_ages()
    }

    fn change(&self) -> ReentrantMutexGuard<'_, ()> {
        self.changing.lock()
    }

    /// Clears the caches of sessions and tokens after a change of one of them or of a person.
    pub(crate) fn forget_sign_ins(&self) {
        lock(&self.known_sessions).clear();
        lock(&self.known_tokens).clear();
    }

    /// Waits a moment for a change that is being made, so that names do not change during an observation. `None` after a change
    /// that takes long, as on a disk that hangs.
    fn between_changes(&self) -> Option<ReentrantMutexGuard<'_, ()>> {
        self.changing.try_lock_for(CHANGE_TIMEOUT)
    }

    fn stored_relays(&self) -> Arc<[Arc<StoredRelay>]> {
        Arc::clone(&self.relays.read().unwrap_or_else(PoisonError::into_inner))
    }

    /// Reads all relays after a change of the records; within a group of changes at its end.
    fn refresh_relays(&self) -> Result<(), ServiceError> {
        if let Some(postponed) = lock(&self.postponed).as_mut() {
            postponed.refresh = Refresh::All;
            return Ok(());
        }
        let relays = self.store.relays()?.into_iter().map(Arc::new).collect();
        *self.relays.write().unwrap_or_else(PoisonError::into_inner) = relays;
        Ok(())
    }

    /// Reads the relay `name` after a change of that one alone; within a group of changes at its end.
    fn refresh_relay(&self, name: &str) -> Result<(), ServiceError> {
        if let Some(postponed) = lock(&self.postponed).as_mut() {
            postponed.refresh.add(name);
            return Ok(());
        }
        let known = self.stored_relays();
        let Some(at) = known.iter().position(|relay| relay.name.eq_ignore_ascii_case(name)) else {
            return self.refresh_relays();
        };
        let relay = match self.store.relay(name) {
            Ok(relay) if relay.name == known[at].name => relay,
            // Removed or renamed.
            Ok(_) | Err(StoreError::NotFound { .. }) => return self.refresh_relays(),
            Err(error) => return Err(error.into()),
        };
        let mut relays = self.relays.write().unwrap_or_else(PoisonError::into_inner);
        // Another thread may have stored another list meanwhile.
        if !Arc::ptr_eq(&relays, &known) {
            drop(relays);
            return self.refresh_relays();
        }
        let mut changed = known.to_vec();
        changed[at] = Arc::new(relay);
        *relays = changed.into();
        Ok(())
    }

    /// Adds to "not found" the name that was most likely meant.
    fn explain(&self, error: StoreError) -> ServiceError {
        let StoreError::NotFound { kind, name } = error else { return error.into() };
        let known = match kind {
            // Those that ship are in the program.
            Kind::Platform => self.sheets().map(|all| all.into_iter().map(|sheet| sheet.name).collect()),
            _ => self.store.names(kind),
        }
        .unwrap_or_default();
        let nearest = nearest_name(&name, known.iter().map(String::as_str)).map(str::to_owned);
        ServiceError::NotFound { kind, name, nearest }
    }
}

/// Locks a mutex whose data is sound between any two of its uses, also after a panic.
pub(crate) fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
