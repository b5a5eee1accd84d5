//! Notifications: evaluation of alert rules, and delivery to contacts.

mod delivery;
mod evaluation;
mod views;

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use parking_lot::Mutex;
use tokio::sync::Notify;
use yonder_core::alerts::{AlertEvaluator, Outbox};
use yonder_engine::Engine;
use yonder_store::RecordKind;

use crate::history::History;
use crate::ingest::Ingest;
use crate::journal::Journal;
use crate::planner::Planner;
use crate::rename::Rename;
use evaluation::{DiskFacts, Rounds};
use yonder_records::Records;
use yonder_records::ServiceError;

/// Alert state and outbox.
#[derive(Debug)]
pub struct Notifications {
    records: Arc<Records>,
    engine: Engine,
    journal: Arc<Journal>,
    history: Arc<History>,
    planner: Arc<Planner>,
    ingest: Arc<Ingest>,
    book: Mutex<AlertEvaluator>,
    outbox: Mutex<Outbox>,
    /// Locked while alerts and their notifications change together, and while both are read to be stored.
    evaluation: Mutex<()>,
    /// Locked while alerts and notifications are stored, so that an older state never replaces a newer one.
    writing: Mutex<()>,
    rounds: Mutex<Rounds>,
    disk_facts: Mutex<DiskFacts>,
    /// Time of a start after a crash or a power failure, in milliseconds since 1970.
    restarted_ms: Mutex<Option<i64>>,
    /// The open alerts have changed since they were stored.
    has_changed_alerts: AtomicBool,
    /// Wakes the storing loop.
    store_signal: Notify,
}

impl Notifications {
    pub(crate) fn new(
        records: Arc<Records>,
        engine: Engine,
        journal: Arc<Journal>,
        history: Arc<History>,
        planner: Arc<Planner>,
        ingest: Arc<Ingest>,
    ) -> Self {
        Self {
            records,
            engine,
            journal,
            history,
            planner,
            ingest,
            book: Mutex::default(),
            outbox: Mutex::default(),
            evaluation: Mutex::default(),
            writing: Mutex::default(),
            rounds: Mutex::default(),
            disk_facts: Mutex::default(),
            restarted_ms: Mutex::default(),
            has_changed_alerts: AtomicBool::new(false),
            store_signal: Notify::new(),
        }
    }

    /// Restores open alerts and undelivered notifications after a restart.
    ///
    /// # Errors
    /// If the records cannot be read.
    pub(crate) fn resume(&self) -> Result<(), ServiceError> {
        *self.book.lock() = AlertEvaluator::resume(self.records.store.open_alerts()?);
        *self.outbox.lock() = Outbox::resume(self.records.store.notifications()?);
        Ok(())
    }

    /// Records that the service has started after a crash or a power failure.
    pub(crate) fn note_restart(&self, now_ms: i64) {
        *self.restarted_ms.lock() = Some(now_ms);
    }

    /// Stores open alerts and undelivered notifications after changes, until the task is dropped. It is a separate
    /// loop, so that a blocked disk delays neither evaluation nor delivery. After a failure it retries with the next
    /// evaluation.
    pub(crate) async fn run_store(self: Arc<Self>) {
        loop {
            self.store_signal.notified().await;
            let notifications = Arc::clone(&self);
            // A panic during a write is logged by the runtime.
            let _stored = tokio::task::spawn_blocking(move || notifications.store()).await;
        }
    }

    /// Wakes [`Notifications::run_store`].
    fn store_later(&self) {
        self.store_signal.notify_one();
    }

    /// Stores open alerts and undelivered notifications if they have changed. Blocks.
    pub(crate) fn store(&self) {
        let _writing = self.writing.lock();
        let (open, pending) = {
            let _evaluation = self.evaluation.lock();
            let has_changed = self.has_changed_alerts.swap(false, Ordering::Relaxed);
            (has_changed.then(|| self.book.lock().open()), self.outbox.lock().take_changes())
        };
        if open.is_none() && pending.is_none() {
            return;
        }
        // The outbox is not locked during the write: a change of a contact holds the write lock and needs the outbox.
        if let Err(error) = self.records.store.save_alert_state(open.as_deref(), pending.as_deref()) {
            // With a full disk notifications are still delivered; a restart would raise these alerts again.
            tracing::warn!(%error, "open alerts and undelivered notifications could not be stored");
            self.has_changed_alerts.fetch_or(open.is_some(), Ordering::Relaxed);
            if pending.is_some() {
                self.outbox.lock().mark_changed();
            }
        }
    }

    /// Applies the rename of a record.
    pub(crate) fn rename(&self, rename: Rename<'_>) {
        {
            let mut book = self.book.lock();
            book.rename_subjects(|subject| rename.alert_subject(subject));
            if rename.kind == RecordKind::Alert {
                book.rename_rule(rename.old, rename.new);
            }
        }
        if rename.kind == RecordKind::Contact {
            self.outbox.lock().rename_contact(rename.old, rename.new);
        }
        self.has_changed_alerts.store(true, Ordering::Relaxed);
        self.store_later();
    }
}
