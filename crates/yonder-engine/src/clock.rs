//! The service's clock: monotonic time since its start, and the wall time that belongs to it.

use std::time::{Duration, Instant, SystemTime};

/// Time since the service started. Copies share the epoch.
#[derive(Debug, Clone, Copy)]
pub struct Clock {
    epoch: Instant,
}

impl Default for Clock {
    fn default() -> Self {
        Self { epoch: Instant::now() }
    }
}

impl Clock {
    /// Time since the epoch.
    #[must_use]
    pub fn now(&self) -> Duration {
        self.epoch.elapsed()
    }

    /// The moment of tokio's clock at `time`.
    #[must_use]
    pub fn instant(&self, time: Duration) -> tokio::time::Instant {
        tokio::time::Instant::from_std(self.epoch + time)
    }

    /// The wall time at which `time` was, by today's wall clock: a stepped clock moves the past along.
    #[must_use]
    pub fn wall(&self, time: Duration) -> SystemTime {
        let ago = self.now().saturating_sub(time);
        SystemTime::now().checked_sub(ago).unwrap_or(SystemTime::UNIX_EPOCH)
    }
}
