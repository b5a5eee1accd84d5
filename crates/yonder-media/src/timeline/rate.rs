//! Clock rate of a track relative to ours.
//!
//! Network delay can only make a unit late, so the minimum lateness over some seconds shows the difference of the
//! clocks: constant while they agree, moving while one is faster. The rate error is the slope of this minimum over
//! minutes.

use std::collections::VecDeque;

/// Windows in an estimate: five minutes of ten seconds each.
const MAX_POINTS: usize = 30;
/// Windows before the first estimate: one minute.
const MIN_POINTS: usize = 6;
/// Maximum rate error that is corrected, in parts per million. Encoders that add nominal frame durations are off by up to a
/// thousand; more than this is a jump.
pub(super) const MAX_PPM: i64 = 6_000;
const MILLION: i128 = 1_000_000;

/// Theil–Sen estimator of a clock's rate: the median of the slopes between all pairs of points, which single outliers
/// do not move.
#[derive(Debug, Default)]
pub(super) struct RateEstimator {
    /// Time of a window and its minimum uncorrected lateness, in ticks.
    points: VecDeque<(i64, i64)>,
    ppm: Option<i64>,
}

impl RateEstimator {
    /// Restarts after a jump of the clock. The last estimate is kept, since the oscillator is the same.
    pub(super) fn restart(&mut self) {
        self.points.clear();
    }

    /// Returns the rate error in parts per million, positive for a slow clock; `None` before the first estimate.
    pub(super) fn ppm(&self) -> Option<i64> {
        self.ppm
    }

    /// Adds the minimum uncorrected lateness of a window that ended at `at`.
    pub(super) fn add(&mut self, at: i64, lateness: i64) {
        self.points.push_back((at, lateness));
        if self.points.len() > MAX_POINTS {
            self.points.pop_front();
        }
        if self.points.len() < MIN_POINTS {
            return;
        }
        let mut slopes: Vec<i64> = Vec::with_capacity(self.points.len() * self.points.len() / 2);
        for (index, (later, high)) in self.points.iter().enumerate() {
            for (earlier, low) in self.points.iter().take(index) {
                let span = i128::from((later - earlier).max(1));
                slopes.push(i64::try_from(i128::from(high - low) * MILLION / span).unwrap_or_default());
            }
        }
        let middle = slopes.len() / 2;
        let (_, median, _) = slopes.select_nth_unstable(middle);
        self.ppm = Some((*median).clamp(-MAX_PPM, MAX_PPM));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ticks::TICKS_PER_SECOND;
    use rstest::rstest;

    const WINDOW: i64 = 10 * TICKS_PER_SECOND;

    fn estimate(ppm: i64, windows: i64, noise: impl Fn(i64) -> i64) -> RateEstimator {
        let mut estimator = RateEstimator::default();
        for window in 0..windows {
            let at = window * WINDOW;
            estimator.add(at, at * ppm / 1_000_000 + noise(window));
        }
        estimator
    }

    #[rstest]
    #[case(5_000)]
    #[case(-5_000)]
    #[case(1_200)]
    #[case(-40)]
    #[case(0)]
    fn rate_is_known_after_a_minute(#[case] ppm: i64) {
        assert!((estimate(ppm, 6, |_| 0).ppm().unwrap() - ppm).abs() <= 1);
    }

    #[test]
    fn no_estimate_is_made_from_less_than_a_minute() {
        assert_eq!(estimate(5_000, 5, |_| 0).ppm(), None);
    }

    #[test]
    fn single_windows_without_a_prompt_unit_do_not_move_the_estimate() {
        let noisy = estimate(300, 30, |window| if window % 5 == 3 { 40_000 } else { window % 3 * 90 });
        assert!((noisy.ppm().unwrap() - 300).abs() < 60, "{noisy:?}");
    }

    #[test]
    fn estimate_survives_a_restart_and_is_replaced_by_a_new_one() {
        let mut estimator = estimate(800, 10, |_| 0);
        estimator.restart();
        assert_eq!(estimator.ppm(), Some(800));
        for window in 0..6 {
            estimator.add(window * WINDOW, 0);
        }
        assert_eq!(estimator.ppm(), Some(0));
    }
}
