//! Supervision of one push.
//!
//! ```text
//!            enable                  source, retry due          first unit sent
//!   Off ───────────▶ Waiting(None) ───────────────▶ Dialing ─────────────────────▶ Live ◀─▶ Lagging  (backlog)
//!                     ▲   ▲                          │  ▲                          │ ▲
//!                     │   │               failed     │  │ retry due                │ │ source changes
//!                     │   └── Waiting(until) ◀───────┤  │                          ▼ │
//!                     │           │                  │  └─ Waiting(until)         Holding
//!                     │           └──────────────────┼──▶ Dialing
//!                     │   refused, never worked      │
//!                     │             Blocked(until) ◀─┘   retried slowly, or at once when enabled again
//!                     └── no source: neither feed nor slate (from Live, Lagging and Holding, connection kept)
//! ```
//!
//! Every state leads to `Off` when the push is disabled, and every sending state to `Waiting(until)` or `Blocked` when the
//! connection fails.
//!
//! A push connects only while there is a source, the feed or the slate: a platform should not see a broadcast without video.
//! Once live it stays connected without a source for as long as the platform keeps the connection.

mod routes;

use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::cause::Cause;

use super::backoff::Backoff;
use super::downtime::Downtime;
use super::policy::{FailureClass, History, RetryPolicy};
use super::schedule::RetrySchedule;
use super::{Decision, PushPhase};

use routes::Routes;

/// First retry delay. Delays grow to half a minute, with jitter, so that platforms do not ban the address.
const FIRST_DELAY: Duration = Duration::from_secs(1);
const MAX_DELAY: Duration = Duration::from_secs(30);
const JITTER_PERCENT: u32 = 20;
/// A broadcast of this length resets the backoff.
const STABLE_AFTER: Duration = Duration::from_secs(10);

/// A push counts as lagging until its backlog has been small for this long: a reader that skips to the newest keyframe has no
/// backlog for a moment, again and again.
const LAG_HYSTERESIS: Duration = Duration::from_secs(10);

/// Role of a server of a destination.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum ServerRole {
    /// The preferred one.
    #[default]
    Main,
    /// The backup server.
    Backup,
}

impl ServerRole {
    /// Returns the name of the role.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Main => "main",
            Self::Backup => "backup",
        }
    }
}

/// Source on a relay's output.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Source {
    /// None: the feed is away and there is no slate.
    #[default]
    Away,
    /// The feed.
    Feed,
    /// The slate.
    Holding,
}

/// State of a push.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PushState {
    /// Switched off.
    Off,
    /// Connecting to the platform.
    Dialing,
    /// The platform receives the feed.
    Live,
    /// The platform receives the slate.
    Holding,
    /// Live, but the backlog grows.
    Lagging,
    /// Disconnected until the next attempt, or without a source to send.
    Waiting {
        /// Time of the next attempt; `None` without a source to send.
        until: Option<Duration>,
    },
    /// A person is needed.
    Blocked {
        /// Time of the next attempt.
        until: Duration,
    },
}

impl From<PushState> for PushPhase {
    fn from(state: PushState) -> Self {
        match state {
            PushState::Off => Self::Off,
            PushState::Dialing => Self::Dialing,
            PushState::Live => Self::Live,
            PushState::Holding => Self::Holding,
            PushState::Lagging => Self::Lagging,
            PushState::Waiting { .. } => Self::Waiting,
            PushState::Blocked { .. } => Self::Blocked,
        }
    }
}

impl PushState {
    /// Returns the name of the state.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        PushPhase::from(self).as_str()
    }

    /// Returns the time of the next attempt, if one is scheduled.
    #[must_use]
    pub fn retry_at(self) -> Option<Duration> {
        match self {
            Self::Waiting { until } => until,
            Self::Blocked { until } => Some(until),
            _ => None,
        }
    }

    /// Returns true while media is sent to the platform.
    #[must_use]
    pub fn is_sending(self) -> bool {
        PushPhase::from(self).is_sending()
    }
}

/// Supervisor of one push.
#[derive(Debug, Clone)]
pub struct PushMachine {
    state: PushState,
    since: Duration,
    cause: Option<Cause>,
    schedule: RetrySchedule,
    history: History,
    downtime: Downtime,
    live_since: Option<Duration>,
    was_live: bool,
    connected: bool,
    /// When the backlog was last too large.
    lagged_at: Duration,
    source: Source,
    reconnects: u64,
    routes: Routes,
    /// Retry policy of the last failure; [`RetryPolicy::Retry`] once the push is live.
    policy: RetryPolicy,
}

