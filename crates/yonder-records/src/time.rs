//! Formatting and parsing of wall clock times.

use std::time::{Duration, SystemTime};

use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan as _, ZonedDateTime};

/// Formats a time in RFC 3339, in UTC with milliseconds.
#[must_use]
pub fn text(time: SystemTime) -> String {
    Timestamp::from_millisecond(millis(time)).unwrap_or_default().to_string()
}

/// Returns the seconds since 1970.
pub fn now_s() -> i64 {
    let since = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default();
    i64::try_from(since.as_secs()).unwrap_or(i64::MAX)
}

/// Returns the time of these seconds since 1970.
pub fn from_s(seconds: i64) -> SystemTime {
    SystemTime::UNIX_EPOCH + Duration::from_secs(u64::try_from(seconds).unwrap_or_default())
}

/// Returns the milliseconds since 1970.
pub fn millis(time: SystemTime) -> i64 {
    let since = time.duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default();
    i64::try_from(since.as_millis()).unwrap_or(i64::MAX)
}

/// Returns the time of these milliseconds since 1970.
pub fn from_millis(millis: i64) -> SystemTime {
    SystemTime::UNIX_EPOCH + Duration::from_millis(u64::try_from(millis).unwrap_or_default())
}

/// Returns the beginning of a day (UTC).
fn midnight(date: Date) -> Option<Timestamp> {
    TimeZone::UTC.to_timestamp(date.at(0, 0, 0, 0)).ok()
}

/// Returns begin and end of a month like `2026-11` (UTC), in milliseconds since 1970.
pub fn month_ms(text: &str) -> Option<(i64, i64)> {
    let (year, month) = text.split_once('-').filter(|(year, month)| year.len() == 4 && month.len() == 2)?;
    let first = Date::new(year.parse().ok()?, month.parse().ok()?, 1).ok()?;
    let next = first.checked_add(1.month()).ok()?;
    Some((midnight(first)?.as_millisecond(), midnight(next)?.as_millisecond()))
}

/// Returns the seconds since 1970 of a time in RFC 3339, or of the end of a day like `2026-12-31` (UTC).
pub fn read_s(text: &str) -> Option<i64> {
    if let Ok(time) = text.parse::<Timestamp>() {
        return Some(time.as_second());
    }
    let mut parts = text.split('-');
    let (year, month, day) =
        (parts.next()?.parse().ok()?, parts.next()?.parse().ok()?, parts.next()?.parse().ok()?);
    let end = midnight(Date::new(year, month, day).ok()?.tomorrow().ok()?)?;
    parts.next().is_none().then(|| end.as_second())
}

/// Calendar day (UTC).
#[derive(Debug, Clone)]
pub struct Calendar(ZonedDateTime);

impl Calendar {
    /// Returns the present day.
    pub fn now() -> Self {
        Self::at(now_s())
    }

    /// Returns the day of these seconds since 1970.
    fn at(seconds: i64) -> Self {
        Self(Timestamp::from_second(seconds).unwrap_or_default().to_zoned_datetime(TimeZone::UTC))
    }

    /// Returns the day, like `2026-11-23`.
    pub fn day(&self) -> String {
        self.0.date().to_string()
    }

    /// Returns the first day of the month.
    pub(crate) fn first_day(&self) -> String {
        self.0.date().first_of_month().to_string()
    }

    /// Returns the month, like `2026-11`.
    pub fn month_text(&self) -> String {
        self.day().get(..7).unwrap_or_default().to_owned()
    }

    /// Returns the remaining days of the month, including this one.
    pub fn days_left(&self) -> u32 {
        u32::from((self.0.days_in_month() - self.0.day() + 1).unsigned_abs())
    }

    /// Returns the elapsed part of the month.
    pub fn month(&self) -> yonder_core::budget::Month {
        let day = |days: i8| u64::from(days.unsigned_abs()) * 86_400;
        let today = u64::from(self.0.hour().unsigned_abs()) * 3_600
            + u64::from(self.0.minute().unsigned_abs()) * 60
            + u64::from(self.0.second().unsigned_abs());
        yonder_core::budget::Month {
            elapsed_s: day(self.0.day() - 1) + today,
            total_s: day(self.0.days_in_month()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_are_texts_in_utc() {
        assert_eq!(text(from_s(1_800_000_000)), "2027-01-15T08:00:00Z");
        assert_eq!(text(from_s(0) + Duration::from_micros(1_500_900)), "1970-01-01T00:00:01.5Z");
    }

    #[test]
    fn days_last_to_their_end_and_times_to_their_second() {
        assert_eq!(read_s("2027-01-14"), Some(1_800_000_000 - 8 * 3_600));
        assert_eq!(read_s("2027-01-15T09:00:00+01:00"), Some(1_800_000_000));
        for text in ["", "soon", "2027-02-30", "2027-1", "2027-01-14-03", "14.1.2027"] {
            assert_eq!(read_s(text), None, "{text}");
        }
    }

    #[test]
    fn months_begin_and_end_at_midnight() {
        let (begin, end) = month_ms("2027-01").unwrap();
        assert_eq!(text(from_millis(begin)), "2027-01-01T00:00:00Z");
        assert_eq!(text(from_millis(end)), "2027-02-01T00:00:00Z");
        for wrong in ["", "2027", "2027-13", "2027-1", "27-01", "2027-01-01", "this"] {
            assert_eq!(month_ms(wrong), None, "{wrong}");
        }
    }

    #[test]
    fn a_month_is_counted_by_the_calendar() {
        let calendar = Calendar::at(1_800_000_000);
        assert_eq!((calendar.day().as_str(), calendar.first_day().as_str()), ("2027-01-15", "2027-01-01"));
        assert_eq!((calendar.month_text().as_str(), calendar.days_left()), ("2027-01", 17));
        assert_eq!(calendar.month().elapsed_s, 14 * 86_400 + 8 * 3_600);
    }
}
