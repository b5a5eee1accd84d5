//! Statistics of a push.

use std::time::Duration;

use yonder_core::RateMeter;

use crate::view::{LinkView, StepView};

/// Statistics of one push, since it was enabled.
#[derive(Debug, Default)]
pub(crate) struct PushStats {
    pub(crate) rate: RateMeter,
    pub(crate) bytes: u64,
    pub(crate) frames_sent: u64,
    pub(crate) frames_dropped: u64,
    pub(crate) backlog: Duration,
    /// Steps of the last dial.
    pub(crate) steps: Vec<StepView>,
    /// SRT statistics of the present or last connection.
    pub(crate) link: Option<LinkView>,
    /// Warning about a running push.
    pub(crate) warning: Option<&'static str>,
}

impl PushStats {
    pub(crate) fn add_bytes(&mut self, bytes: usize, now: Duration) {
        self.rate.add(bytes, now);
        self.bytes += u64::try_from(bytes).unwrap_or_default();
    }
}