impl PushMachine {
    /// Creates a machine that is off, with one route; `seed` determines the jitter.
    #[must_use]
    pub fn new(seed: u64, now: Duration) -> Self {
        let backoff = Backoff::new(FIRST_DELAY, MAX_DELAY, JITTER_PERCENT, seed);
        Self {
            state: PushState::Off,
            since: now,
            cause: None,
            schedule: RetrySchedule::new(backoff),
            history: History::default(),
            downtime: Downtime::default(),
            live_since: None,
            was_live: false,
            connected: false,
            lagged_at: Duration::ZERO,
            source: Source::Away,
            reconnects: 0,
            routes: Routes::new(1, Duration::ZERO),
            policy: RetryPolicy::Retry,
        }
    }

    /// Sets the number of routes to the platform (server and uplink), the preferred one first, and for how long a
    /// better one must be reachable before the push returns to it.
    #[must_use]
    pub fn with_routes(mut self, count: usize, failback_delay: Duration) -> Self {
        self.routes = Routes::new(count, failback_delay);
        self
    }

    /// Replaces the routes. `current` is the index of the route in use among the new ones; `None` if it was removed.
    pub fn replace_routes(&mut self, count: usize, failback_delay: Duration, current: Option<usize>) {
        self.routes.replace(count, failback_delay, current);
    }

    /// Returns the index of the route in use or to be tried next; 0 is preferred.
    #[must_use]
    pub fn route(&self) -> usize {
        self.routes.current()
    }

    /// Returns the state.
    #[must_use]
    pub fn state(&self) -> PushState {
        self.state
    }

    /// Returns when the state began.
    #[must_use]
    pub fn since(&self) -> Duration {
        self.since
    }

    /// Returns why the push is not live.
    #[must_use]
    pub fn cause(&self) -> Option<&Cause> {
        self.cause.as_ref()
    }

    /// Returns when the broadcast began, while it is connected.
    #[must_use]
    pub fn live_since(&self) -> Option<Duration> {
        self.live_since.filter(|_| self.connected)
    }

    /// Returns the number of reconnections.
    #[must_use]
    pub fn reconnects(&self) -> u64 {
        self.reconnects
    }

    /// Returns which parts of the destination have worked since they were set.
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

    /// Returns true while a person may be needed: the push is blocked, or retried at long intervals only.
    #[must_use]
    pub fn needs_attention(&self) -> bool {
        self.policy != RetryPolicy::Retry
    }

    /// Sets which parts of the configuration have worked, after a change of servers or keys.
    pub fn set_history(&mut self, history: History) {
        self.history = history;
    }

    /// Enables or disables the push. Enabling a blocked push retries at once.
    pub fn set_enabled(&mut self, enabled: bool, now: Duration) {
        if !enabled {
            self.cause = None;
            self.was_live = false;
            self.connected = false;
            self.downtime.reset();
            self.routes.reset();
            self.policy = RetryPolicy::Retry;
            self.enter(PushState::Off, now);
        } else if matches!(self.state, PushState::Off | PushState::Blocked { .. }) {
            self.schedule.reset();
            self.routes.forget_refusals();
            self.policy = RetryPolicy::Retry;
            self.cause = None;
            self.enter(PushState::Waiting { until: None }, now);
        }
    }

    /// Handles a change of the source; `cause` is the reason why it is not the feed.
    pub fn on_source(&mut self, source: Source, cause: Option<&Cause>, now: Duration) {
        self.source = source;
        let waits = self.state == PushState::Waiting { until: None };
        if !waits && !self.state.is_sending() {
            return;
        }
        match source {
            Source::Away => {
                self.cause = cause.cloned();
                if self.was_live {
                    self.downtime.on_down(now);
                }
                self.enter(PushState::Waiting { until: None }, now);
            }
            _ if !self.connected => self.cause = None,
            Source::Feed if self.state == PushState::Lagging => {}
            Source::Feed => {
                self.cause = None;
                self.downtime.on_up(now);
                self.enter(PushState::Live, now);
            }
            Source::Holding => {
                self.cause = cause.cloned();
                self.downtime.on_up(now);
                self.enter(PushState::Holding, now);
            }
        }
    }

    /// Handles an obstacle that does not end the connection, while the push connects; `None` once it is gone.
    pub fn on_warning(&mut self, cause: Option<Cause>) {
        if self.state == PushState::Dialing {
            self.cause = cause;
        }
    }

