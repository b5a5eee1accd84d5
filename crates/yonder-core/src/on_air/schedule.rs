//! Schedule of a relay: all of its windows in its time zone.

use std::time::Duration;

use jiff::tz::{TimeZone, TimeZoneDatabase};
use jiff::{Timestamp, ToSpan as _};

use super::window::{Window, WindowError};

/// A week, and two days for windows over midnight and daylight saving.
const DAYS_AHEAD: i32 = 9;

/// Error for an invalid schedule.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ScheduleError {
    /// A window cannot be parsed.
    #[error(transparent)]
    Window(#[from] WindowError),
    /// Unknown time zone.
    #[error("{0:?} is not a time zone: write a name like Europe/Lisbon or UTC")]
    Zone(String),
}

/// Schedule of a relay. Without windows it is always on air.
#[derive(Debug, Clone, PartialEq)]
pub struct Schedule {
    zone: TimeZone,
    windows: Vec<Window>,
}

impl Schedule {
    /// Parses windows in local time of `zone`.
    ///
    /// # Errors
    /// [`ScheduleError`] for an invalid window or an unknown time zone.
    pub fn read<T: AsRef<str>>(windows: &[T], zone: &str) -> Result<Self, ScheduleError> {
        let windows = windows.iter().map(|window| window.as_ref().parse()).collect::<Result<_, _>>()?;
        Ok(Self { zone: read_zone(zone)?, windows })
    }

    /// Returns the windows as text.
    #[must_use]
    pub fn windows(&self) -> Vec<String> {
        self.windows.iter().map(ToString::to_string).collect()
    }

    /// Returns true if the relay should run at `at_ms` (milliseconds since 1970).
    #[must_use]
    pub fn is_on_air(&self, at_ms: i64) -> bool {
        let Ok(at) = Timestamp::from_millisecond(at_ms) else { return false };
        self.windows.is_empty() || self.is_within(at)
    }

    /// Returns the time of the next change, in milliseconds since 1970; `None` if there is none.
    #[must_use]
    pub fn next_change(&self, at_ms: i64) -> Option<i64> {
        let at = Timestamp::from_millisecond(at_ms).ok()?;
        let now = self.is_within(at);
        let mut borders: Vec<Timestamp> = self
            .spans(at)
            .into_iter()
            .flat_map(|(begin, end)| [begin, end])
            .filter(|border| *border > at)
            .collect();
        borders.sort_unstable();
        // Windows may touch or overlap: a border counts only where the state changes.
        borders.into_iter().find(|border| self.is_within(*border) != now).map(Timestamp::as_millisecond)
    }

    fn is_within(&self, at: Timestamp) -> bool {
        self.spans(at).iter().any(|(begin, end)| *begin <= at && at < *end)
    }

    /// Returns begin and end of all windows around `at`. A local time that daylight saving skips is moved by the shift;
    /// of one that occurs twice the first is used.
    fn spans(&self, at: Timestamp) -> Vec<(Timestamp, Timestamp)> {
        let today = at.to_zoned_datetime(self.zone.clone()).date();
        let near = (-2..=DAYS_AHEAD).filter_map(|days| today.checked_add(days.days()).ok());
        let dates: Vec<_> = near.chain(self.windows.iter().filter_map(Window::date)).collect();
        let moment = |local: jiff::civil::DateTime| {
            local.to_zoned_datetime(self.zone.clone()).map(|zoned| zoned.timestamp()).ok()
        };
        let span = |(begin, end): (jiff::civil::DateTime, jiff::civil::DateTime)| {
            Some((moment(begin)?, moment(end)?))
        };
        self.windows
            .iter()
            .flat_map(|window| dates.iter().filter_map(|date| window.on(*date)))
            .filter_map(span)
            .collect()
    }
}

/// Returns the zone with this name in the time zone database.
pub(super) fn read_zone(name: &str) -> Result<TimeZone, ScheduleError> {
    // The bundled database is the same on every machine.
    TimeZoneDatabase::bundled().get(name).map_err(|_| ScheduleError::Zone(name.to_owned()))
}

