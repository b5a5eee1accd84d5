//! History: the logbook (events), outages with their fault domains, and the availability report.
//!
//! Times are wall clock times in milliseconds since 1970, so that they can be compared with other systems.

mod day;
mod outage_tracker;
mod report;

pub use day::{DayLevel, StateBegan, day};
pub use outage_tracker::{OpenRun, OutageTracker};
pub use report::{Line, Share, Span, SpanOutage, report};

use crate::cause::FaultDomain;
use crate::supervision::{FeedPhase, Phase};

/// Subject of a history entry.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Subject {
    /// Feed, by name.
    Feed(String),
    /// Relay as a whole, by name: up while its feed and all its pushes are.
    Relay(String),
    /// Push, by the names of its relay and its destination.
    Push(String, String),
}

/// Cause of an outage.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OutageCause {
    /// Stable code of the cause.
    pub code: String,
    /// Fault domain.
    pub side: FaultDomain,
    /// Message, in one sentence.
    pub message: String,
}

impl OutageCause {
    /// Returns the cause of an interruption by a change of settings.
    #[must_use]
    pub fn change() -> Self {
        Self::new("service.change", FaultDomain::Planned, "A change of its settings took effect.")
    }

    /// Returns the cause of an orderly stop of the service.
    #[must_use]
    pub fn stopped() -> Self {
        Self::new("service.stopped", FaultDomain::Planned, "The service was stopped.")
    }

    /// Returns the cause of an end of the service without an orderly stop: a crash or a power failure.
    #[must_use]
    pub fn not_running() -> Self {
        Self::new(
            "service.not-running",
            FaultDomain::Service,
            "The service was not running: a crash, or a power cut.",
        )
    }

    fn new(code: &str, side: FaultDomain, message: &str) -> Self {
        Self { code: code.to_owned(), side, message: message.to_owned() }
    }

    /// Returns true for a cause that is an action of an operator or of the service: a later cause replaces it.
    #[must_use]
    pub fn is_our_doing(&self) -> bool {
        self.code.starts_with("service.")
    }
}

/// Status of a subject that should run, at one moment.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StatusSample {
    /// Subject.
    pub subject: Subject,
    /// State.
    pub state: Phase,
    /// When the state began.
    pub since_ms: i64,
    /// Cause of a state that is not up, if known.
    pub cause: Option<OutageCause>,
    /// Silence limit of the platform, for a push that holds.
    pub silence: Option<Silence>,
}

/// Platform that ends a broadcast after a time without media.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Silence {
    /// Name of the platform.
    pub platform: String,
    /// Seconds that a broadcast survives without media.
    pub survives_s: u32,
}

impl StatusSample {
    /// Returns true while media passes: a feed that flows, a push that is live, holds or lags.
    #[must_use]
    pub fn is_up(&self) -> bool {
        self.state.is_up()
    }
}

/// Combines the status of a feed and its pushes to that of the relay. The first one that is down supplies the cause.
#[must_use]
pub fn relay_sample(relay: &str, feed: &StatusSample, pushes: &[StatusSample]) -> StatusSample {
    let down = std::iter::once(feed).chain(pushes).find(|sample| !sample.is_up());
    let latest = std::iter::once(feed).chain(pushes).map(|sample| sample.since_ms).max();
    let is_down_since = down.map(|sample| sample.since_ms);
    StatusSample {
        subject: Subject::Relay(relay.to_owned()),
        state: down.map_or(Phase::Feed(FeedPhase::Flowing), |sample| sample.state),
        since_ms: is_down_since.or(latest).unwrap_or(feed.since_ms),
        cause: down.and_then(|sample| sample.cause.clone()),
        silence: None,
    }
}

/// Entry to be written to the history.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum HistoryEvent {
    /// Change of state, for the logbook.
    State {
        /// Time of the change.
        at_ms: i64,
        /// Subject.
        subject: Subject,
        /// State.
        state: Phase,
        /// Cause, if there is one.
        cause: Option<OutageCause>,
        /// Remark.
        remark: Option<String>,
    },
    /// A run begins: from now on the subject should be up.
    RunBegan {
        /// Time.
        at_ms: i64,
        /// Subject.
        subject: Subject,
    },
    /// A run ends, and an open outage with it.
    RunEnded {
        /// Time.
        at_ms: i64,
        /// Subject.
        subject: Subject,
    },
    /// An outage begins.
    OutageBegan {
        /// Time.
        at_ms: i64,
        /// Subject.
        subject: Subject,
        /// Cause.
        cause: OutageCause,
    },
    /// An outage ends; another one may follow with another cause.
    OutageEnded {
        /// Time.
        at_ms: i64,
        /// Subject.
        subject: Subject,
    },
}
