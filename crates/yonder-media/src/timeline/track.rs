//! Clock state of one track of a timeline.

use std::collections::VecDeque;
use std::time::Duration;

use crate::ticks::TICKS_PER_SECOND;

use super::reorder::Reorder;
use super::report::{ClockPair, Reports, ntp_ticks};

/// Maximum number of reports kept before the first unit: as many as prove a clock.
const MAX_EARLY_REPORTS: usize = 4;

/// Clock of one track.
#[derive(Debug)]
pub(super) struct TrackClock {
    /// RTP ticks per second.
    pub(super) rate: i64,
    pub(super) frame_ticks: i64,
    pub(super) reorder: Reorder,
    /// Feed ticks minus track ticks, while the track is anchored in a session.
    pub(super) offset: Option<i64>,
    /// Presentation time of the last unit of this session, before monotonic correction, and its arrival time.
    pub(super) last: Option<(i64, Duration)>,
    /// Last decoding time returned, over all sessions.
    pub(super) last_dts: Option<i64>,
    /// Unwrapped RTP time of the last unit.
    unwrapped: Option<i64>,
    reports: Reports,
    /// Reports received before the first unit: their RTP times cannot be unwrapped yet.
    early_reports: VecDeque<(i64, u32, Duration)>,
}

impl Default for TrackClock {
    fn default() -> Self {
        Self {
            rate: TICKS_PER_SECOND,
            frame_ticks: super::DEFAULT_FRAME_TICKS,
            reorder: Reorder::default(),
            offset: None,
            last: None,
            last_dts: None,
            unwrapped: None,
            reports: Reports::default(),
            early_reports: VecDeque::new(),
        }
    }
}

impl TrackClock {
    /// Resets the state of one camera session.
    pub(super) fn leave_session(&mut self) {
        self.offset = None;
        self.last = None;
        self.unwrapped = None;
        self.reports = Reports::default();
        self.early_reports.clear();
        self.reorder.restart();
    }

    /// Unwraps a 32-bit RTP time to feed ticks: the value nearest to the last one (as RFC 3550, A.1 does for sequence
    /// numbers).
    pub(super) fn unwrap(&mut self, rtp: u32) -> i64 {
        let unwrapped = match self.unwrapped {
            None => i64::from(rtp),
            Some(last) => nearest(last, rtp),
        };
        self.unwrapped = Some(unwrapped);
        while let Some((ntp, rtp, at)) = self.early_reports.pop_front() {
            self.add_report(ntp, nearest(unwrapped, rtp), at);
        }
        self.in_ticks(unwrapped)
    }

    /// Handles a sender report; one without an NTP time is ignored.
    pub(super) fn handle_report(&mut self, ntp: u64, rtp: u32, now: Duration) {
        let Some(ntp) = ntp_ticks(ntp) else { return };
        match self.unwrapped {
            Some(last) => self.add_report(ntp, nearest(last, rtp), now),
            None => {
                self.early_reports.push_back((ntp, rtp, now));
                if self.early_reports.len() > MAX_EARLY_REPORTS {
                    self.early_reports.pop_front();
                }
            }
        }
    }

    fn add_report(&mut self, ntp: i64, rtp: i64, now: Duration) {
        let rtp = self.in_ticks(rtp);
        self.reports.add(ClockPair { ntp, rtp }, now);
    }

    pub(super) fn reports(&self) -> &Reports {
        &self.reports
    }

    /// Returns the step back in presentation time that reordering explains, in ticks.
    pub(super) fn max_reorder_ticks(&self) -> i64 {
        let frames = self.reorder.max_depth().saturating_add(2);
        frames.saturating_mul(self.frame_ticks).clamp(super::MIN_STEP_BACK, super::MAX_STEP_BACK)
    }

    fn in_ticks(&self, rtp: i64) -> i64 {
        if self.rate == TICKS_PER_SECOND {
            return rtp;
        }
        let ticks = i128::from(rtp) * i128::from(TICKS_PER_SECOND) / i128::from(self.rate);
        i64::try_from(ticks).unwrap_or_default()
    }
}

/// Returns the value congruent to `rtp` modulo 2^32 that is nearest to `last`.
fn nearest(last: i64, rtp: u32) -> i64 {
    let low = u32::try_from(last.rem_euclid(1 << 32)).unwrap_or_default();
    // The difference as a signed number is the shortest distance.
    last + i64::from(rtp.wrapping_sub(low).cast_signed())
}
