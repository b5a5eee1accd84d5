//! Statistics of a push.

use std::time::Duration;

use yonder_core::RateMeter;

use crate::view::{LinkView, StepView};

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
    /// Of the connection that stands, or stood last, where that is SRT.
    pub(crate) link: Option<LinkView>,
    /// Warning about a push that runs.
    pub(crate) warning: Option<&'static str>,
}

impl PushFigures {
    pub(crate) fn add_bytes(&mut self, bytes: usize, now: Duration) {
        self.rate.add(bytes, now);
        self.bytes += u64::try_from(bytes).unwrap_or_default();
    }
}
