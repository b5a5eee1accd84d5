//! Queue of writes that no request waits for: logbook entries of the service itself, and open alerts. A blocking thread writes them,
//! so that a disk that hangs does not delay the evaluation of alerts.

use std::collections::VecDeque;
use std::sync::Arc;
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, Ordering};

use tokio::sync::Notify;
use yonder_store::Deed;

use super::{Service, lock};

/// Entries that may wait. Beyond that the oldest are lost, and counted in the log.
const MAX_WAITING: usize = 10_000;

/// Queued writes.
#[derive(Debug, Default)]
pub(super) struct Backlog {
    deeds: Mutex<VecDeque<Deed>>,
    /// The open alerts have changed since they were stored.
    has_alerts: AtomicBool,
    signal: Notify,
    /// The writing loop runs; without it writes are made at once.
    is_running: AtomicBool,
}

impl Service {
    /// Writes queued entries until the task is dropped.
    pub async fn write_backlog(self: Arc<Self>) {
        let _running = Running::begin(&self.backlog.is_running);
        loop {
            self.backlog.signal.notified().await;
            let service = Arc::clone(&self);
            // A panic in a write is logged by the runtime; the entry is lost.
            let _written = tokio::task::spawn_blocking(move || service.flush_backlog()).await;
        }
    }

    /// Queues a logbook entry of the service itself.
    pub(super) fn record_later(&self, deed: Deed) {
        if !self.backlog.is_running.load(Ordering::Relaxed) {
            self.keep_deed(&deed);
            return;
        }
        {
            let mut deeds = lock(&self.backlog.deeds);
            if deeds.len() >= MAX_WAITING {
                tracing::error!("too many entries wait for the disk, the oldest is lost");
                deeds.pop_front();
            }
            deeds.push_back(deed);
        }
        self.backlog.signal.notify_one();
    }

    /// Queues a write of the open alerts.
    pub(super) fn keep_open_alerts_later(&self) {
        self.backlog.has_alerts.store(true, Ordering::Relaxed);
        if self.backlog.is_running.load(Ordering::Relaxed) {
            self.backlog.signal.notify_one();
        } else {
            self.flush_backlog();
        }
    }

    /// Writes all queued entries. Blocks.
    pub(super) fn flush_backlog(&self) {
        while let Some(deed) = { lock(&self.backlog.deeds).pop_front() } {
            self.keep_deed(&deed);
        }
        if self.backlog.has_alerts.swap(false, Ordering::Relaxed) {
            let open = lock(&self.alarm.book).open();
            // On a full disk notifications go out all the same; a restart would raise these alerts again.
            if let Err(error) = self.store.keep_open_alerts(&open) {
                tracing::warn!(%error, "open alerts could not be stored");
            }
        }
    }

    /// Number of entries that wait for the disk.
    pub(super) fn backlog_len(&self) -> usize {
        lock(&self.backlog.deeds).len()
    }
}

/// Guard that marks the writing loop as running.
struct Running<'a>(&'a AtomicBool);

impl<'a> Running<'a> {
    fn begin(is_running: &'a AtomicBool) -> Self {
        is_running.store(true, Ordering::Relaxed);
        Self(is_running)
    }
}

impl Drop for Running<'_> {
    fn drop(&mut self) {
        self.0.store(false, Ordering::Relaxed);
    }
}
