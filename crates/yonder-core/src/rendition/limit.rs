//! Limits that a person sets for a destination, below those of its platform.

use std::fmt;
use std::str::FromStr;

/// Range of heights in lines.
const LINES: std::ops::RangeInclusive<u32> = 144..=4_320;
/// Range of bit rates in kilobits per second.
const KBPS: std::ops::RangeInclusive<u32> = 150..=100_000;
/// Range of frame rates.
const FPS: std::ops::RangeInclusive<f64> = 1.0..=120.0;

/// Limits of a destination; `None` for those that are not set.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Limit {
    /// Maximum height in lines.
    pub lines: Option<u32>,
    /// Maximum frame rate.
    pub fps: Option<f64>,
    /// Maximum video bit rate in kilobits per second.
    pub kbps: Option<u32>,
}

/// Error for an invalid limit.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum LimitError {
    /// Unknown form.
    #[error("{0:?} is not a limit; write 720p, 25fps or 2500kbit/s")]
    Unknown(String),
    /// Out of range.
    #[error("{0:?} is out of range: 144p to 4320p, 1fps to 120fps, 150kbit/s to 100Mbit/s")]
    Range(String),
    /// A limit is given twice.
    #[error("{0:?} sets a limit again")]
    Repeated(String),
}

impl FromStr for Limit {
    type Err = LimitError;

    /// Parses limits such as `720p,25fps,2500kbit/s` or `2.5Mbit/s`.
    fn from_str(text: &str) -> Result<Self, LimitError> {
        let mut limit = Self::default();
        for part in text.split(',').map(str::trim).filter(|part| !part.is_empty()) {
            let unknown = || LimitError::Unknown(part.to_owned());
            let range = || LimitError::Range(part.to_owned());
            let lower = part.to_ascii_lowercase();
            let at = lower.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(lower.len());
            let (number, unit) = lower.split_at_checked(at).ok_or_else(unknown)?;
            let value: f64 = number.parse().map_err(|_| unknown())?;
            let is_set = match unit {
                "p" => limit
                    .lines
                    .replace(whole(value).filter(|lines| LINES.contains(lines)).ok_or_else(range)?)
                    .is_some(),
                "fps" => limit
                    .fps
                    .replace(Some(value).filter(|fps| FPS.contains(fps)).ok_or_else(range)?)
                    .is_some(),
                "kbit/s" | "mbit/s" => {
                    let kbps = if unit == "kbit/s" { value } else { value * 1_000.0 };
                    limit
                        .kbps
                        .replace(whole(kbps).filter(|kbps| KBPS.contains(kbps)).ok_or_else(range)?)
                        .is_some()
                }
                _ => return Err(unknown()),
            };
            if is_set {
                return Err(LimitError::Repeated(part.to_owned()));
            }
        }
        Ok(limit)
    }
}

impl fmt::Display for Limit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let lines = self.lines.map(|lines| format!("{lines}p"));
        let fps = self.fps.map(|fps| format!("{fps}fps"));
        let kbps = self.kbps.map(|kbps| format!("{kbps}kbit/s"));
        f.write_str(&[lines, fps, kbps].into_iter().flatten().collect::<Vec<_>>().join(","))
    }
}

fn whole(value: f64) -> Option<u32> {
    let rounded = value.round();
    #[expect(
        clippy::as_conversions,
        clippy::cast_possible_truncation,
        clippy::cast_sign_loss,
        reason = "in the range of the type"
    )]
    let whole = ((0.0..=f64::from(u32::MAX)).contains(&rounded)).then_some(rounded as u32);
    whole
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::none("", Limit::default(), "")]
    #[case::all(
        "720p,25fps,2500kbit/s",
        Limit { lines: Some(720), fps: Some(25.0), kbps: Some(2_500) },
        "720p,25fps,2500kbit/s"
    )]
    #[case::any_order_and_case(
        " 2.5Mbit/s , 12.5FPS ",
        Limit { lines: None, fps: Some(12.5), kbps: Some(2_500) },
        "12.5fps,2500kbit/s"
    )]
    fn limits_are_parsed_and_written(#[case] text: &str, #[case] limit: Limit, #[case] written: &str) {
        assert_eq!(text.parse(), Ok(limit));
        assert_eq!(limit.to_string(), written);
        assert_eq!(written.parse(), Ok(limit));
    }

    #[rstest]
    #[case("720")]
    #[case("p")]
    #[case("fast")]
    #[case("720p/25")]
    #[case("1.2.3fps")]
    fn other_forms_are_refused(#[case] text: &str) {
        assert!(matches!(text.parse::<Limit>(), Err(LimitError::Unknown(_))));
    }

    #[rstest]
    #[case("100p")]
    #[case("0fps")]
    #[case("1kbit/s")]
    #[case("900Mbit/s")]
    fn values_out_of_range_are_refused(#[case] text: &str) {
        assert!(matches!(text.parse::<Limit>(), Err(LimitError::Range(_))));
    }

    #[test]
    fn repeated_limits_are_refused() {
        assert_eq!("720p,480p".parse::<Limit>(), Err(LimitError::Repeated("480p".into())));
    }
}
