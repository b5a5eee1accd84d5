//! Rates over time, at three grains: seconds of the last hour, ten seconds of the last day, minutes of the last month.
//! Of the minutes only the last hours are held here, so that a rate takes as much memory after a month as after a day.

use std::collections::VecDeque;

/// Seconds of a grain, and how many values of it are kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Grain {
    /// A second, for an hour.
    Second,
    /// Ten seconds, for a day.
    TenSeconds,
    /// A minute, for a month.
    Minute,
}

impl Grain {
    /// Seconds of one value.
    #[must_use]
    pub fn step_s(self) -> i64 {
        match self {
            Self::Second => 1,
            Self::TenSeconds => 10,
            Self::Minute => 60,
        }
    }

    /// Values that are held here. Minutes older than these lie in the records.
    #[must_use]
    pub fn held(self) -> usize {
        match self {
            Self::Second | Self::TenSeconds => self.kept(),
            Self::Minute => 180,
        }
    }

    /// Values that are kept, here or in the records.
    #[must_use]
    pub fn kept(self) -> usize {
        match self {
            Self::Second => 3_600,
            Self::TenSeconds => 8_640,
            Self::Minute => 43_200,
        }
    }
}

/// Values at one grain, the oldest first. Where nothing was measured there is none.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Track {
    grain: Grain,
    /// Number of the step that the first value belongs to.
    first: i64,
    values: VecDeque<u32>,
    /// Sum and count of the step that runs.
    sum: u64,
    count: u32,
    current: Option<i64>,
}

/// Stands for no value: a rate of four terabits.
const NONE: u32 = u32::MAX;

impl Track {
    /// Nothing yet.
    #[must_use]
    pub fn new(grain: Grain) -> Self {
        Self { grain, first: 0, values: VecDeque::new(), sum: 0, count: 0, current: None }
    }

    /// Takes what was measured at `at_s` (seconds since 1970). A step is kept once the next begins; time that stands
    /// still or steps back is counted to the step that runs.
    pub fn add(&mut self, at_s: i64, value: u64) {
        let step = at_s.div_euclid(self.grain.step_s());
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

    /// Puts a value in its place; what is older than is kept falls out.
    fn put(&mut self, step: i64, value: u32) {
        let held = i64::try_from(self.grain.held()).unwrap_or(i64::MAX);
        let end = self.first + i64::try_from(self.values.len()).unwrap_or_default();
        if self.values.is_empty() || step - end >= held {
            self.values.clear();
            self.first = step;
        } else if step < end {
            // The clock was set back: what was there stays.
            return;
        } else {
            self.values.extend((end..step).map(|_| NONE));
        }
        self.values.push_back(value);
        while self.values.len() > self.grain.held() {
            self.values.pop_front();
            self.first += 1;
        }
    }

    /// Puts back what was kept elsewhere: values from `from_s` on.
    pub fn restore(&mut self, from_s: i64, values: &[Option<u32>]) {
        let first = from_s.div_euclid(self.grain.step_s());
        for (step, value) in (first..).zip(values) {
            if let Some(value) = value {
                self.put(step, *value);
            }
        }
    }

    /// The values from `from_s` on, each with nothing where nothing was measured, and when the first begins.
    #[must_use]
    pub fn since(&self, from_s: i64) -> (i64, Vec<Option<u32>>) {
        let step_s = self.grain.step_s();
        let skipped = from_s.div_euclid(step_s).saturating_sub(self.first).max(0);
        let values = self.values.iter().skip(usize::try_from(skipped).unwrap_or(usize::MAX));
        let begin = (self.first + skipped) * step_s;
        (begin, values.map(|value| Some(*value).filter(|value| *value != NONE)).collect())
    }

    /// When the last value ends, in seconds since 1970.
    #[must_use]
    pub fn end_s(&self) -> i64 {
        (self.first + i64::try_from(self.values.len()).unwrap_or_default()) * self.grain.step_s()
    }

    /// True when there is nothing.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.values.is_empty()
    }
}