/// Duration until the next change.
impl Schedule {
    /// Returns the duration from `at_ms` until the next change.
    #[must_use]
    pub fn until_next(&self, at_ms: i64) -> Option<Duration> {
        let next = self.next_change(at_ms)?;
        u64::try_from(next - at_ms).ok().map(Duration::from_millis)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn ms(text: &str) -> i64 {
        text.parse::<Timestamp>().unwrap().as_millisecond()
    }

    fn shown(ms: Option<i64>) -> String {
        ms.map_or_else(|| "never".to_owned(), |ms| Timestamp::from_millisecond(ms).unwrap().to_string())
    }

    /// A zone with daylight saving: +1 in winter, +2 from 2026-03-29 to 2026-10-25.
    const ZONE: &str = "Europe/Vienna";

    #[rstest]
    #[case::before("daily 06:00-22:00", "2026-11-23T04:59:59Z", false, "2026-11-23T05:00:00Z")]
    #[case::within("daily 06:00-22:00", "2026-11-23T05:00:00Z", true, "2026-11-23T21:00:00Z")]
    #[case::after("daily 06:00-22:00", "2026-11-23T21:00:00Z", false, "2026-11-24T05:00:00Z")]
    #[case::over_midnight("sat 20:00-02:00", "2026-11-22T00:30:00Z", true, "2026-11-22T01:00:00Z")]
    #[case::next_week("mon 08:00-09:00", "2026-11-23T09:00:00Z", false, "2026-11-30T07:00:00Z")]
    #[case::one_date("2027-06-01 10:00-11:00", "2026-11-23T00:00:00Z", false, "2027-06-01T08:00:00Z")]
    #[case::one_date_that_is_over("2026-06-01 10:00-11:00", "2026-11-23T00:00:00Z", false, "never")]
    #[case::a_whole_day_each_day("daily 00:00-00:00", "2026-11-23T10:00:00Z", true, "never")]
    #[case::the_hour_that_does_not_exist(
        "daily 02:30-04:00",
        "2026-03-29T00:00:00Z",
        false,
        "2026-03-29T01:30:00Z"
    )]
    #[case::the_hour_that_comes_twice(
        "daily 02:30-04:00",
        "2026-10-25T00:00:00Z",
        false,
        "2026-10-25T00:30:00Z"
    )]
    fn window_is_in_local_time(#[case] window: &str, #[case] at: &str, #[case] on: bool, #[case] next: &str) {
        let schedule = Schedule::read(&[window], ZONE).unwrap();
        assert_eq!(schedule.is_on_air(ms(at)), on);
        assert_eq!(shown(schedule.next_change(ms(at))), next);
    }

    #[test]
    fn adjacent_windows_are_merged() {
        let schedule = Schedule::read(&["daily 06:00-12:00", "daily 12:00-18:00"], "UTC").unwrap();
        assert_eq!(shown(schedule.next_change(ms("2026-11-23T07:00:00Z"))), "2026-11-23T18:00:00Z");
    }

    #[test]
    fn without_windows_it_is_always_on() {
        let schedule = Schedule::read::<&str>(&[], "UTC").unwrap();
        assert!(schedule.is_on_air(0));
    }

    #[test]
    fn unknown_zone_is_refused() {
        let error = Schedule::read(&["daily 06:00-12:00"], "Fell/Summit").unwrap_err();
        assert_eq!(error, ScheduleError::Zone("Fell/Summit".into()));
    }

    proptest! {
        #[test]
        fn state_is_constant_between_changes(
            start in 1_700_000_000_000_i64..1_900_000_000_000,
            window in prop::sample::select(vec!["daily 06:00-22:00", "sat-mon 20:00-02:00", "wed 02:30-03:30", "fri 23:00-23:00"]),
            share in 0.0_f64..1.0,
        ) {
            let schedule = Schedule::read(&[window, "tue 12:00-13:00"], ZONE).unwrap();
            let on = schedule.is_on_air(start);
            let next = schedule.next_change(start).unwrap();
            prop_assert!(next > start && schedule.is_on_air(next) != on);
            #[expect(clippy::cast_possible_truncation, clippy::cast_precision_loss, reason = "a place in between")]
            let between = start + ((next - start) as f64 * share) as i64;
            if between < next {
                prop_assert_eq!(schedule.is_on_air(between), on);
                prop_assert_eq!(schedule.next_change(between), Some(next));
            }
        }
    }
}
