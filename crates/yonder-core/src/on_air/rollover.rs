//! Rollover: a planned reconnect before the platform ends a long broadcast, at a minute with few viewers.

use std::fmt;
use std::str::FromStr;
use std::time::Duration;

use jiff::civil::Time;
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan as _};

use super::schedule::{ScheduleError, read_zone};
use super::window::{WindowError, read_time};

/// Margin before the platform's limit.
const MARGIN_MS: i64 = 10 * 60_000;
/// Margin for short broadcasts, as a fraction of their length.
const MARGIN_SHARE: i64 = 10;

/// Minute of the day with few viewers.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct QuietMinute(Time);

impl FromStr for QuietMinute {
    type Err = WindowError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        read_time(text.trim()).map(Self)
    }
}

impl fmt::Display for QuietMinute {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.0.strftime("%H:%M"))
    }
}

/// Returns when a broadcast that began at `began_ms` and may last for `longest` is rolled over, in milliseconds since 1970:
/// at the last quiet minute before the limit, or just before the limit.
///
/// # Errors
/// [`ScheduleError::Zone`] for an unknown time zone.
pub fn rollover_at(
    began_ms: i64,
    longest: Duration,
    quiet: Option<QuietMinute>,
    zone: &str,
) -> Result<i64, ScheduleError> {
    let zone = read_zone(zone)?;
    let longest_ms = i64::try_from(longest.as_millis()).unwrap_or(i64::MAX / 4);
    let latest = began_ms + longest_ms - MARGIN_MS.min(longest_ms / MARGIN_SHARE);
    let at_quiet = quiet.and_then(|quiet| last_quiet(began_ms, latest, quiet, &zone));
    Ok(at_quiet.unwrap_or(latest))
}

/// Returns the last quiet minute between two times.
fn last_quiet(began_ms: i64, latest_ms: i64, quiet: QuietMinute, zone: &TimeZone) -> Option<i64> {
    let latest = Timestamp::from_millisecond(latest_ms).ok()?;
    let day = latest.to_zoned_datetime(zone.clone()).date();
    (0..=1)
        .filter_map(|back: i32| {
            let local = day.checked_sub(back.days()).ok()?.to_datetime(quiet.0);
            Some(local.to_zoned_datetime(zone.clone()).ok()?.timestamp().as_millisecond())
        })
        .find(|at| began_ms < *at && *at <= latest_ms)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn ms(text: &str) -> i64 {
        text.parse::<Timestamp>().unwrap().as_millisecond()
    }

    #[rstest]
    #[case::without_a_quiet_minute_in_between("2026-11-23T12:00:00Z", 12 * 3_600, Some("04:00"), "2026-11-23T23:50:00Z")]
    #[case::on_the_next_day("2026-11-23T12:00:00Z", 24 * 3_600, Some("04:00"), "2026-11-24T04:00:00Z")]
    #[case::on_the_last_of_several("2026-11-20T12:00:00Z", 72 * 3_600, Some("04:00"), "2026-11-23T04:00:00Z")]
    #[case::just_before_it_is_too_long("2026-11-23T12:00:00Z", 12 * 3_600, None, "2026-11-23T23:50:00Z")]
    #[case::of_a_short_one("2026-11-23T12:00:00Z", 60, Some("04:00"), "2026-11-23T12:00:54Z")]
    fn rollover_is_before_the_limit(
        #[case] began: &str,
        #[case] longest_s: u64,
        #[case] quiet: Option<&str>,
        #[case] at: &str,
    ) {
        let quiet = quiet.map(|quiet| quiet.parse().unwrap());
        assert_eq!(rollover_at(ms(began), Duration::from_secs(longest_s), quiet, "UTC"), Ok(ms(at)));
    }

    #[test]
    fn quiet_minute_is_in_local_time() {
        let quiet = Some("04:00".parse().unwrap());
        let at =
            rollover_at(ms("2026-07-01T12:00:00Z"), Duration::from_secs(24 * 3_600), quiet, "Europe/Vienna");
        assert_eq!(at, Ok(ms("2026-07-02T02:00:00Z")));
    }
}
