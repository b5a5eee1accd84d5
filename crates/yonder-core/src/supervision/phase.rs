//! States as shown in the API, the command line, the console, alerts and the history.

use serde::{Deserialize, Serialize};

/// State of a feed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum FeedPhase {
    /// Switched off.
    #[default]
    Off,
    /// Connecting to the camera.
    Dialing,
    /// Video arrives.
    Flowing,
    /// Connected, but no video arrives.
    Stalled,
    /// Disconnected until the next attempt.
    Waiting,
    /// A person is needed; retried at long intervals.
    Blocked,
}

impl FeedPhase {
    /// All states.
    pub const ALL: [Self; 6] =
        [Self::Off, Self::Dialing, Self::Flowing, Self::Stalled, Self::Waiting, Self::Blocked];

    /// Returns the name of the state.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Off => "off",
            Self::Dialing => "dialing",
            Self::Flowing => "flowing",
            Self::Stalled => "stalled",
            Self::Waiting => "waiting",
            Self::Blocked => "blocked",
        }
    }
}

/// State of a push.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum PushPhase {
    /// Switched off.
    #[default]
    Off,
    /// Connecting to the platform.
    Dialing,
    /// The platform receives the feed.
    Live,
    /// The platform receives the holding picture.
    Holding,
    /// Live, but the backlog grows.
    Lagging,
    /// Disconnected until the next attempt, or without a source to send.
    Waiting,
    /// A person is needed; retried at long intervals.
    Blocked,
}

impl PushPhase {
    /// All states.
    pub const ALL: [Self; 7] =
        [Self::Off, Self::Dialing, Self::Live, Self::Holding, Self::Lagging, Self::Waiting, Self::Blocked];

    /// Returns the name of the state.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Off => "off",
            Self::Dialing => "dialing",
            Self::Live => "live",
            Self::Holding => "holding",
            Self::Lagging => "lagging",
            Self::Waiting => "waiting",
            Self::Blocked => "blocked",
        }
    }

    /// Returns true while media is sent to the platform.
    #[must_use]
    pub fn is_sending(self) -> bool {
        matches!(self, Self::Live | Self::Lagging | Self::Holding)
    }
}

/// State of a feed or a push.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Phase {
    /// State of a feed, or of a relay as a whole.
    Feed(FeedPhase),
    /// State of a push.
    Push(PushPhase),
}

impl Phase {
    /// Returns the name of the state.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Feed(phase) => phase.as_str(),
            Self::Push(phase) => phase.as_str(),
        }
    }

    /// Returns true while media passes: a feed that flows, a push that sends.
    #[must_use]
    pub fn is_up(self) -> bool {
        match self {
            Self::Feed(phase) => phase == FeedPhase::Flowing,
            Self::Push(phase) => phase.is_sending(),
        }
    }

    /// Returns true if switched off.
    #[must_use]
    pub fn is_off(self) -> bool {
        matches!(self, Self::Feed(FeedPhase::Off) | Self::Push(PushPhase::Off))
    }

    /// Returns the state of the same kind that is switched off.
    #[must_use]
    pub fn off(self) -> Self {
        match self {
            Self::Feed(_) => Self::Feed(FeedPhase::Off),
            Self::Push(_) => Self::Push(PushPhase::Off),
        }
    }
}

impl std::fmt::Display for Phase {
    fn fmt(&self, formatter: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        formatter.pad(self.as_str())
    }
}

/// Desired state of a relay.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum DesiredState {
    /// Its broadcasts should run.
    On,
    /// Switched off.
    #[default]
    Off,
    /// Its broadcasts should run with the holding picture.
    Hold,
}

impl DesiredState {
    /// All states.
    pub const ALL: [Self; 3] = [Self::On, Self::Off, Self::Hold];

    /// Returns the name of the state.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::On => "on",
            Self::Off => "off",
            Self::Hold => "hold",
        }
    }

    /// Returns true if its broadcasts should run, with the feed or with the holding picture.
    #[must_use]
    pub fn is_running(self) -> bool {
        self != Self::Off
    }
}

/// Implements conversions between a state and its name, for records and arguments.
macro_rules! named {
    ($phase:ident) => {
        impl std::fmt::Display for $phase {
            fn fmt(&self, formatter: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                formatter.pad(self.as_str())
            }
        }

        impl $phase {
            /// Returns the state with this name.
            #[must_use]
            pub fn from_name(name: &str) -> Option<Self> {
                Self::ALL.into_iter().find(|phase| phase.as_str() == name)
            }
        }
    };
}

named!(FeedPhase);
named!(PushPhase);
named!(DesiredState);

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_those_of_the_api_and_parse_back() {
        for phase in FeedPhase::ALL {
            assert_eq!(serde_json::to_value(phase).unwrap(), phase.as_str());
            assert_eq!(FeedPhase::from_name(phase.as_str()), Some(phase));
        }
        for phase in PushPhase::ALL {
            assert_eq!(serde_json::to_value(phase).unwrap(), phase.as_str());
            assert_eq!(PushPhase::from_name(phase.as_str()), Some(phase));
        }
        assert_eq!(PushPhase::from_name("flowing"), None);
    }
}
