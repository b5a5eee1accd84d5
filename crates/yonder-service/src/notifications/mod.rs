//! Notifications: evaluation of alert rules, and delivery to contacts.

mod delivery;
mod evaluation;
mod views;

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};

use tokio::sync::Notify;
use yonder_core::alerts::{AlertEvaluator, Outbox};
use yonder_engine::Engine;
use yonder_store::RecordKind;

use crate::error::ServiceError;
use crate::history::History;
use crate::journal::Journal;
use crate::planner::Planner;
use crate::records::Records;
use crate::rename::Rename;
use crate::sync::lock;
use evaluation::{DiskFacts, Rounds};

/// Alert state and outbox.
#[derive(Debug)]
pub struct Notifications {
    records: Arc<Records>,
    engine: Engine,
    journal: Arc<Journal>,
    history: Arc<History>,
    planner: Arc<Planner>,
    book: Mutex<AlertEvaluator>,
    outbox: Mutex<Outbox>,
    /// Locked while the outbox is stored.
    outbox_writing: Mutex<()>,
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
    ) -> Self {
        Self {
            records,
            engine,
            journal,
            history,
            planner,
            book: Mutex::default(),
            outbox: Mutex::default(),
            outbox_writing: Mutex::default(),
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
        *lock(&self.book) = AlertEvaluator::resume(self.records.store.open_alerts()?);
        *lock(&self.outbox) = Outbox::resume(self.records.store.notifications()?);
        Ok(())
    }

    /// Records that the service has started after a crash or a power failure.
    pub(crate) fn note_restart(&self, now_ms: i64) {
        *lock(&self.restarted_ms) = Some(now_ms);
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
        if self.has_changed_alerts.swap(false, Ordering::Relaxed) {
            let open = lock(&self.book).open();
            // With a full disk notifications are still delivered; a restart would raise these alerts again.
            if let Err(error) = self.records.store.save_open_alerts(&open) {
                tracing::warn!(%error, "open alerts could not be stored");
                self.has_changed_alerts.store(true, Ordering::Relaxed);
            }
        }
        self.store_outbox();
    }

    /// Applies the rename of a record.
    pub(crate) fn rename(&self, rename: Rename<'_>) {
        {
            let mut book = lock(&self.book);
            book.rename_subjects(|subject| rename.alert_subject(subject));
            if rename.kind == RecordKind::Alert {
                book.rename_rule(rename.old, rename.new);
            }
        }
        if rename.kind == RecordKind::Contact {
            lock(&self.outbox).rename_contact(rename.old, rename.new);
        }
        self.has_changed_alerts.store(true, Ordering::Relaxed);
        self.store_later();
    }
}