/// One rate at all grains.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RateSeries {
    seconds: Track,
    tens: Track,
    minutes: Track,
}

impl Default for RateSeries {
    fn default() -> Self {
        Self {
            seconds: Track::new(Grain::Second),
            tens: Track::new(Grain::TenSeconds),
            minutes: Track::new(Grain::Minute),
        }
    }
}

impl RateSeries {
    /// Takes what was measured at `at_s`, in kilobits per second.
    pub fn add(&mut self, at_s: i64, kbps: u64) {
        for track in [&mut self.seconds, &mut self.tens, &mut self.minutes] {
            track.add(at_s, kbps);
        }
    }

    /// The values at a grain.
    #[must_use]
    pub fn track(&self, grain: Grain) -> &Track {
        match grain {
            Grain::Second => &self.seconds,
            Grain::TenSeconds => &self.tens,
            Grain::Minute => &self.minutes,
        }
    }

    /// The minutes, to put back what was kept.
    pub fn minutes_mut(&mut self) -> &mut Track {
        &mut self.minutes
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn steps_hold_the_mean_and_holes_stay_holes() {
        let mut series = RateSeries::default();
        for at in (100..130).chain(150..161) {
            series.add(at, u64::try_from(at).unwrap());
        }
        let (begin, seconds) = series.track(Grain::Second).since(0);
        assert_eq!((begin, seconds.len(), seconds[0], seconds[30]), (100, 60, Some(100), None));
        let (begin, tens) = series.track(Grain::TenSeconds).since(0);
        assert_eq!((begin, tens), (100, vec![Some(104), Some(114), Some(124), None, None, Some(154)]));
        let (begin, minutes) = series.track(Grain::Minute).since(0);
        assert_eq!((begin, minutes.len()), (60, 1));
    }

    #[test]
    fn what_is_asked_for_from_a_time_on_begins_there() {
        let mut track = Track::new(Grain::Second);
        (0..100).for_each(|at| track.add(at, 7));
        assert_eq!(track.since(95), (95, vec![Some(7); 4]));
        assert_eq!(track.since(500).1, []);
    }

    #[test]
    fn an_hour_of_seconds_is_kept_and_no_more() {
        let mut track = Track::new(Grain::Second);
        (0..10_000).for_each(|at| track.add(at, 7));
        let (begin, values) = track.since(0);
        assert_eq!((begin, values.len()), (9_999 - 3_600, 3_600));
    }

    #[test]
    fn a_month_away_begins_anew_and_a_clock_set_back_loses_nothing() {
        let mut track = Track::new(Grain::Minute);
        (0..600).for_each(|at| track.add(at, 1));
        (300..900).for_each(|at| track.add(at, 3));
        assert_eq!(track.since(0).1.len(), 14);
        assert_eq!(track.end_s(), 840);
        track.add(100 * 86_400, 5);
        track.add(100 * 86_400 + 60, 5);
        assert_eq!(track.since(0), (100 * 86_400, vec![Some(5)]));
    }

    #[test]
    fn what_was_kept_elsewhere_is_put_back() {
        let mut track = Track::new(Grain::Minute);
        track.restore(600, &[Some(1), None, Some(3)]);
        track.add(900, 9);
        track.add(960, 9);
        assert_eq!(track.since(0), (600, vec![Some(1), None, Some(3), None, None, Some(9)]));
    }

    proptest! {
        #[test]
        fn never_more_than_is_kept_and_always_in_place(
            steps in prop::collection::vec((0_i64..100_000, 0_u64..1_000_000), 1..200),
        ) {
            let mut series = RateSeries::default();
            let mut now = 1_700_000_000;
            for (wait, kbps) in steps {
                now += wait;
                series.add(now, kbps);
            }
            for grain in [Grain::Second, Grain::TenSeconds, Grain::Minute] {
                let (begin, values) = series.track(grain).since(0);
                prop_assert!(values.len() <= grain.held());
                let end = begin + i64::try_from(values.len()).unwrap() * grain.step_s();
                prop_assert!(end <= now + grain.step_s());
            }
        }
    }
}
