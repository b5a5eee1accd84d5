//! The record: what happened (the logbook), what was down and on whose side (outages), and how much of the time in
//! which it should have run it did (the report).
//!
//! Times are wall times in milliseconds since 1970: the record is compared with other people's clocks.

mod day;
mod recorder;
mod report;

pub use day::{Level, StateBegan, day};
pub use recorder::{OpenRun, Recorder};
pub use report::{Line, Share, Span, SpanOutage, report};

use crate::cause::Side;
use crate::supervision::{FeedPhase, Phase};

/// Subject of the record.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Subject {
    /// A feed, by name.
    Feed(String),
    /// A relay as a whole, by name: up while its feed and all its pushes are.
    Relay(String),
    /// A push, by the names of its relay and its destination.
    Push(String, String),
}

/// Why something was down.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Blame {
    /// Stable code.
    pub code: String,
    /// Fault domain.
    pub side: Side,
    /// One sentence.
    pub message: String,
}

impl Blame {
    /// Cause of an interruption by a change that a person made.
    #[must_use]
    pub fn change() -> Self {
        Self::new("service.change", Side::Planned, "A change of its settings took effect.")
    }

    /// The service was stopped in order.
    #[must_use]
    pub fn stopped() -> Self {
        Self::new("service.stopped", Side::Planned, "The service was stopped.")
    }

    /// Cause of an end of the service without an orderly stop: a crash, or a power cut.
    #[must_use]
    pub fn not_running() -> Self {
        Self::new("service.not-running", Side::Ours, "The service was not running: a crash, or a power cut.")
    }

    fn new(code: &str, side: Side, message: &str) -> Self {
        Self { code: code.to_owned(), side, message: message.to_owned() }
    }

    /// Returns true for a cause that names an action of ours, not a fault outside: a later cause replaces it.
    #[must_use]
    pub fn is_our_doing(&self) -> bool {
        self.code.starts_with("service.")
    }
}

/// How a subject that should run looks at one moment.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sight {
    /// Subject.
    pub subject: Subject,
    /// State.
    pub state: Phase,
    /// When the state began.
    pub since_ms: i64,
    /// Why it is not up, where that is known.
    pub blame: Option<Blame>,
    /// Silence rule of the platform, for a push that holds.
    pub silence: Option<Silence>,
}

/// A platform that ends a broadcast for which nothing comes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Silence {
    /// Name of the platform.
    pub platform: String,
    /// Seconds that a broadcast survives.
    pub survives_s: u32,
}

impl Sight {
    /// Pictures pass: a feed that flows, a push that is live, holds or lags.
    #[must_use]
    pub fn is_up(&self) -> bool {
        self.state.is_up()
    }
}

/// A relay as a whole, by its feed and its pushes: the first of them that is down tells why.
#[must_use]
pub fn relay_sight(relay: &str, feed: &Sight, pushes: &[Sight]) -> Sight {
    let down = std::iter::once(feed).chain(pushes).find(|sight| !sight.is_up());
    let latest = std::iter::once(feed).chain(pushes).map(|sight| sight.since_ms).max();
    let is_down_since = down.map(|sight| sight.since_ms);
    Sight {
        subject: Subject::Relay(relay.to_owned()),
        state: down.map_or(Phase::Feed(FeedPhase::Flowing), |sight| sight.state),
        since_ms: is_down_since.or(latest).unwrap_or(feed.since_ms),
        blame: down.and_then(|sight| sight.blame.clone()),
        silence: None,
    }
}

/// Entry to be written to the record.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Note {
    /// A line of the logbook: a state with its cause.
    State {
        /// When.
        at_ms: i64,
        /// Subject.
        subject: Subject,
        /// State.
        state: Phase,
        /// Why, where there is a cause.
        blame: Option<Blame>,
        /// Remark.
        remark: Option<String>,
    },
    /// From now on it should run.
    RunBegan {
        /// When.
        at_ms: i64,
        /// Subject.
        subject: Subject,
    },
    /// It need not run any more. An outage that is open ends with it.
    RunEnded {
        /// When.
        at_ms: i64,
        /// Subject.
        subject: Subject,
    },
    /// It is down.
    OutageBegan {
        /// When.
        at_ms: i64,
        /// Subject.
        subject: Subject,
        /// Why.
        blame: Blame,
    },
    /// It is up again, or down for another reason that follows.
    OutageEnded {
        /// When.
        at_ms: i64,
        /// Subject.
        subject: Subject,
    },
}
