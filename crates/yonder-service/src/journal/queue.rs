//! Queue of logbook lines of the service itself. A blocking thread writes them, so that a blocked disk delays nothing else.

use std::collections::VecDeque;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::SystemTime;

use parking_lot::Mutex;
use tokio::sync::Notify;
use yonder_store::{LoggedAction, RecordKind};

use super::Journal;
use yonder_records::time;

/// Maximum queued lines. The oldest are dropped beyond it, and their number is logged.
const MAX_WAITING: usize = 10_000;

/// Queued lines.
#[derive(Debug, Default)]
pub(super) struct Queue {
    lines: Mutex<VecDeque<LoggedAction>>,
    signal: Notify,
    /// The writing loop is running; without it lines are written at once.
    is_running: AtomicBool,
}

impl Queue {
    /// Returns the number of queued lines.
    pub(super) fn len(&self) -> usize {
        self.lines.lock().len()
    }
}

impl Journal {
    /// Writes queued lines until the task is dropped.
    pub(crate) async fn run_queue(self: Arc<Self>) {
        let _running = Running::begin(&self.queue.is_running);
        loop {
            self.queue.signal.notified().await;
            let journal = Arc::clone(&self);
            // A panic during a write is logged by the runtime; the line is lost.
            let _written = tokio::task::spawn_blocking(move || journal.flush()).await;
        }
    }

    /// Adds a logbook line about the service itself.
    pub(crate) fn log_own(&self, what: &'static str, kind: RecordKind, name: &str, detail: &str) {
        tracing::info!(what, %kind, name, "recorded");
        let line = LoggedAction {
            at_ms: time::millis(SystemTime::now()),
            who: None,
            what: what.to_owned(),
            kind,
            name: name.to_owned(),
            detail: detail.to_owned(),
        };
        if !self.queue.is_running.load(Ordering::Relaxed) {
            self.write_line(&line);
            return;
        }
        {
            let mut lines = self.queue.lines.lock();
            if lines.len() >= MAX_WAITING {
                tracing::error!("too many logbook lines wait for the disk, the oldest is lost");
                lines.pop_front();
            }
            lines.push_back(line);
        }
        self.queue.signal.notify_one();
    }

    /// Writes all queued lines. Blocks.
    pub(crate) fn flush(&self) {
        while let Some(line) = { self.queue.lines.lock().pop_front() } {
            self.write_line(&line);
        }
    }

    fn write_line(&self, line: &LoggedAction) {
        if let Err(error) = self.records.store.log_action(line) {
            tracing::error!(%error, "a logbook line could not be written");
        }
        self.events.publish_log_lines();
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
