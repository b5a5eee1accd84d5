//! Service: its parts, the executor of changes, and work that involves several parts.

mod book;
mod execute;
mod maintenance;
mod start;

use std::sync::Arc;
use std::time::{Duration, SystemTime};

use secrecy::SecretString;
use yonder_api::Status;
use yonder_engine::Engine;
use yonder_store::Store;

use crate::auth::Auth;
use crate::backups::{BackupPlan, Backups};
use crate::events::Events;
use crate::history::History;
use crate::ingest::Ingest;
use crate::journal::Journal;
use crate::loops::{Loops, Supervisor};
use crate::notifications::Notifications;
use crate::planner::Planner;
use crate::previews::Previews;
use crate::reconciler::Reconciler;
use crate::sharing::Sharing;
use yonder_records::Jobs;
use yonder_records::Records;
use yonder_records::ServiceError;
use yonder_records::time;

/// All parts of the service. A part depends only on those above it.
#[derive(Debug)]
pub struct Service {
    engine: Engine,
    records: Arc<Records>,
    events: Arc<Events>,
    journal: Arc<Journal>,
    history: Arc<History>,
    sharing: Arc<Sharing>,
    planner: Arc<Planner>,
    previews: Arc<Previews>,
    ingest: Arc<Ingest>,
    notifications: Arc<Notifications>,
    reconciler: Arc<Reconciler>,
    auth: Arc<Auth>,
    backups: Arc<Backups>,
    jobs: Jobs,
    supervisor: Arc<Supervisor>,
}

impl Service {
    /// Creates a service over opened records. Nothing runs until [`Service::resume`].
    ///
    /// # Errors
    /// If the records cannot be read.
    pub fn new(store: Store, engine: Engine, local_token: SecretString) -> Result<Self, ServiceError> {
        let records = Arc::new(Records::new(store, engine.clone())?);
        let events = Arc::new(Events::new(Arc::clone(&records), engine.clone())?);
        let journal = Arc::new(Journal::new(Arc::clone(&records), Arc::clone(&events)));
        let history =
            History::new(Arc::clone(&records), engine.clone(), Arc::clone(&events), Arc::clone(&journal));
        let history = Arc::new(history);
        let sharing = Arc::new(Sharing::new(Arc::clone(&records), engine.clone()));
        let planner = Arc::new(Planner::new(Arc::clone(&records), engine.clone(), Arc::clone(&sharing)));
        let ingest = Arc::new(Ingest::new(Arc::clone(&records), engine.clone(), Arc::clone(&journal)));
        let notifications = Notifications::new(
            Arc::clone(&records),
            engine.clone(),
            Arc::clone(&journal),
            Arc::clone(&history),
            Arc::clone(&planner),
            Arc::clone(&ingest),
        );
        let reconciler =
            Reconciler::new(Arc::clone(&records), engine.clone(), Arc::clone(&journal), Arc::clone(&ingest));
        Ok(Self {
            previews: Arc::new(Previews::new(Arc::clone(&records), engine.clone(), Arc::clone(&events))),
            notifications: Arc::new(notifications),
            reconciler: Arc::new(reconciler),
            ingest,
            sharing,
            auth: Arc::new(Auth::new(Arc::clone(&records), Arc::clone(&journal), local_token)?),
            backups: Arc::new(Backups::new(Arc::clone(&records), Arc::clone(&journal), None)),
            jobs: Jobs::default(),
            supervisor: Arc::new(Supervisor::new(Arc::clone(&journal))),
            engine,
            records,
            events,
            journal,
            history,
            planner,
        })
    }

    /// Enables scheduled backups.
    #[must_use]
    pub fn with_backups(mut self, plan: Option<BackupPlan>) -> Self {
        self.backups = Arc::new(Backups::new(Arc::clone(&self.records), Arc::clone(&self.journal), plan));
        self
    }

    /// Starts everything that ran before the service stopped. Failures are logged and do not affect the rest.
    pub fn resume(&self) {
        match self.history.resume() {
            Ok(true) => self.notifications.note_restart(time::millis(SystemTime::now())),
            Ok(false) => {}
            Err(error) => tracing::error!(%error, "the history cannot be resumed"),
        }
        if let Err(error) = self.history.resume_rates() {
            tracing::error!(%error, "bit rates cannot be resumed");
        }
        if let Err(error) = self.notifications.resume() {
            tracing::error!(%error, "alerts cannot be resumed");
        }
        self.sharing.resume();
        self.ingest.resume();
        self.reconciler.resume();
    }

