//! Clock of the service: monotonic time since its start, and the corresponding wall time.

use std::time::{Duration, SystemTime};

use tokio::time::Instant;

/// Deviation from the computed wall time beyond which the wall clock counts as stepped.
const STEP: Duration = Duration::from_secs(2);

/// Time since the service started, on tokio's clock, which tests can pause. Copies share the epoch.
#[derive(Debug, Clone, Copy)]
pub struct Clock {
    epoch: Instant,
    epoch_wall: SystemTime,
}

impl Default for Clock {
    fn default() -> Self {
        Self { epoch: Instant::now(), epoch_wall: SystemTime::now() }
    }
}

impl Clock {
    /// Returns the time since the epoch.
    #[must_use]
    pub fn now(&self) -> Duration {
        self.epoch.elapsed()
    }

    /// Returns the time since the epoch in ticks of 1/90 000 s, the timescale of feeds and outputs.
    #[must_use]
    pub fn ticks_now(&self) -> i64 {
        self.ticks(self.now())
    }

    /// Converts a time since the epoch to ticks of 1/90 000 s.
    #[must_use]
    pub fn ticks(&self, time: Duration) -> i64 {
        i64::try_from(time.as_micros() * 9 / 100).unwrap_or(i64::MAX)
    }

    /// Converts ticks of 1/90 000 s to a time since the epoch; zero for negative values.
    #[must_use]
    pub fn time_of(&self, ticks: i64) -> Duration {
        Duration::from_micros(u64::try_from(ticks).unwrap_or_default().saturating_mul(100) / 9)
    }

    /// Returns tokio's instant of `time`.
    #[must_use]
    pub fn instant(&self, time: Duration) -> Instant {
        self.epoch + time
    }

    /// Returns the wall time of `time`. It is the same for the same `time` until the wall clock is stepped, which moves
    /// past times as well.
    #[must_use]
    pub fn wall(&self, time: Duration) -> SystemTime {
        let now = self.now();
        let (reckoned, actual) = (self.epoch_wall + now, SystemTime::now());
        let apart = actual.duration_since(reckoned).unwrap_or_else(|error| error.duration());
        if apart < STEP {
            return self.epoch_wall + time;
        }
        actual.checked_sub(now.saturating_sub(time)).unwrap_or(SystemTime::UNIX_EPOCH)
    }
}
