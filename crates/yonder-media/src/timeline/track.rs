//! One track's time within the timeline.

use std::time::Duration;

use crate::unit::TICKS_PER_SECOND;

use super::reorder::Reorder;

/// The state of one track.
#[derive(Debug)]
pub(super) struct TrackClock {
    /// RTP ticks per second.
    pub(super) rate: i64,
    pub(super) frame_ticks: i64,
    pub(super) reorder: Reorder,
    /// Relay ticks minus track ticks, while the track is anchored in a session.
    pub(super) offset: Option<i64>,
    /// The last presentation time asked for, and when; within this session.
    pub(super) last: Option<(i64, Duration)>,
    /// The last decoding time given out, over all sessions.
    pub(super) last_dts: Option<i64>,
    /// Unwrapped RTP time of the last unit.
    unwrapped: Option<i64>,
    /// NTP time in ticks, and the unwrapped RTP time it belongs to.
    report: Option<(i64, i64)>,
    /// A report that came before the first unit: its RTP time cannot be unwrapped yet.
    early_report: Option<(i64, u32)>,
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
            report: None,
            early_report: None,
        }
    }
}

impl TrackClock {
    /// Forgets all that belongs to one camera session.
    pub(super) fn leave_session(&mut self) {
        self.offset = None;
        self.last = None;
        self.unwrapped = None;
        self.report = None;
        self.early_report = None;
        self.reorder.restart();
    }

    /// RTP time beyond its 32 bits, in relay ticks. The nearest reading to the last one is the right one
    /// (RFC 3550, A.1 does the same for sequence numbers).
    pub(super) fn unwrap(&mut self, rtp: u32) -> i64 {
        let unwrapped = match self.unwrapped {
            None => i64::from(rtp),
            Some(last) => nearest(last, rtp),
        };
        self.unwrapped = Some(unwrapped);
        if let Some((ntp, rtp)) = self.early_report.take() {
            self.report = Some((ntp, nearest(unwrapped, rtp)));
        }
        self.in_ticks(unwrapped)
    }

    pub(super) fn handle_report(&mut self, ntp: u64, rtp: u32) {
        let ntp = ntp_ticks(ntp);
        match self.unwrapped {
            Some(last) => self.report = Some((ntp, nearest(last, rtp))),
            None => self.early_report = Some((ntp, rtp)),
        }
    }

    /// The last report as (NTP time, track time), both in relay ticks.
    pub(super) fn report_in_ticks(&self) -> Option<(i64, i64)> {
        self.report.map(|(ntp, rtp)| (ntp, self.in_ticks(rtp)))
    }

    fn in_ticks(&self, rtp: i64) -> i64 {
        if self.rate == TICKS_PER_SECOND {
            return rtp;
        }
        let ticks = i128::from(rtp) * i128::from(TICKS_PER_SECOND) / i128::from(self.rate);
        i64::try_from(ticks).unwrap_or_default()
    }
}

/// The value congruent to `rtp` modulo 2^32 that lies nearest to `last`.
fn nearest(last: i64, rtp: u32) -> i64 {
    let low = u32::try_from(last.rem_euclid(1 << 32)).unwrap_or_default();
    // Reinterpreting the difference as signed is what makes it the shortest way round.
    last + i64::from(rtp.wrapping_sub(low).cast_signed())
}

/// 64-bit NTP time (RFC 3550, 4) in ticks of 1/90 000 s.
fn ntp_ticks(ntp: u64) -> i64 {
    let ticks = (u128::from(ntp) * 90_000) >> 32;
    i64::try_from(ticks).unwrap_or_default()
}
