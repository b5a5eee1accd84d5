//! Time series of rates in three resolutions: seconds of the last hour, ten seconds of the last day, minutes of the
//! last month. Only the last hours of minutes are in memory; the store has the rest. So memory per rate is constant.

use std::collections::VecDeque;

/// Resolution of a series.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Resolution {
    /// A second, for an hour.
    Second,
    /// Ten seconds, for a day.
    TenSeconds,
    /// A minute, for a month.
    Minute,
}

impl Resolution {
    /// Returns the seconds of one value.
    #[must_use]
    pub fn step_s(self) -> i64 {
        match self {
            Self::Second => 1,
            Self::TenSeconds => 10,
            Self::Minute => 60,
        }
    }

    /// Returns the number of values in memory. Older minutes are in the store.
    #[must_use]
    pub fn in_memory(self) -> usize {
        match self {
            Self::Second | Self::TenSeconds => self.retained(),
            Self::Minute => 180,
        }
    }

    /// Returns the number of values that are retained, in memory or in the store.
    #[must_use]
    pub fn retained(self) -> usize {
        match self {
            Self::Second => 3_600,
            Self::TenSeconds => 8_640,
            Self::Minute => 43_200,
        }
    }
}

/// Series of values in one resolution, the oldest first, with gaps where no measurements.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Series {
    resolution: Resolution,
    /// Number of the first value's step.
    first: i64,
    values: VecDeque<u32>,
    /// Sum and count of the current step.
    sum: u64,
    count: u32,
    current: Option<i64>,
}

/// Marker of a gap: a rate of four terabits.
const NONE: u32 = u32::MAX;

impl Series {
    /// Creates an empty series.
    #[must_use]
    pub fn new(resolution: Resolution) -> Self {
        Self { resolution, first: 0, values: VecDeque::new(), sum: 0, count: 0, current: None }
    }

    /// Adds a value measured at `at_s` (seconds since 1970). A step is complete once the next one begins; values with a time
    /// before the current step are added to the current step.
    pub fn add(&mut self, at_s: i64, value: u64) {
        let step = at_s.div_euclid(self.resolution.step_s());
        match self.current {
            Some(current) if step > current => {
                self.close(current);
                self.current = Some(step);
            }
            None => self.current = Some(step),
            Some(_) => {}
        }
        self.sum += value;
        self.count += 1;
    }

    fn close(&mut self, step: i64) {
        let mean = self.sum / u64::from(self.count.max(1));
        (self.sum, self.count) = (0, 0);
        self.put(step, u32::try_from(mean).unwrap_or(NONE - 1));
    }

    /// Sets the value of a step; the oldest values are dropped beyond the limit.
    fn put(&mut self, step: i64, value: u32) {
        let held = i64::try_from(self.resolution.in_memory()).unwrap_or(i64::MAX);
        let end = self.first + i64::try_from(self.values.len()).unwrap_or_default();
        if self.values.is_empty() || step - end >= held {
            self.values.clear();
            self.first = step;
        } else if step < end {
            // The clock was set back: keep the existing values.
            return;
        } else {
            self.values.extend((end..step).map(|_| NONE));
        }
        self.values.push_back(value);
        while self.values.len() > self.resolution.in_memory() {
            self.values.pop_front();
            self.first += 1;
        }
    }

    /// Restores stored values from `from_s` on.
    pub fn restore(&mut self, from_s: i64, values: &[Option<u32>]) {
        let first = from_s.div_euclid(self.resolution.step_s());
        for (step, value) in (first..).zip(values) {
            if let Some(value) = value {
                self.put(step, *value);
            }
        }
    }

    /// Returns the begin of the first value at or after `from_s`, and the values from there on; `None` for gaps.
    #[must_use]
    pub fn since(&self, from_s: i64) -> (i64, Vec<Option<u32>>) {
        let step_s = self.resolution.step_s();
        let skipped = from_s.div_euclid(step_s).saturating_sub(self.first).max(0);
        let values = self.values.iter().skip(usize::try_from(skipped).unwrap_or(usize::MAX));
        let begin = (self.first + skipped) * step_s;
        (begin, values.map(|value| Some(*value).filter(|value| *value != NONE)).collect())
    }

