//! Wall times as texts.

use std::time::{Duration, SystemTime};

use ::time::OffsetDateTime;
use ::time::format_description::well_known::Rfc3339;

/// RFC 3339 in UTC, to the millisecond.
pub(crate) fn text(time: SystemTime) -> String {
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_are_texts_in_utc() {
        assert_eq!(text(from_s(1_800_000_000)), "2027-01-15T08:00:00Z");
        assert_eq!(text(from_s(0) + Duration::from_micros(1_500_900)), "1970-01-01T00:00:01.5Z");
    }
}
