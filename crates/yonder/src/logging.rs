//! Log output on standard error, through a bounded queue with a writer thread.
//!
//! Standard error is often a pipe whose reader may block: a container's log driver, a stopped terminal, a journal on a
//! blocked disk. Lines that do not fit the queue are dropped and counted; logging never blocks.

use std::io::IsTerminal as _;
use std::panic::PanicHookInfo;
use std::time::Duration;

use tokio::time::{MissedTickBehavior, interval};
use tracing_appender::non_blocking::{ErrorCounter, NonBlockingBuilder, WorkerGuard};
use tracing_subscriber::EnvFilter;

/// Environment variable with the level filter.
const LOG_VARIABLE: &str = "YONDER_LOG";
/// Capacity of the queue, about a megabyte.
const MAX_QUEUED_LINES: usize = 8_192;
/// Interval of reports about dropped lines.
const REPORT_INTERVAL: Duration = Duration::from_secs(10);

/// Log of this process. On drop, it waits about a second for queued lines.
pub(crate) struct Log {
    left_out: ErrorCounter,
    _writer: WorkerGuard,
}

impl Log {
    /// Starts logging to standard error at `level`, unless the environment variable is set.
    pub(crate) fn start(level: &str) -> Self {
        let filter = EnvFilter::try_from_env(LOG_VARIABLE).unwrap_or_else(|_| EnvFilter::new(level));
        let (queue, writer) = NonBlockingBuilder::default()
            .lossy(true)
            .buffered_lines_limit(MAX_QUEUED_LINES)
            .thread_name("yonder-log")
            .finish(std::io::stderr());
        let left_out = queue.error_counter();
        // Fails only if a log is already active.
        let _started = tracing_subscriber::fmt()
            .with_env_filter(filter)
            .with_writer(queue)
            // A log file has no colors.
            .with_ansi(std::io::stderr().is_terminal())
            .try_init();
        // The default hook would write to standard error directly.
        std::panic::set_hook(Box::new(log_panic));
        Self { left_out, _writer: writer }
    }

    /// Returns the counter of dropped lines.
    pub(crate) fn left_out(&self) -> LeftOutLines {
        LeftOutLines(self.left_out.clone())
    }
}

fn log_panic(info: &PanicHookInfo<'_>) {
    let location = info.location().map(ToString::to_string).unwrap_or_default();
    let payload = info.payload();
    let message = payload.downcast_ref::<&str>().copied();
    let message =
        message.or_else(|| payload.downcast_ref::<String>().map(String::as_str)).unwrap_or_default();
    tracing::error!(location, message, "panic");
}

/// Counter of log lines that did not fit the queue.
pub(crate) struct LeftOutLines(ErrorCounter);

impl LeftOutLines {
    /// Reports dropped lines in the log itself, once the queue has space. Runs until dropped.
    pub(crate) async fn keep_reporting(self) {
        let mut ticks = interval(REPORT_INTERVAL);
        ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
        let mut reported = 0;
        loop {
            ticks.tick().await;
            let total = self.0.dropped_lines();
            if total > reported {
                tracing::warn!(lines = total - reported, "log lines left out, standard error is not read");
                // The report itself may be dropped.
                if self.0.dropped_lines() == total {
                    reported = total;
                }
            }
        }
    }
}
