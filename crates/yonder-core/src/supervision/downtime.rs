//! Downtime of a feed or a push, over all of its attempts.

use std::time::Duration;

/// Uptime shorter than this does not end the downtime, so that a flapping feed counts as down since the flapping began.
const MIN_UPTIME: Duration = Duration::from_secs(10);

/// Downtime of one feed or push.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(super) struct Downtime {
    since: Option<Duration>,
    attempts: u32,
    /// Since when media passes.
    up_since: Option<Duration>,
}

impl Downtime {
    /// Handles an interruption of media or a failed attempt.
    pub(super) fn on_down(&mut self, now: Duration) {
        if self.up_since.take().is_some_and(|up_since| now.saturating_sub(up_since) >= MIN_UPTIME) {
            *self = Self::default();
        }
        self.since.get_or_insert(now);
    }

    /// Handles a connection attempt.
    pub(super) fn on_attempt(&mut self) {
        if self.since.is_some() {
            self.attempts = self.attempts.saturating_add(1);
        }
    }

    /// Handles media.
    pub(super) fn on_up(&mut self, now: Duration) {
        if self.since.is_some() {
            self.up_since.get_or_insert(now);
        }
    }

    /// Resets the downtime when the machine is switched off.
    pub(super) fn reset(&mut self) {
        *self = Self::default();
    }

    /// Returns when it went down; `None` while media passes.
    pub(super) fn since(&self) -> Option<Duration> {
        self.since.filter(|_| self.up_since.is_none())
    }

    /// Returns the number of connection attempts since it went down.
    pub(super) fn attempts(&self) -> u32 {
        if self.since().is_some() { self.attempts } else { 0 }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn s(seconds: u64) -> Duration {
        Duration::from_secs(seconds)
    }

    #[test]
    fn downtime_lasts_over_all_attempts() {
        let mut downtime = Downtime::default();
        assert_eq!((downtime.since(), downtime.attempts()), (None, 0));
        downtime.on_down(s(10));
        for attempt in 0..5 {
            downtime.on_attempt();
            downtime.on_down(s(20 + attempt));
        }
        assert_eq!((downtime.since(), downtime.attempts()), (Some(s(10)), 5));
        downtime.on_up(s(30));
        assert_eq!((downtime.since(), downtime.attempts()), (None, 0));
    }

    #[test]
    fn short_return_does_not_end_it() {
        let mut downtime = Downtime::default();
        downtime.on_down(s(10));
        downtime.on_attempt();
        downtime.on_up(s(20));
        downtime.on_down(s(25));
        assert_eq!((downtime.since(), downtime.attempts()), (Some(s(10)), 1));
        downtime.on_up(s(30));
        downtime.on_down(s(50));
        assert_eq!((downtime.since(), downtime.attempts()), (Some(s(50)), 0));
    }
}
