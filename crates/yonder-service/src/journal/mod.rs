//! Journal: the audit log, and logbook lines of the service itself. Entries that cannot be written are kept in memory
//! and retried.

mod audit;
mod queue;
mod trail;

use std::sync::Arc;
use std::time::Duration;

use parking_lot::Mutex;
use tokio::time::{MissedTickBehavior, interval};
use yonder_store::AuditEntry;

use crate::events::Events;
pub(crate) use audit::audit_entry;
use queue::Queue;
use yonder_records::Records;

/// Retry interval of entries that could not be written.
const RETRY_INTERVAL: Duration = Duration::from_secs(5);

/// Audit log and logbook of the service.
#[derive(Debug)]
pub struct Journal {
    records: Arc<Records>,
    events: Arc<Events>,
    queue: Queue,
    /// Audit entries that could not be written.
    unwritten: Mutex<Vec<AuditEntry>>,
}

impl Journal {
    pub(crate) fn new(records: Arc<Records>, events: Arc<Events>) -> Self {
        Self { records, events, queue: Queue::default(), unwritten: Mutex::default() }
    }

    /// Retries desired states and audit entries that could not be written, until the task is dropped.
    pub(crate) async fn retry_writes(self: Arc<Self>) {
        let mut ticks = interval(RETRY_INTERVAL);
        ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
        loop {
            ticks.tick().await;
            let journal = Arc::clone(&self);
            let written = tokio::task::spawn_blocking(move || journal.write_unsaved_changes()).await;
            if let Ok(Err(error)) = written {
                tracing::warn!(%error, "changes kept in memory could not be written");
            }
        }
    }

    /// Returns the number of entries that could not be written.
    pub(crate) fn waiting(&self) -> usize {
        self.unwritten.lock().len() + self.queue.len()
    }
}
