//! Conditions that raise an alert.

use std::fmt;
use std::str::FromStr;
use std::time::Duration;

use crate::budget::BitRate;

/// Error for a trigger that cannot be parsed.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error(
    "{0:?} is not an alert condition: write `down 60s`, `blocked`, `rate-below 500kbit/s 30s`, \
     `rate-above 8Mbit/s 30s`, `key-expires 7d`, `allowance 80%`, `flapping 5 in 10m`, `disk-low`, `records-failing`, `restarted`, \
     `undelivered`, `wrong-keys` or `backup-old 7d`"
)]
pub struct TriggerError(String);

/// Condition that raises an alert.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Trigger {
    /// A feed or a push has been down for this long.
    Down(Duration),
    /// A feed or a push is blocked: a person is needed.
    Blocked,
    /// A running push has sent less than this rate for this long.
    RateBelow(BitRate, Duration),
    /// A running push has sent more than this rate for this long.
    RateAbove(BitRate, Duration),
    /// A stream key expires within this many days.
    KeyExpires(u32),
    /// The projected traffic of an uplink reaches this percentage of its monthly allowance.
    Allowance(u32),
    /// A feed or a push has reconnected this many times within this period.
    Flapping(u32, Duration),
    /// The disk that holds the records is almost full.
    DiskLow,
    /// Records cannot be written.
    RecordsFailing,
    /// The service was started after a crash or a power failure.
    Restarted,
    /// A contact cannot be reached.
    Undelivered,
    /// Encoders with wrong stream keys were refused repeatedly.
    WrongKeys,
    /// The last backup is at least this many days old.
    BackupOld(u32),
}

impl FromStr for Trigger {
    type Err = TriggerError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let words: Vec<&str> = text.split_whitespace().collect();
        read(&words).ok_or_else(|| TriggerError(text.trim().to_owned()))
    }
}

fn read(words: &[&str]) -> Option<Trigger> {
    match words {
        ["down", time] => Some(Trigger::Down(span(time)?)),
        ["blocked"] => Some(Trigger::Blocked),
        ["rate-below", rate, time] => Some(Trigger::RateBelow(rate.parse().ok()?, span(time)?)),
        ["rate-above", rate, time] => Some(Trigger::RateAbove(rate.parse().ok()?, span(time)?)),
        ["key-expires", text] => Some(Trigger::KeyExpires(days(text)?)),
        ["disk-low"] => Some(Trigger::DiskLow),
        ["records-failing"] => Some(Trigger::RecordsFailing),
        ["restarted"] => Some(Trigger::Restarted),
        ["undelivered"] => Some(Trigger::Undelivered),
        ["wrong-keys"] => Some(Trigger::WrongKeys),
        ["backup-old", text] => Some(Trigger::BackupOld(days(text)?)),
        ["allowance", share] => share
            .strip_suffix('%')?
            .parse()
            .ok()
            .filter(|share| (1..=1_000).contains(share))
            .map(Trigger::Allowance),
        ["flapping", times, "in", time] => {
            let times = times.parse().ok().filter(|times| (2..=1_000).contains(times))?;
            Some(Trigger::Flapping(times, span(time)?))
        }
        _ => None,
    }
}

/// Parses a number of days, from 1 to 366.
fn days(text: &str) -> Option<u32> {
    text.strip_suffix('d')?.parse().ok().filter(|days| (1..=365).contains(days))
}

/// Parses a duration, from a second to a day.
fn span(text: &str) -> Option<Duration> {
    let (number, unit) = text.split_at_checked(text.len().checked_sub(1)?)?;
    let unit = match unit {
        "s" => 1,
        "m" => 60,
        "h" => 3_600,
        _ => return None,
    };
    let seconds = number.parse::<u64>().ok()?.checked_mul(unit)?;
    (1..=86_400).contains(&seconds).then(|| Duration::from_secs(seconds))
}

fn span_text(span: Duration) -> String {
    match span.as_secs() {
        seconds if seconds.is_multiple_of(3_600) => format!("{}h", seconds / 3_600),
        seconds if seconds.is_multiple_of(60) => format!("{}m", seconds / 60),
        seconds => format!("{seconds}s"),
    }
}

impl fmt::Display for Trigger {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let rate = |rate: &BitRate| match rate.kbps() {
            kbps if kbps.is_multiple_of(1_000) => format!("{}Mbit/s", kbps / 1_000),
            kbps => format!("{kbps}kbit/s"),
        };
        match self {
            Self::Down(span) => write!(f, "down {}", span_text(*span)),
            Self::Blocked => f.write_str("blocked"),
            Self::RateBelow(below, span) => write!(f, "rate-below {} {}", rate(below), span_text(*span)),
            Self::RateAbove(above, span) => write!(f, "rate-above {} {}", rate(above), span_text(*span)),
            Self::KeyExpires(days) => write!(f, "key-expires {days}d"),
            Self::Allowance(share) => write!(f, "allowance {share}%"),
            Self::Flapping(times, span) => write!(f, "flapping {times} in {}", span_text(*span)),
            Self::DiskLow => f.write_str("disk-low"),
            Self::RecordsFailing => f.write_str("records-failing"),
            Self::Restarted => f.write_str("restarted"),
            Self::Undelivered => f.write_str("undelivered"),
            Self::WrongKeys => f.write_str("wrong-keys"),
            Self::BackupOld(days) => write!(f, "backup-old {days}d"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case("down 60s", "down 1m")]
    #[case("  down   90s ", "down 90s")]
    #[case("blocked", "blocked")]
    #[case("rate-below 500kbit/s 30s", "rate-below 500kbit/s 30s")]
    #[case("rate-above 8Mbit/s 2h", "rate-above 8Mbit/s 2h")]
    #[case("key-expires 7d", "key-expires 7d")]
    #[case("allowance 80%", "allowance 80%")]
    #[case("flapping 5 in 10m", "flapping 5 in 10m")]
    #[case("disk-low", "disk-low")]
    #[case("records-failing", "records-failing")]
    #[case("restarted", "restarted")]
    #[case("undelivered", "undelivered")]
    #[case("wrong-keys", "wrong-keys")]
    #[case("backup-old 7d", "backup-old 7d")]
    fn triggers_survive_a_round_trip(#[case] text: &str, #[case] written: &str) {
        let trigger: Trigger = text.parse().unwrap();
        assert_eq!(trigger.to_string(), written);
        assert_eq!(written.parse(), Ok(trigger));
    }

    #[rstest]
    #[case("")]
    #[case("down")]
    #[case("down 60")]
    #[case("down 0s")]
    #[case("down 25h")]
    #[case("blocked 5s")]
    #[case("rate-below 500 30s")]
    #[case("key-expires 0d")]
    #[case("allowance 80")]
    #[case("flapping 1 in 10m")]
    #[case("backup-old 0d")]
    #[case("disk-low 5s")]
    fn invalid_trigger_is_refused_with_examples(#[case] text: &str) {
        let error = text.parse::<Trigger>().unwrap_err().to_string();
        assert!(error.contains("flapping 5 in 10m"), "{error}");
    }

    proptest! {
        #[test]
        fn any_text_is_parsed_or_refused(text in "[a-z0-9 %/-]{0,30}") {
            if let Ok(trigger) = text.parse::<Trigger>() {
                prop_assert_eq!(trigger.to_string().parse::<Trigger>(), Ok(trigger));
            }
        }
    }
}
