//! State of a feed for its relays.

use yonder_core::Cause;

/// State of a feed for its relays.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct FeedSignal {
    /// Video arrives.
    pub(crate) flows: bool,
    /// Cause while no video arrives, or a warning.
    pub(crate) cause: Option<Cause>,
}
