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

/// What is watched.
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
    /// Whose side it is on.
    pub side: Side,
    /// One sentence.
    pub message: String,
}

impl Blame {
    /// A person changed something, and what ran had to begin anew.
    #[must_use]
    pub fn change() -> Self {
        Self::new("service.change", Side::Planned, "A change of its settings took effect.")
    }

    /// The service was stopped in order.
    #[must_use]
    pub fn stopped() -> Self {
        Self::new("service.stopped", Side::Planned, "The service was stopped.")
    }

    /// The service ended without being told to: a crash, or the power.
    #[must_use]
    pub fn not_running() -> Self {
        Self::new("service.not-running", Side::Ours, "The service was not running: a crash, or a power cut.")
    }

    fn new(code: &str, side: Side, message: &str) -> Self {
        Self { code: code.to_owned(), side, message: message.to_owned() }
    }

    /// It says what we did, not what is wrong outside: a cause that shows itself later is to be told apart.
    #[must_use]
    pub fn is_our_doing(&self) -> bool {
        self.code.starts_with("service.")
    }
}

/// How a subject that should run looks at one moment.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sight {
    /// What.
    pub subject: Subject,
    /// State.
    pub state: Phase,
    /// When the state began.
    pub since_ms: i64,
    /// Why it is not up, where that is known.
    pub blame: Option<Blame>,
    /// What its platform does about silence; of a push that holds.
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

/// What is to be written down.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Note {
    /// A line of the logbook: a state with its cause.
    State {
        /// When.
        at_ms: i64,
        /// What.
        subject: Subject,
        /// State.
        state: Phase,
        /// Why, where there is a cause.
        blame: Option<Blame>,
        /// What else is worth a word.
        remark: Option<String>,
    },
    /// From now on it should run.
    RunBegan {
        /// When.
        at_ms: i64,
        /// What.
        subject: Subject,
    },
    /// It need not run any more. An outage that is open ends with it.
    RunEnded {
        /// When.
        at_ms: i64,
        /// What.
        subject: Subject,
    },
    /// It is down.
    OutageBegan {
        /// When.
        at_ms: i64,
        /// What.
        subject: Subject,
        /// Why.
        blame: Blame,
    },
    /// It is up again, or down for another reason that follows.
    OutageEnded {
        /// When.
        at_ms: i64,
        /// What.
        subject: Subject,
    },
}
