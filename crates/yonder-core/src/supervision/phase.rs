//! States as they are shown everywhere: in the API, the command line, the console, alerts and the history.

use serde::{Deserialize, Serialize};

use super::{FeedState, PushState};

/// State of a feed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum FeedPhase {
    /// Not wanted.
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
    /// A person is needed; it is retried slowly all the same.
    Blocked,
}

impl FeedPhase {
    /// Every state.
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

/// State of a push.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum PushPhase {
    /// Not wanted.
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
    /// Disconnected until the next attempt, or without anything to send.
    Waiting,
    /// A person is needed; it is retried slowly all the same.
    Blocked,
}

impl PushPhase {
    /// Every state.
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

    /// True while the platform is being sent to.
    #[must_use]
    pub fn is_sending(self) -> bool {
        matches!(self, Self::Live | Self::Lagging | Self::Holding)
    }
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

/// State of a feed or a push.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Phase {
    /// Of a feed, or of a relay as a whole.
    Feed(FeedPhase),
    /// Of a push.
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

    /// True while media passes: a feed that flows, a push that sends.
    #[must_use]
    pub fn is_up(self) -> bool {
        match self {
            Self::Feed(phase) => phase == FeedPhase::Flowing,
            Self::Push(phase) => phase.is_sending(),
        }
    }

    /// True for a state in which nothing is wanted.
    #[must_use]
    pub fn is_off(self) -> bool {
        matches!(self, Self::Feed(FeedPhase::Off) | Self::Push(PushPhase::Off))
    }

    /// Returns the same kind of state, switched off.
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
    /// Its broadcasts shall run.
    On,
    /// Nothing shall run.
    #[default]
    Off,
    /// Its broadcasts shall run with the holding picture.
    Hold,
}

impl DesiredState {
    /// Every state.
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

    /// True when its broadcasts shall run, with the feed or with the holding picture.
    #[must_use]
    pub fn is_running(self) -> bool {
        self != Self::Off
    }
}

/// Builds the conversions between a state and its name, for records and arguments.
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
    fn names_are_those_of_the_api_and_can_be_read_back() {
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
