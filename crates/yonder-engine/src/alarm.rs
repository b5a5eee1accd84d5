//! The timer of a task that waits for much else as well: it is touched only when its deadline changes, since most of
//! what wakes such a task leaves that as it was.

use std::pin::Pin;
use std::time::Duration;

use tokio::time::{Sleep, sleep_until};

use crate::clock::Clock;

/// A timer that is set again and again.
#[derive(Debug)]
pub(crate) struct Alarm {
    clock: Clock,
    at: Duration,
    sleep: Pin<Box<Sleep>>,
}

impl Alarm {
    /// To be called within a tokio runtime.
    pub(crate) fn new(clock: Clock) -> Self {
        let at = clock.now();
        Self { clock, at, sleep: Box::pin(sleep_until(clock.instant(at))) }
    }

    /// Resolves at `at` on the clock; at once, again and again, where that is over.
    ///
    /// # Cancel safety
    /// What is dropped before it resolves leaves the timer set.
    pub(crate) fn until(&mut self, at: Duration) -> Pin<&mut Sleep> {
        if at != self.at {
            self.at = at;
            self.sleep.as_mut().reset(self.clock.instant(at));
        }
        self.sleep.as_mut()
    }
}

#[cfg(test)]
mod tests {
    use tokio::time::{Instant, timeout};

    use super::*;

    #[tokio::test(start_paused = true)]
    async fn it_resolves_when_its_time_has_come_however_often_it_was_dropped() {
        let clock = Clock::default();
        let mut alarm = Alarm::new(clock);
        let (begun, at) = (Instant::now(), clock.now() + Duration::from_secs(10));
        for _ in 0..5 {
            assert!(timeout(Duration::from_secs(1), alarm.until(at)).await.is_err());
        }
        alarm.until(at).await;
        let waited = begun.elapsed();
        assert!(waited >= Duration::from_secs(9) && waited < Duration::from_secs(11), "{waited:?}");
        // What is over is over.
        alarm.until(at).await;
        assert_eq!(begun.elapsed(), waited);
    }

    #[tokio::test(start_paused = true)]
    async fn it_can_be_set_earlier_and_later() {
        let clock = Clock::default();
        let mut alarm = Alarm::new(clock);
        let (begun, now) = (Instant::now(), clock.now());
        let _later = alarm.until(now + Duration::from_secs(60));
        alarm.until(now + Duration::from_secs(1)).await;
        assert!(begun.elapsed() < Duration::from_secs(3));
        assert!(timeout(Duration::from_secs(5), alarm.until(now + Duration::from_secs(30))).await.is_err());
    }
}