    /// Returns the end of the last value, in seconds since 1970.
    #[must_use]
    pub fn end_s(&self) -> i64 {
        (self.first + i64::try_from(self.values.len()).unwrap_or_default()) * self.resolution.step_s()
    }

    /// Returns true if there are no values.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.values.is_empty()
    }
}

/// Rate in all resolutions.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RateSeries {
    seconds: Series,
    tens: Series,
    minutes: Series,
}

impl Default for RateSeries {
    fn default() -> Self {
        Self {
            seconds: Series::new(Resolution::Second),
            tens: Series::new(Resolution::TenSeconds),
            minutes: Series::new(Resolution::Minute),
        }
    }
}

impl RateSeries {
    /// Adds a value measured at `at_s`, in kilobits per second.
    pub fn add(&mut self, at_s: i64, kbps: u64) {
        for track in [&mut self.seconds, &mut self.tens, &mut self.minutes] {
            track.add(at_s, kbps);
        }
    }

    /// Returns the series in a resolution.
    #[must_use]
    pub fn series(&self, resolution: Resolution) -> &Series {
        match resolution {
            Resolution::Second => &self.seconds,
            Resolution::TenSeconds => &self.tens,
            Resolution::Minute => &self.minutes,
        }
    }

    /// Returns the series of minutes, to restore stored values.
    pub fn minutes_mut(&mut self) -> &mut Series {
        &mut self.minutes
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn steps_are_means_and_gaps_are_kept() {
        let mut series = RateSeries::default();
        for at in (100..130).chain(150..161) {
            series.add(at, u64::try_from(at).unwrap());
        }
        let (begin, seconds) = series.series(Resolution::Second).since(0);
        assert_eq!((begin, seconds.len(), seconds[0], seconds[30]), (100, 60, Some(100), None));
        let (begin, tens) = series.series(Resolution::TenSeconds).since(0);
        assert_eq!((begin, tens), (100, vec![Some(104), Some(114), Some(124), None, None, Some(154)]));
        let (begin, minutes) = series.series(Resolution::Minute).since(0);
        assert_eq!((begin, minutes.len()), (60, 1));
    }

    #[test]
    fn values_begin_at_the_requested_time() {
        let mut track = Series::new(Resolution::Second);
        (0..100).for_each(|at| track.add(at, 7));
        assert_eq!(track.since(95), (95, vec![Some(7); 4]));
        assert_eq!(track.since(500).1, []);
    }

    #[test]
    fn an_hour_of_seconds_is_retained() {
        let mut track = Series::new(Resolution::Second);
        (0..10_000).for_each(|at| track.add(at, 7));
        let (begin, values) = track.since(0);
        assert_eq!((begin, values.len()), (9_999 - 3_600, 3_600));
    }

    #[test]
    fn long_gap_resets_the_series_and_a_clock_set_back_does_not() {
        let mut track = Series::new(Resolution::Minute);
        (0..600).for_each(|at| track.add(at, 1));
        (300..900).for_each(|at| track.add(at, 3));
        assert_eq!(track.since(0).1.len(), 14);
        assert_eq!(track.end_s(), 840);
        track.add(100 * 86_400, 5);
        track.add(100 * 86_400 + 60, 5);
        assert_eq!(track.since(0), (100 * 86_400, vec![Some(5)]));
    }

    #[test]
    fn stored_values_are_restored() {
        let mut track = Series::new(Resolution::Minute);
        track.restore(600, &[Some(1), None, Some(3)]);
        track.add(900, 9);
        track.add(960, 9);
        assert_eq!(track.since(0), (600, vec![Some(1), None, Some(3), None, None, Some(9)]));
    }

    proptest! {
        #[test]
        fn series_is_bounded_and_values_keep_their_step(
            steps in prop::collection::vec((0_i64..100_000, 0_u64..1_000_000), 1..200),
        ) {
            let mut series = RateSeries::default();
            let mut now = 1_700_000_000;
            for (wait, kbps) in steps {
                now += wait;
                series.add(now, kbps);
            }
            for resolution in [Resolution::Second, Resolution::TenSeconds, Resolution::Minute] {
                let (begin, values) = series.series(resolution).since(0);
                prop_assert!(values.len() <= resolution.in_memory());
                let end = begin + i64::try_from(values.len()).unwrap() * resolution.step_s();
                prop_assert!(end <= now + resolution.step_s());
            }
        }
    }
}
