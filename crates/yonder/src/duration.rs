//! Durations on the command line.

use std::time::Duration;

/// Parses a duration such as `500ms`, `30s`, `2m` or `1h`.
pub(crate) fn parse_duration(text: &str) -> Result<Duration, String> {
    let digits = text.find(|c: char| !c.is_ascii_digit()).unwrap_or(text.len());
    let (number, unit) = text.split_at(digits);
    let number: u64 = number.parse().map_err(|_| "give a time like 30s or 2m".to_owned())?;
    let milliseconds = match unit {
        "ms" => 1,
        "s" => 1_000,
        "m" => 60_000,
        "h" => 3_600_000,
        _ => return Err("give a time with its unit, like 30s or 2m".to_owned()),
    };
    let milliseconds = number.checked_mul(milliseconds).filter(|ms| *ms > 0 && *ms <= 30 * 86_400_000);
    milliseconds.map(Duration::from_millis).ok_or_else(|| "give a time from 1ms to 720h".to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_need_a_unit() {
        assert_eq!(parse_duration("30s"), Ok(Duration::from_secs(30)));
        assert_eq!(parse_duration("2m"), Ok(Duration::from_secs(120)));
        assert_eq!(parse_duration("500ms"), Ok(Duration::from_millis(500)));
        for wrong in ["30", "s", "", "0s", "-1s", "9999999h", "3 s"] {
            assert!(parse_duration(wrong).is_err(), "{wrong}");
        }
    }
}
