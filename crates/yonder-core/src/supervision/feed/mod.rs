//! Supervision of one feed.
//!
//! ```text
//!        enabled           flowing           silent
//!   Off ─────────▶ Dialing ───────▶ Flowing ◀──────▶ Stalled
//!                   ▲   │ failed       │ failed         │ failed
//!                   │   ▼              ▼                │
//!                   ├─ Waiting ◀───────┴────────────────╯
//!                   └─ Blocked   (a person is needed; retried at long intervals)
//! ```

use std::time::Duration;

use crate::cause::{Cause, CauseCode};

use super::backoff::Backoff;
use super::downtime::Downtime;
use super::policy::{FailureClass, History, RetryPolicy};
use super::ration::CredentialRation;
use super::schedule::RetrySchedule;
use super::{Decision, FeedPhase};

/// First retry delay. Cameras return suddenly, and each second is visible.
const FIRST_DELAY: Duration = Duration::from_secs(1);
const MAX_DELAY: Duration = Duration::from_secs(5);
const JITTER_PERCENT: u32 = 10;
/// Probe interval of an absent camera.
const PROBE_INTERVAL: Duration = Duration::from_millis(700);
/// Probe interval after [`PROBE_CALMS_AFTER`], since each probe costs traffic on metered uplinks.
const CALM_PROBE_INTERVAL: Duration = Duration::from_secs(3);
const PROBE_CALMS_AFTER: Duration = Duration::from_secs(10 * 60);
/// Time of the next attempt of a feed that listens for a publisher: there is none.
const NEVER: Duration = Duration::MAX;
/// Minimum time in `Flowing` before a feed counts as stalled, so that an intermittent camera does not make the state flap.
const MIN_FLOWING: Duration = Duration::from_secs(1);

/// State of a feed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FeedState {
    /// Switched off.
    Off,
    /// Connecting to the camera.
    Dialing,
    /// Video frames arrive.
    Flowing,
    /// Connected, but no video arrives.
    Stalled,
    /// Disconnected until the next attempt.
    Waiting {
        /// Time of the next attempt.
        until: Duration,
    },
    /// A person is needed; retried at long intervals.
    Blocked {
        /// Time of the next attempt.
        until: Duration,
    },
}

impl From<FeedState> for FeedPhase {
    fn from(state: FeedState) -> Self {
        match state {
            FeedState::Off => Self::Off,
            FeedState::Dialing => Self::Dialing,
            FeedState::Flowing => Self::Flowing,
            FeedState::Stalled => Self::Stalled,
            FeedState::Waiting { .. } => Self::Waiting,
            FeedState::Blocked { .. } => Self::Blocked,
        }
    }
}

impl FeedState {
    /// Returns the name of the state.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        FeedPhase::from(self).as_str()
    }

    /// Returns the time of the next attempt, if one is scheduled.
    #[must_use]
    pub fn retry_at(self) -> Option<Duration> {
        match self {
            Self::Waiting { until } | Self::Blocked { until } if until != NEVER => Some(until),
            _ => None,
        }
    }
}

/// Supervisor of one feed.
#[derive(Debug, Clone)]
pub struct FeedMachine {
    state: FeedState,
    since: Duration,
    cause: Option<Cause>,
    schedule: RetrySchedule,
    ration: CredentialRation,
    history: History,
    downtime: Downtime,
    has_flowed: bool,
    reconnects: u64,
    must_dial: bool,
    /// Since when the camera has been absent without interruption.
    absent_since: Option<Duration>,
    /// The feed is published: it waits for an encoder in place of connecting.
    listens: bool,
    /// Retry policy of the last failure; [`RetryPolicy::Retry`] once the feed flows.
    policy: RetryPolicy,
}

impl FeedMachine {
    /// Creates a machine that is off; `seed` determines the jitter.
    #[must_use]
    pub fn new(seed: u64, now: Duration) -> Self {
        let backoff = Backoff::new(FIRST_DELAY, MAX_DELAY, JITTER_PERCENT, seed);
        Self {
            state: FeedState::Off,
            since: now,
            cause: None,
            schedule: RetrySchedule::new(backoff),
            ration: CredentialRation::default(),
            history: History::default(),
            downtime: Downtime::default(),
            has_flowed: false,
            reconnects: 0,
            must_dial: false,
            absent_since: None,
            listens: false,
            policy: RetryPolicy::Retry,
        }
    }

    /// Sets whether the feed is published by an encoder, before it is enabled.
    pub fn set_listens(&mut self, listens: bool) {
        self.listens = listens;
    }

    /// Handles an encoder that has begun to publish.
    pub fn on_publisher(&mut self, now: Duration) {
        if self.listens && matches!(self.state, FeedState::Waiting { .. }) {
            self.downtime.on_attempt();
            self.enter(FeedState::Dialing, now);
        }
    }

    /// Returns the state.
    #[must_use]
    pub fn state(&self) -> FeedState {
        self.state
    }

    /// Returns when the state began.
    #[must_use]
    pub fn since(&self) -> Duration {
        self.since
    }

    /// Returns why the feed does not flow.
    #[must_use]
    pub fn cause(&self) -> Option<&Cause> {
        self.cause.as_ref()
    }

    /// Returns how often video came back after a disconnection.
    #[must_use]
    pub fn reconnects(&self) -> u64 {
        self.reconnects
    }

    /// Returns which parts of the feed's configuration have worked since they were set.
    #[must_use]
    pub fn history(&self) -> History {
        self.history
    }

    /// Returns when it went down, over all attempts; `None` while media passes and before the first failure.
    #[must_use]
    pub fn down_since(&self) -> Option<Duration> {
        self.downtime.since()
    }