    /// Handles the first unit that the platform received.
    pub fn on_live(&mut self, now: Duration) {
        if self.state != PushState::Dialing {
            return;
        }
        self.reconnects += u64::from(self.was_live);
        self.was_live = true;
        self.connected = true;
        self.live_since = Some(now);
        self.history = History::PROVEN;
        self.downtime.on_up(now);
        self.routes.on_live(now);
        self.schedule.forget_row();
        self.policy = RetryPolicy::Retry;
        self.cause = None;
        self.enter(PushState::Live, now);
    }

    /// Handles the state of the backlog: too large, with its cause, or small (`None`).
    pub fn on_backlog(&mut self, lagging: Option<Cause>, now: Duration) {
        if lagging.is_some() {
            self.lagged_at = now;
        }
        match (self.state, lagging) {
            (PushState::Live, Some(cause)) => {
                self.cause = Some(cause);
                self.enter(PushState::Lagging, now);
            }
            (PushState::Lagging, None) if now.saturating_sub(self.lagged_at) >= LAG_HYSTERESIS => {
                self.cause = None;
                self.enter(PushState::Live, now);
            }
            _ => {}
        }
    }

    /// Handles a connection that failed or could not be made.
    pub fn on_failed(&mut self, cause: Cause, now: Duration) {
        if matches!(self.state, PushState::Off | PushState::Blocked { .. }) {
            return;
        }
        self.connected = false;
        self.downtime.on_down(now);
        let failed_route = self.routes.current();
        let moved_on = self.routes.on_failed(cause.code, self.history, now);
        if self.live_since.take().is_some_and(|since| now.saturating_sub(since) >= STABLE_AFTER) {
            self.schedule.reset();
        }
        let code = cause.code;
        self.cause = Some(cause);
        if moved_on {
            // Another route is tried without the delay of this one. Delays grow with each round over all routes.
            self.enter(PushState::Waiting { until: Some(now + FIRST_DELAY) }, now);
            return;
        }
        let credentials_at = self.routes.credentials_at().max(now + FIRST_DELAY);
        // If a route may recover at any moment, the round is retried at the normal pace.
        let class = if self.routes.end_round() { FailureClass::Transient } else { FailureClass::of(code) };
        let next = self.schedule.on_failed(class, self.history, now, credentials_at);
        self.policy = next.policy;
        let state = match next.policy {
            RetryPolicy::Retry | RetryPolicy::RetrySlowly => {
                if next.policy == RetryPolicy::RetrySlowly && self.routes.current() == failed_route {
                    // At long intervals the routes are tried in turn.
                    self.routes.rotate(code, self.history, now);
                }
                let sooner = self.routes.move_before(next.at, now);
                let at = sooner.map_or(next.at, |at| at.max(now + FIRST_DELAY));
                PushState::Waiting { until: Some(at) }
            }
            RetryPolicy::Block => PushState::Blocked { until: next.at },
        };
        self.enter(state, now);
    }

    /// Records a probe of a better route. Returns true when the push should return to it: the owner then ends the
    /// connection in order and calls [`PushMachine::on_returned`].
    pub fn record_probe(&mut self, route: usize, is_reachable: bool, now: Duration) -> bool {
        self.connected && self.routes.record_probe(route, is_reachable, now)
    }

    /// Handles the orderly end of a connection that is replaced at once, over the better route or over the same one.
    pub fn on_returned(&mut self, now: Duration) {
        if matches!(self.state, PushState::Off | PushState::Blocked { .. }) {
            return;
        }
        self.connected = false;
        self.live_since = None;
        self.schedule.reset_backoff();
        self.routes.on_returned();
        self.enter(PushState::Waiting { until: Some(now) }, now);
    }

    /// Handles a redirect before the broadcast has begun. The next attempt follows at once, without resetting the backoff,
    /// since the new server may be the one that is unavailable.
    pub fn on_redirected(&mut self, now: Duration) {
        if matches!(self.state, PushState::Off | PushState::Blocked { .. }) {
            return;
        }
        self.connected = false;
        self.enter(PushState::Waiting { until: Some(now) }, now);
    }

    /// Returns the next step. `Dial` moves the machine to `Dialing`.
    pub fn decide(&mut self, now: Duration) -> Decision {
        let until = match self.state {
            PushState::Waiting { until } if !self.connected => until,
            PushState::Blocked { until } => Some(until),
            _ => return Decision::Idle,
        };
        match until {
            Some(until) if now < until => Decision::WaitUntil(until),
            _ if self.source != Source::Away => {
                self.downtime.on_attempt();
                self.enter(PushState::Dialing, now);
                Decision::Dial
            }
            _ => Decision::Idle,
        }
    }

    fn enter(&mut self, state: PushState, now: Duration) {
        if state != self.state {
            self.state = state;
            self.since = now;
        }
    }
}

#[cfg(test)]
mod tests;
