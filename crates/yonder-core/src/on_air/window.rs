//! On-air window: days, begin and end.

use std::fmt;
use std::str::FromStr;

use jiff::civil::{Date, Time, Weekday};

/// Error for a window that cannot be parsed.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum WindowError {
    /// Not of the form "days times".
    #[error("{0:?} is not days and times like `mon-fri 08:00-18:00`")]
    Form(String),
    /// Unknown day.
    #[error("{0:?} is not a day: write daily, mon, mon-fri, sat,sun or a date like 2026-12-24")]
    Day(String),
    /// Invalid time.
    #[error("{0:?} is not a time of day like 08:00")]
    Time(String),
}

/// Days on which a window begins.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Days {
    /// One date.
    Date(Date),
    /// Days of the week, from Monday.
    Week([bool; 7]),
}

/// Window in local time.
///
/// Written as `daily 06:00-22:00`, `mon-fri 08:00-18:00`, `sat,sun 20:00-02:00` (over midnight) or
/// `2026-12-24 18:00-23:30`. A window with equal begin and end lasts a whole day.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Window {
    days: Days,
    from: Time,
    to: Time,
}

impl Window {
    /// Returns begin and end in local time of the window that begins on `date`; `None` if there is none.
    pub(super) fn on(&self, date: Date) -> Option<(jiff::civil::DateTime, jiff::civil::DateTime)> {
        let begins = match &self.days {
            Days::Date(own) => *own == date,
            Days::Week(week) => {
                let day = usize::try_from(date.weekday().to_monday_zero_offset()).unwrap_or_default();
                week.get(day).copied().unwrap_or_default()
            }
        };
        let ends = if self.to > self.from { date } else { date.tomorrow().ok()? };
        begins.then(|| (date.to_datetime(self.from), ends.to_datetime(self.to)))
    }

    /// Returns the date of a window for one day.
    pub(super) fn date(&self) -> Option<Date> {
        match self.days {
            Days::Date(date) => Some(date),
            Days::Week(_) => None,
        }
    }
}

/// Abbreviations of the days, from Monday.
const NAMES: [(&str, Weekday); 7] = [
    ("mon", Weekday::Monday),
    ("tue", Weekday::Tuesday),
    ("wed", Weekday::Wednesday),
    ("thu", Weekday::Thursday),
    ("fri", Weekday::Friday),
    ("sat", Weekday::Saturday),
    ("sun", Weekday::Sunday),
];

fn day_index(text: &str) -> Result<usize, WindowError> {
    let found = NAMES.iter().position(|(name, _)| *name == text);
    found.ok_or_else(|| WindowError::Day(text.to_owned()))
}

fn read_days(text: &str) -> Result<Days, WindowError> {
    if text.starts_with(|c: char| c.is_ascii_digit()) {
        return text.parse().map(Days::Date).map_err(|_| WindowError::Day(text.to_owned()));
    }
    if text == "daily" {
        return Ok(Days::Week([true; 7]));
    }
    let mut week = [false; 7];
    for part in text.split(',') {
        let (first, last) = part.split_once('-').unwrap_or((part, part));
        let (first, last) = (day_index(first)?, day_index(last)?);
        // A range such as Saturday to Monday wraps around the end of the week.
        let length = (last + 7 - first) % 7;
        for step in 0..=length {
            if let Some(day) = week.get_mut((first + step) % 7) {
                *day = true;
            }
        }
    }
    Ok(Days::Week(week))
}

/// Parses hours and minutes.
pub(super) fn read_time(text: &str) -> Result<Time, WindowError> {
    let wrong = || WindowError::Time(text.to_owned());
    let (hour, minute) = text.split_once(':').filter(|(_, minute)| minute.len() == 2).ok_or_else(wrong)?;
    let number = |text: &str| text.parse::<i8>().map_err(|_| wrong());
    Time::new(number(hour)?, number(minute)?, 0, 0).map_err(|_| wrong())
}

impl FromStr for Window {
    type Err = WindowError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let lower = text.trim().to_ascii_lowercase();
        let form = || WindowError::Form(text.trim().to_owned());
        let (days, times) = lower.split_once(char::is_whitespace).ok_or_else(form)?;
        let (from, to) = times.trim().split_once('-').ok_or_else(form)?;
        Ok(Self { days: read_days(days)?, from: read_time(from.trim())?, to: read_time(to.trim())? })
    }
}

impl fmt::Display for Window {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.days {
            Days::Date(date) => write!(f, "{date}")?,
            Days::Week([true, true, true, true, true, true, true]) => f.write_str("daily")?,
            Days::Week(week) => f.write_str(&week_text(*week))?,
        }
        write!(f, " {}-{}", self.from.strftime("%H:%M"), self.to.strftime("%H:%M"))
    }
}

/// Formats days of the week; three or more in a row as a range.
fn week_text(week: [bool; 7]) -> String {
    let names: Vec<&str> = NAMES.iter().map(|(name, _)| *name).collect();
    let mut parts = Vec::new();
    let mut run: Vec<&str> = Vec::new();
    for (name, on) in names.into_iter().zip(week).chain([("", false)]) {
        if on {
            run.push(name);
            continue;
        }
        match run.as_slice() {
            [first, _, .., last] => parts.push(format!("{first}-{last}")),
            days => parts.extend(days.iter().map(|&day| day.to_owned())),
        }
        run.clear();
    }
    parts.join(",")
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case("daily 06:00-22:00", "daily 06:00-22:00")]
    #[case("  Mon-Fri   8:00-18:00 ", "mon-fri 08:00-18:00")]
    #[case("sat,sun 20:00-02:00", "sat,sun 20:00-02:00")]
    #[case("sat-mon 20:00-02:00", "mon,sat,sun 20:00-02:00")]
    #[case("mon,wed,fri-sun 00:00-00:00", "mon,wed,fri-sun 00:00-00:00")]
    #[case("2026-12-24 18:00-23:30", "2026-12-24 18:00-23:30")]
    fn windows_survive_a_round_trip(#[case] text: &str, #[case] written: &str) {
        assert_eq!(text.parse::<Window>().unwrap().to_string(), written);
    }

    #[rstest]
    #[case("", "not days and times")]
    #[case("daily", "not days and times")]
    #[case("daily 06:00", "not days and times")]
    #[case("weekdays 06:00-22:00", "not a day")]
    #[case("2026-02-30 06:00-22:00", "not a day")]
    #[case("mon- 06:00-22:00", "not a day")]
    #[case("daily 24:00-22:00", "not a time")]
    #[case("daily 6-22", "not a time")]
    #[case("daily 06:0-22:00", "not a time")]
    fn invalid_windows_are_refused(#[case] text: &str, #[case] said: &str) {
        let error = text.parse::<Window>().unwrap_err().to_string();
        assert!(error.contains(said), "{error}");
    }

    proptest! {
        #[test]
        fn any_text_is_parsed_or_refused(text in "[a-z0-9:, -]{0,30}") {
            if let Ok(window) = text.parse::<Window>() {
                prop_assert_eq!(window.to_string().parse::<Window>().unwrap(), window);
            }
        }
    }
}