    /// Returns the number of connection attempts since it went down.
    #[must_use]
    pub fn attempts(&self) -> u32 {
        self.downtime.attempts()
    }

    /// Returns true while a person may be needed: the feed is blocked, or retried at long intervals only.
    #[must_use]
    pub fn needs_attention(&self) -> bool {
        self.policy != RetryPolicy::Retry
    }

    /// Sets which parts of the configuration have worked, after a change of address or credentials.
    pub fn set_history(&mut self, history: History) {
        self.history = history;
    }

    /// Enables or disables the feed. Enabling a blocked feed retries at once.
    pub fn set_enabled(&mut self, enabled: bool, now: Duration) {
        if !enabled {
            self.has_flowed = false;
            self.cause = None;
            self.must_dial = false;
            self.absent_since = None;
            self.downtime.reset();
            self.policy = RetryPolicy::Retry;
            self.enter(FeedState::Off, now);
        } else if matches!(self.state, FeedState::Off | FeedState::Blocked { .. }) {
            self.schedule.reset();
            self.ration.reset();
            self.policy = RetryPolicy::Retry;
            self.cause = None;
            if self.listens {
                self.cause = Some(no_publisher());
                self.enter(FeedState::Waiting { until: NEVER }, now);
            } else {
                self.dial(now);
            }
        }
    }

    /// Handles a video frame. Audio alone does not make a feed flow.
    pub fn on_flowing(&mut self, now: Duration) {
        if matches!(self.state, FeedState::Dialing | FeedState::Stalled) {
            if self.has_flowed && self.state == FeedState::Dialing {
                self.reconnects += 1;
            }
            self.has_flowed = true;
            self.history = History::PROVEN;
            self.policy = RetryPolicy::Retry;
            self.cause = None;
            self.absent_since = None;
            self.downtime.on_up(now);
            self.schedule.reset();
            self.ration.reset();
            self.enter(FeedState::Flowing, now);
        }
    }

    /// Handles the absence of video on an open connection, before the owner closes it.
    pub fn on_silent(&mut self, cause: Cause, now: Duration) {
        if self.state == FeedState::Flowing && now.saturating_sub(self.since) >= MIN_FLOWING {
            self.cause = Some(cause);
            self.downtime.on_down(now);
            self.enter(FeedState::Stalled, now);
        }
    }

    /// Handles an obstacle that does not end the connection. It is shown while the feed connects, and while it flows without
    /// keyframes.
    pub fn on_warning(&mut self, cause: Option<Cause>) {
        if matches!(self.state, FeedState::Dialing | FeedState::Flowing) {
            self.cause = cause;
        }
    }

    /// Handles a connection that failed or could not be made.
    pub fn on_failed(&mut self, cause: Cause, now: Duration) {
        if matches!(self.state, FeedState::Off | FeedState::Blocked { .. }) {
            return;
        }
        // The failure answers a pending dial.
        self.must_dial = false;
        self.downtime.on_down(now);
        if self.listens {
            self.cause = Some(cause);
            self.enter(FeedState::Waiting { until: NEVER }, now);
            return;
        }
        let class = FailureClass::of(cause.code);
        if class == FailureClass::Credentials {
            self.ration.on_refused(now);
        }
        let next = self.schedule.on_failed(class, self.history, now, self.ration.next_try());
        self.policy = next.policy;
        self.absent_since = if is_absence(cause.code) { self.absent_since.or(Some(now)) } else { None };
        self.cause = Some(cause);
        let state = match next.policy {
            RetryPolicy::Retry | RetryPolicy::RetrySlowly => FeedState::Waiting { until: next.at },
            RetryPolicy::Block => FeedState::Blocked { until: next.at },
        };
        self.enter(state, now);
    }

    /// Returns the interval of probes of an absent camera (a TCP connection that is closed at once). When a probe
    /// succeeds, the camera is dialed whatever the backoff. `None` while there is nothing to probe.
    #[must_use]
    pub fn probe_interval(&self, now: Duration) -> Option<Duration> {
        let since = self.absent_since.filter(|_| matches!(self.state, FeedState::Waiting { .. }))?;
        let is_calm = now.saturating_sub(since) >= PROBE_CALMS_AFTER;
        Some(if is_calm { CALM_PROBE_INTERVAL } else { PROBE_INTERVAL })
    }

    /// Handles a successful probe: the camera is back.
    pub fn on_probe_answered(&mut self, now: Duration) {
        if self.probe_interval(now).is_some() {
            self.dial(now);
        }
    }

    /// Returns the next step. `Dial` is returned only once.
    pub fn decide(&mut self, now: Duration) -> Decision {
        if let Some(until) = self.state.retry_at() {
            if now < until {
                return Decision::WaitUntil(until);
            }
            self.dial(now);
        }
        if std::mem::take(&mut self.must_dial) { Decision::Dial } else { Decision::Idle }
    }

    fn dial(&mut self, now: Duration) {
        self.must_dial = true;
        self.downtime.on_attempt();
        self.enter(FeedState::Dialing, now);
    }

    fn enter(&mut self, state: FeedState, now: Duration) {
        if state != self.state {
            self.state = state;
            self.since = now;
        }
    }
}

/// Returns the cause of a published feed before its first publisher.
fn no_publisher() -> Cause {
    Cause::new(CauseCode::FeedNoPublisher, "No encoder publishes to this feed.")
}

/// Returns true for a failure in which nothing answers at the camera's address.
fn is_absence(code: CauseCode) -> bool {
    matches!(
        code,
        CauseCode::FeedConnectionRefused
            | CauseCode::FeedUnreachable
            | CauseCode::FeedNoAnswer
            | CauseCode::FeedNameNotFound
    )
}

#[cfg(test)]
mod tests;
