//! Colors of text output.

use std::io::{self, IsTerminal as _};

use yonder_core::{ConditionLevel, FeedPhase, PushPhase};

/// Style of a text. Colors never carry information of their own.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Tone {
    Strong,
    Quiet,
    Good,
    Wait,
    Bad,
}

impl Tone {
    /// Returns the style of a feed's state.
    pub(crate) fn of_feed(state: FeedPhase) -> Self {
        match state {
            FeedPhase::Off => Self::Quiet,
            FeedPhase::Flowing => Self::Good,
            FeedPhase::Dialing | FeedPhase::Waiting => Self::Wait,
            FeedPhase::Stalled | FeedPhase::Blocked => Self::Bad,
        }
    }

    /// Returns the style of a push's state.
    pub(crate) fn of_push(state: PushPhase) -> Self {
        match state {
            PushPhase::Off => Self::Quiet,
            PushPhase::Live => Self::Good,
            PushPhase::Dialing | PushPhase::Waiting | PushPhase::Holding => Self::Wait,
            PushPhase::Lagging | PushPhase::Blocked => Self::Bad,
        }
    }

    /// Returns the style of a logbook line's state or action.
    pub(crate) fn of_entry(what: &str) -> Self {
        let feed = FeedPhase::from_name(what).map(Self::of_feed);
        feed.or_else(|| PushPhase::from_name(what).map(Self::of_push)).unwrap_or(Self::Quiet)
    }

    /// Returns the style of a relay's condition.
    pub(crate) fn of_condition(level: ConditionLevel) -> Self {
        match level {
            ConditionLevel::Off => Self::Quiet,
            ConditionLevel::Good => Self::Good,
            ConditionLevel::Holding | ConditionLevel::Starting | ConditionLevel::Degraded => Self::Wait,
            ConditionLevel::Down | ConditionLevel::Blocked => Self::Bad,
        }
    }

    fn code(self) -> &'static str {
        match self {
            Self::Strong => "1",
            Self::Quiet => "2",
            Self::Good => "36",
            Self::Wait => "33",
            Self::Bad => "31",
        }
    }
}

/// Returns whether standard output has colors: on a terminal, unless `NO_COLOR` disables or `CLICOLOR_FORCE` enables them.
pub(crate) fn has_color() -> bool {
    let is_set = |name| std::env::var_os(name).is_some_and(|value| !value.is_empty());
    !is_set("NO_COLOR") && (is_set("CLICOLOR_FORCE") || io::stdout().is_terminal())
}

/// Formats text in a style.
pub(crate) fn colorize(text: &str, tone: Tone, color: bool) -> String {
    if !color { text.to_owned() } else { format!("\x1b[{}m{text}\x1b[0m", tone.code()) }
}
