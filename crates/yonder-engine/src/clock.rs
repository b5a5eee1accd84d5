//! The service's clock: monotonic time since its start, and the wall time that belongs to it.

use std::time::{Duration, SystemTime};

use tokio::time::Instant;

/// The wall clock may differ from its reckoned value by this much before it counts as stepped.
const STEP: Duration = Duration::from_secs(2);

/// Time since the service started. Copies share the epoch. It is tokio's clock, which tests pause and advance.
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
    /// Time since the epoch.
    #[must_use]
    pub fn now(&self) -> Duration {
        self.epoch.elapsed()
    }

    /// Time since the epoch in ticks of 1/90 000 s: the timescale of feeds and outputs.
    #[must_use]
    pub fn ticks_now(&self) -> i64 {
        self.ticks(self.now())
    }

    /// The time since the epoch in ticks of 1/90 000 s.
    #[must_use]
    pub fn ticks(&self, time: Duration) -> i64 {
        i64::try_from(time.as_micros() * 9 / 100).unwrap_or(i64::MAX)
    }

    /// The time since the epoch that is `ticks` of 1/90 000 s; the epoch itself for negative values.
    #[must_use]
    pub fn time_of(&self, ticks: i64) -> Duration {
        Duration::from_micros(u64::try_from(ticks).unwrap_or_default().saturating_mul(100) / 9)
    }

    /// The moment of tokio's clock at `time`.
    #[must_use]
    pub fn instant(&self, time: Duration) -> Instant {
        self.epoch + time
    }

    /// The wall time at which `time` was. The same value for the same `time`, until the wall clock is stepped:
    /// then the past moves along with it.
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
