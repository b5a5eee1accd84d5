//! Wall times as texts.

use std::time::{Duration, SystemTime};

use ::time::format_description::well_known::Rfc3339;
use ::time::{Date, Month, OffsetDateTime};

/// RFC 3339 in UTC, to the millisecond.
#[must_use]
pub fn text(time: SystemTime) -> String {
    let time = OffsetDateTime::from(time);
    let whole = time.replace_millisecond(time.millisecond()).unwrap_or(time);
    whole.format(&Rfc3339).unwrap_or_default()
}

/// Seconds since 1970.
pub(crate) fn now_s() -> i64 {
    let since = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default();
    i64::try_from(since.as_secs()).unwrap_or(i64::MAX)
}

/// The time that lies so many seconds after 1970.
pub(crate) fn from_s(seconds: i64) -> SystemTime {
    SystemTime::UNIX_EPOCH + Duration::from_secs(u64::try_from(seconds).unwrap_or_default())
}

/// Milliseconds since 1970.
pub(crate) fn millis(time: SystemTime) -> i64 {
    let since = time.duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default();
    i64::try_from(since.as_millis()).unwrap_or(i64::MAX)
}

/// The time that lies so many milliseconds after 1970.
pub(crate) fn from_millis(millis: i64) -> SystemTime {
    SystemTime::UNIX_EPOCH + Duration::from_millis(u64::try_from(millis).unwrap_or_default())
}

/// Begin and end of a month like `2026-11` (UTC), in milliseconds after 1970.
pub(crate) fn month_ms(text: &str) -> Option<(i64, i64)> {
    let (year, month) = text.split_once('-').filter(|(year, month)| year.len() == 4 && month.len() == 2)?;
    let month = Month::try_from(month.parse::<u8>().ok()?).ok()?;
    let first = Date::from_calendar_date(year.parse().ok()?, month, 1).ok()?;
    let begin = first.midnight().assume_utc();
    let days = i64::from(month.length(first.year()));
    let begin_ms = begin.unix_timestamp().checked_mul(1_000)?;
    Some((begin_ms, begin_ms.checked_add(days * 86_400_000)?))
}

/// Seconds after 1970 of a time in RFC 3339, or of the end of a day like `2026-12-31` (UTC).
pub(crate) fn read_s(text: &str) -> Option<i64> {
    if let Ok(time) = OffsetDateTime::parse(text, &Rfc3339) {
        return Some(time.unix_timestamp());
    }
    let mut parts = text.split('-');
    let (year, month, day) =
        (parts.next()?.parse().ok()?, parts.next()?.parse::<u8>().ok()?, parts.next()?.parse().ok()?);
    let date = Date::from_calendar_date(year, Month::try_from(month).ok()?, day).ok()?;
    let end = date.next_day()?.midnight().assume_utc();
    parts.next().is_none().then(|| end.unix_timestamp())
}

/// A day of the calendar (UTC), and where it lies in its month.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Calendar(OffsetDateTime);

impl Calendar {
    pub(crate) fn now() -> Self {
        Self(OffsetDateTime::now_utc())
    }

    /// Like `2026-11-23`.
    pub(crate) fn day(self) -> String {
        self.0.date().to_string()
    }

    /// The first of the month.
    pub(crate) fn first_day(self) -> String {
        self.0.date().replace_day(1).unwrap_or_else(|_| self.0.date()).to_string()
    }

    /// Like `2026-11`.
    pub(crate) fn month_text(self) -> String {
        self.day().get(..7).unwrap_or_default().to_owned()
    }

    fn days(self) -> u8 {
        self.0.month().length(self.0.year())
    }

    /// Days that are left, this one included.
    pub(crate) fn days_left(self) -> u32 {
        u32::from(self.days() - self.0.day() + 1)
    }

    /// How much of the month is over.
    pub(crate) fn month(self) -> yonder_core::budget::Month {
        let today =
            u64::from(self.0.hour()) * 3_600 + u64::from(self.0.minute()) * 60 + u64::from(self.0.second());
        yonder_core::budget::Month {
            elapsed_s: u64::from(self.0.day() - 1) * 86_400 + today,
            total_s: u64::from(self.days()) * 86_400,
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
        let calendar = Calendar(OffsetDateTime::from_unix_timestamp(1_800_000_000).unwrap());
        assert_eq!((calendar.day().as_str(), calendar.first_day().as_str()), ("2027-01-15", "2027-01-01"));
        assert_eq!((calendar.month_text().as_str(), calendar.days_left()), ("2027-01", 17));
        assert_eq!(calendar.month().elapsed_s, 14 * 86_400 + 8 * 3_600);
    }
}