    /// Starts the background loops of all parts. Must be called within a tokio runtime.
    #[must_use]
    pub fn start_loops(&self) -> Loops {
        let mut loops = Loops::new(Arc::clone(&self.supervisor));
        loops.start("logbook", &self.journal, |journal| Box::pin(journal.run_queue()));
        loops.start("retries", &self.journal, |journal| Box::pin(journal.retry_writes()));
        loops.start("states", &self.history, |history| Box::pin(history.run_observer()));
        loops.start("traffic", &self.history, |history| Box::pin(history.run_traffic()));
        loops.start("rates", &self.history, |history| Box::pin(history.run_rates()));
        loops.start("schedules", &self.reconciler, |reconciler| Box::pin(reconciler.run_schedules()));
        loops.start("rollovers", &self.reconciler, |reconciler| Box::pin(reconciler.run_rollovers()));
        loops.start("alerts", &self.notifications, |alerts| Box::pin(alerts.run_evaluation()));
        loops.start("alert-store", &self.notifications, |alerts| Box::pin(alerts.run_store()));
        loops.start("disk-checks", &self.notifications, |alerts| Box::pin(alerts.run_disk_checks()));
        loops.start("delivery", &self.notifications, |alerts| Box::pin(alerts.run_delivery()));
        loops.start("ingest", &self.ingest, |ingest| Box::pin(ingest.run()));
        loops.start("sharing", &self.sharing, |sharing| Box::pin(sharing.run()));
        loops.start("backups", &self.backups, |backups| Box::pin(backups.run()));
        loops.start("events", &self.events, |events| Box::pin(events.run()));
        loops
    }

    /// Ends all broadcasts in order.
    ///
    /// # Cancel safety
    /// As [`Engine::shutdown`].
    pub async fn shutdown(&self) {
        if let Err(error) = self.journal.write_unsaved_changes() {
            tracing::warn!(%error, "changes kept in memory could not be written");
        }
        if let Err(error) = self.history.count_traffic(true) {
            tracing::warn!(%error, "traffic could not be written");
        }
        if let Err(error) = self.sharing.store_traffic() {
            tracing::warn!(%error, "traffic of signposts could not be written");
        }
        if let Err(error) = self.history.write_rates() {
            tracing::warn!(%error, "bit rates could not be written");
        }
        self.journal.flush();
        self.notifications.store();
        // Before the broadcasts end, so that this does not count as an outage.
        if let Err(error) = self.history.finish() {
            tracing::warn!(%error, "states could not be recorded");
        }
        self.journal.flush();
        self.engine.shutdown().await;
        if let Err(error) = self.records.store.checkpoint() {
            tracing::warn!(%error, "the log of the records could not be written back");
        }
    }

    /// Returns all relays, and the time.
    #[must_use]
    pub fn status(&self) -> Status {
        Status {
            version: env!("CARGO_PKG_VERSION").to_owned(),
            now: time::text(SystemTime::now()),
            relays: self.records.relays(),
        }
    }

    /// Returns the ages of the media threads' heartbeats, without blocking on records or threads.
    #[must_use]
    pub fn heartbeat_ages(&self) -> Vec<Duration> {
        self.engine.heartbeat_ages()
    }

    /// Returns the engine.
    #[must_use]
    pub fn engine(&self) -> &Engine {
        &self.engine
    }

    /// Returns the records.
    #[must_use]
    pub fn records(&self) -> &Arc<Records> {
        &self.records
    }

    /// Returns the live events.
    #[must_use]
    pub fn events(&self) -> &Arc<Events> {
        &self.events
    }

    /// Returns the journal.
    #[must_use]
    pub fn journal(&self) -> &Arc<Journal> {
        &self.journal
    }

    /// Returns the history.
    #[must_use]
    pub fn history(&self) -> &Arc<History> {
        &self.history
    }

    /// Returns the planner.
    #[must_use]
    pub fn planner(&self) -> &Arc<Planner> {
        &self.planner
    }

    /// Returns stills and surveys.
    #[must_use]
    pub fn previews(&self) -> &Arc<Previews> {
        &self.previews
    }

    /// Returns the feeds that encoders publish to.
    #[must_use]
    pub fn ingest(&self) -> &Arc<Ingest> {
        &self.ingest
    }

    /// Returns the public side of signposts.
    #[must_use]
    pub fn sharing(&self) -> &Arc<Sharing> {
        &self.sharing
    }

    /// Returns alerts and their delivery.
    #[must_use]
    pub fn notifications(&self) -> &Arc<Notifications> {
        &self.notifications
    }

    /// Returns the reconciler.
    #[must_use]
    pub fn reconciler(&self) -> &Arc<Reconciler> {
        &self.reconciler
    }

    /// Returns people, sessions and tokens.
    #[must_use]
    pub fn auth(&self) -> &Arc<Auth> {
        &self.auth
    }

    /// Returns the scheduled backups.
    #[must_use]
    pub fn backups(&self) -> &Arc<Backups> {
        &self.backups
    }

    /// Returns the background jobs.
    #[must_use]
    pub fn jobs(&self) -> &Jobs {
        &self.jobs
    }
}
