//! What is measured of a push.

use std::time::Duration;

use yonder_core::RateMeter;

use crate::view::StepView;

/// Figures of one push, since it was switched on.
#[derive(Debug, Default)]
pub(crate) struct PushFigures {
    pub(crate) rate: RateMeter,
    pub(crate) bytes: u64,
    pub(crate) frames_sent: u64,
    pub(crate) frames_dropped: u64,
    pub(crate) backlog: Duration,
    /// Steps of the last dial.
    pub(crate) steps: Vec<StepView>,
}

impl PushFigures {
    pub(crate) fn add_bytes(&mut self, bytes: usize, now: Duration) {
        self.rate.add(bytes, now);
        self.bytes += u64::try_from(bytes).unwrap_or_default();
    }
}
