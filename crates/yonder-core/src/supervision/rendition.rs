//! Supervision of one rendition: restarts after failures, and overload.
//!
//! ```text
//!   Stopped(until) ──started──▶ Running ──frames skipped──▶ Overloaded
//!        ▲                        │  ▲                        │   │
//!        └───────── failed ───────┘  └── nothing skipped ─────┘   │
//!        └──────────────────────── failed ────────────────────────┘
//! ```

use std::time::Duration;

use crate::cause::{Cause, CauseCode};

use super::backoff::Backoff;

/// First delay of a restart. Delays grow to half a minute, so that a stream that always fails costs little.
const FIRST_DELAY: Duration = Duration::from_secs(1);
const MAX_DELAY: Duration = Duration::from_secs(30);
const JITTER_PERCENT: u32 = 20;
/// Running for this long resets the backoff.
const STABLE_AFTER: Duration = Duration::from_secs(60);
/// A rendition counts as overloaded until nothing was skipped for this long.
const OVERLOAD_HYSTERESIS: Duration = Duration::from_secs(10);

/// State of a rendition.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RenditionState {
    /// Not running; it starts at this time.
    Stopped {
        /// Time of the start.
        until: Duration,
    },
    /// Running.
    Running,
    /// Running, but slower than the feed: frames are skipped.
    Overloaded,
}

/// Supervisor of one rendition.
#[derive(Debug, Clone)]
pub struct RenditionMachine {
    state: RenditionState,
    cause: Option<Cause>,
    backoff: Backoff,
    started_at: Duration,
    skipped_at: Duration,
    restarts: u64,
}

impl RenditionMachine {
    /// Creates a machine that starts at `now`; `seed` determines the jitter.
    #[must_use]
    pub fn new(seed: u64, now: Duration) -> Self {
        Self {
            state: RenditionState::Stopped { until: now },
            cause: None,
            backoff: Backoff::new(FIRST_DELAY, MAX_DELAY, JITTER_PERCENT, seed),
            started_at: now,
            skipped_at: now,
            restarts: 0,
        }
    }

    /// Returns the state.
    #[must_use]
    pub fn state(&self) -> RenditionState {
        self.state
    }

    /// Returns the cause of a failure or an overload.
    #[must_use]
    pub fn cause(&self) -> Option<&Cause> {
        self.cause.as_ref()
    }

    /// Returns the number of failures so far.
    #[must_use]
    pub fn restarts(&self) -> u64 {
        self.restarts
    }

    /// Returns the time of the next start; `None` while it runs.
    #[must_use]
    pub fn start_at(&self) -> Option<Duration> {
        match self.state {
            RenditionState::Stopped { until } => Some(until),
            RenditionState::Running | RenditionState::Overloaded => None,
        }
    }

    /// Handles a start.
    pub fn on_started(&mut self, now: Duration) {
        self.started_at = now;
        self.cause = None;
        self.state = RenditionState::Running;
    }

    /// Handles a failure. `reason` is a part of a sentence, such as the text of an error.
    pub fn on_failed(&mut self, reason: &str, now: Duration) {
        if now.saturating_sub(self.started_at) >= STABLE_AFTER {
            self.backoff.reset();
        }
        self.restarts += 1;
        let message = format!("The adapted stream for this destination has failed: {reason}.");
        self.cause = Some(Cause::new(CauseCode::PushRenditionFailed, message));
        self.state = RenditionState::Stopped { until: now + self.backoff.next_delay() };
    }

    /// Handles skipped frames.
    pub fn on_skipped(&mut self, now: Duration) {
        self.skipped_at = now;
        if self.state == RenditionState::Running {
            let message =
                "This machine is too slow to adapt the stream for this destination: frames are skipped.";
            self.cause = Some(Cause::new(CauseCode::PushRenditionOverloaded, message));
            self.state = RenditionState::Overloaded;
        }
    }

    /// Ends an overload once nothing was skipped for ten seconds.
    pub fn on_tick(&mut self, now: Duration) {
        if self.state == RenditionState::Overloaded
            && now.saturating_sub(self.skipped_at) >= OVERLOAD_HYSTERESIS
        {
            self.cause = None;
            self.state = RenditionState::Running;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn s(seconds: u64) -> Duration {
        Duration::from_secs(seconds)
    }

    fn code(machine: &RenditionMachine) -> Option<CauseCode> {
        machine.cause().map(|cause| cause.code)
    }

    #[test]
    fn failures_are_retried_with_growing_delays_until_it_runs_for_long() {
        let mut machine = RenditionMachine::new(1, s(5));
        assert_eq!(machine.start_at(), Some(s(5)));
        let mut now = s(5);
        let mut delays = Vec::new();
        for _ in 0..8 {
            machine.on_started(now);
            assert_eq!((machine.start_at(), machine.cause()), (None, None));
            machine.on_failed("the encoder failed", now);
            let next = machine.start_at().unwrap();
            delays.push(next - now);
            now = next;
        }
        assert!(delays[0] <= s(2) && delays[7] >= s(24) && delays[7] <= s(30), "{delays:?}");
        assert_eq!((code(&machine), machine.restarts()), (Some(CauseCode::PushRenditionFailed), 8));
        machine.on_started(now);
        machine.on_failed("the encoder failed", now + s(60));
        assert!(machine.start_at().unwrap() <= now + s(62));
    }

    #[test]
    fn overload_ends_once_nothing_is_skipped() {
        let mut machine = RenditionMachine::new(1, s(0));
        machine.on_started(s(0));
        machine.on_skipped(s(1));
        assert_eq!(
            (machine.state(), code(&machine)),
            (RenditionState::Overloaded, Some(CauseCode::PushRenditionOverloaded))
        );
        machine.on_skipped(s(5));
        machine.on_tick(s(14));
        assert_eq!(machine.state(), RenditionState::Overloaded);
        machine.on_tick(s(15));
        assert_eq!((machine.state(), machine.cause()), (RenditionState::Running, None));
    }

    #[test]
    fn failure_during_an_overload_replaces_its_cause() {
        let mut machine = RenditionMachine::new(1, s(0));
        machine.on_started(s(0));
        machine.on_skipped(s(1));
        machine.on_failed("its thread has panicked", s(2));
        machine.on_skipped(s(2));
        assert_eq!(code(&machine), Some(CauseCode::PushRenditionFailed));
        assert!(machine.start_at().is_some());
    }
}
