//! Sender reports of one track (RFC 3550, 6.4.1), and their trustworthiness.

use std::time::Duration;

use crate::ticks::TICKS_PER_SECOND;

/// Maximum age of a report that determines the offset between the tracks.
const MAX_AGE: Duration = Duration::from_secs(10);
/// Maximum change of NTP time minus RTP time between two reports of a running clock, as a fraction of the time between
/// them: one in fifty, far beyond any oscillator.
const MAX_SLIP_PART: i64 = 50;
/// Additional tolerance for the rounding of both times, in ticks.
const MAX_SLIP: i64 = TICKS_PER_SECOND / 50;

/// A pair of NTP time and track time, both in ticks of 1/90 000 s.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct ClockPair {
    pub(super) ntp: i64,
    pub(super) rtp: i64,
}

/// Reports of one track within one session.
#[derive(Debug, Default)]
pub(super) struct Reports {
    last: Option<(ClockPair, Duration)>,
    /// Consecutive reports that agree with the one before.
    consistent: u32,
}

impl Reports {
    /// Adds a report that arrived at `now`. A report whose NTP time did not advance with its RTP time restarts the count.
    pub(super) fn add(&mut self, pair: ClockPair, now: Duration) {
        let agrees = self.last.is_some_and(|(last, _)| {
            let (ntp, rtp) = (pair.ntp - last.ntp, pair.rtp - last.rtp);
            ntp > 0 && (ntp - rtp).abs() <= rtp.abs() / MAX_SLIP_PART + MAX_SLIP
        });
        self.consistent = if agrees { self.consistent.saturating_add(1) } else { 1 };
        self.last = Some((pair, now));
    }

    /// Returns the last report, unless it is too old.
    pub(super) fn fresh(&self, now: Duration) -> Option<ClockPair> {
        let (pair, at) = self.last?;
        (now.saturating_sub(at) <= MAX_AGE).then_some(pair)
    }

    /// Returns the number of consecutive reports whose NTP and RTP times advanced together.
    pub(super) fn consistent(&self) -> u32 {
        self.consistent
    }
}

/// Converts a 64-bit NTP time (RFC 3550, 4) to ticks of 1/90 000 s; `None` for zero, which a sender without a clock sets (RFC
/// 3550, 6.4.1: "MAY set the NTP timestamp to zero").
pub(super) fn ntp_ticks(ntp: u64) -> Option<i64> {
    let ticks = (u128::from(ntp) * u128::from(TICKS_PER_SECOND.unsigned_abs())) >> 32;
    i64::try_from(ticks).ok().filter(|ticks| *ticks > 0)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn s(seconds: i64) -> i64 {
        seconds * TICKS_PER_SECOND
    }

    fn at(seconds: u64) -> Duration {
        Duration::from_secs(seconds)
    }

    #[test]
    fn ntp_zero_is_no_time() {
        assert_eq!(ntp_ticks(0), None);
        assert_eq!(ntp_ticks(1 << 32), Some(90_000));
    }

    #[rstest]
    #[case::true_clock(s(5), s(5), 2)]
    #[case::fast_clock(s(5) + s(5) / 200, s(5), 2)]
    #[case::clock_that_stands(0, s(5), 1)]
    #[case::clock_that_was_set(s(3_600), s(5), 1)]
    #[case::clock_that_was_set_back(s(-3_600), s(5), 1)]
    fn only_clocks_that_advance_together_are_consistent(
        #[case] ntp: i64,
        #[case] rtp: i64,
        #[case] expected: u32,
    ) {
        let mut reports = Reports::default();
        reports.add(ClockPair { ntp: s(1_000), rtp: 0 }, at(0));
        reports.add(ClockPair { ntp: s(1_000) + ntp, rtp }, at(5));
        assert_eq!(reports.consistent(), expected);
    }

    #[test]
    fn report_goes_stale_after_ten_seconds() {
        let mut reports = Reports::default();
        reports.add(ClockPair { ntp: s(1), rtp: 0 }, at(0));
        assert!(reports.fresh(at(10)).is_some());
        assert!(reports.fresh(at(11)).is_none());
    }
}
