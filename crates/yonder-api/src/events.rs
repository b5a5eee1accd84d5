//! Events of relays.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::record::LogEntry;
use crate::relays::Relay;
use crate::stats::RelayStats;
use crate::surveys::Survey;

/// Event of `/api/v1/events`.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "lowercase")]
pub enum RelayEvent {
    /// New or changed relay. Continuously changing values are sent as `stats`.
    Relay {
        /// Current state.
        relay: Box<Relay>,
    },
    /// A relay was removed or renamed.
    Removed {
        /// Name of the relay.
        name: String,
    },
    /// Statistics of relays that have changed, once a second.
    Stats {
        /// Current statistics.
        relays: Vec<RelayStats>,
    },
    /// New line of the logbook.
    Log {
        /// Line.
        entry: Box<LogEntry>,
    },
    /// Progress or result of a survey.
    Survey {
        /// Current state.
        survey: Box<Survey>,
    },
    /// All relays were sent once; changes follow.
    Complete,
    /// Heartbeat, every ten seconds: a subscriber without one for 25 s has lost its connection.
    Alive {
        /// Time of the service.
        now: String,
    },
}
