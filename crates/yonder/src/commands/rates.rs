//! `yonder relay rates`: bit rates over time as small charts.

use clap::{Args, ValueEnum};
use jiff::{SignedDuration, Timestamp};
use yonder_api::Rates;
use yonder_core::budget::BitRate;

use crate::client::Client;
use crate::failure::Failure;
use crate::output::{Tone, colorize, csv, has_color, local, print, print_json, print_raw, wants_json};

/// Width of a chart, in characters.
const CELLS: usize = 60;
/// Bars of a chart, the lowest first.
const HEIGHTS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];

/// Time range of rates.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum Range {
    Hour,
    Day,
    Month,
}

impl Range {
    fn as_str(self) -> &'static str {
        match self {
            Self::Hour => "hour",
            Self::Day => "day",
            Self::Month => "month",
        }
    }
}

#[derive(Debug, Args)]
pub(crate) struct RatesArguments {
    /// Name of the relay.
    name: String,
    /// Time range: an hour per second, a day per ten seconds, or a month per minute.
    #[arg(long, value_enum, default_value = "hour", alias = "over")]
    range: Range,
    /// Print comma-separated values, one line per step.
    #[arg(long, conflicts_with = "json")]
    csv: bool,
}

pub(crate) fn run(arguments: &RatesArguments, client: &Client) -> Result<(), Failure> {
    let range = arguments.range.as_str();
    let rates: Rates = client.get_with(&["relays", &arguments.name, "rates"], &[("range", range)])?;
    if wants_json() {
        return print_json(&rates);
    }
    if arguments.csv {
        print_raw(&rates_csv(&rates)?);
        return Ok(());
    }
    let mut text = format!("{}, the {range} from {}\n", arguments.name, local(&rates.from));
    text += &line("feed", &rates.feed, has_color());
    for push in &rates.pushes {
        text += &line(&format!("→ {}", push.destination), &push.kbps, has_color());
    }
    print(&text);
    Ok(())
}

fn line(name: &str, values: &[Option<u32>], color: bool) -> String {
    let known: Vec<u64> = values.iter().flatten().map(|value| u64::from(*value)).collect();
    let Some(most) = known.iter().max().copied() else {
        return format!("  {name:<30} no measurements\n");
    };
    let mean = known.iter().sum::<u64>() / u64::try_from(known.len()).unwrap_or(1);
    let rate = |kbps: u64| BitRate::from_kbps(kbps).to_string();
    let curve = colorize(&curve(values, most), Tone::Good, color);
    format!("  {name:<30} {curve}\n  {:<30} mean {}, at most {}\n", "", rate(mean), rate(most))
}

/// Formats a chart: each character is the mean of its part, or a blank if no measurements.
fn curve(values: &[Option<u32>], most: u64) -> String {
    let cell = |at: usize| {
        let part = values.get(at * values.len() / CELLS..(at + 1) * values.len() / CELLS).unwrap_or_default();
        let known: Vec<u64> = part.iter().flatten().map(|value| u64::from(*value)).collect();
        if known.is_empty() {
            return ' ';
        }
        let mean = known.iter().sum::<u64>() / u64::try_from(known.len()).unwrap_or(1);
        let height = mean * 7 / most.max(1);
        usize::try_from(height).ok().and_then(|height| HEIGHTS.get(height)).copied().unwrap_or('█')
    };
    (0..CELLS).map(cell).collect()
}

fn rates_csv(rates: &Rates) -> Result<String, Failure> {
    let from: Timestamp = rates.from.parse().map_err(anyhow::Error::from)?;
    let mut head = vec!["at", "feed_kbps"];
    head.extend(rates.pushes.iter().map(|push| push.destination.as_str()));
    let text = |value: Option<u32>| value.map(|value| value.to_string()).unwrap_or_default();
    let rows = (0..rates.feed.len()).map(|at| {
        let seconds = i64::try_from(at).unwrap_or_default() * i64::from(rates.step_s);
        let time = from
            .checked_add(SignedDuration::from_secs(seconds))
            .map_or_else(|_| String::new(), |time| time.to_string());
        let value = |values: &[Option<u32>]| text(values.get(at).copied().flatten());
        let mut row = vec![time, value(&rates.feed)];
        row.extend(rates.pushes.iter().map(|push| value(&push.kbps)));
        row
    });
    csv(&head, rows)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn chart_has_a_fixed_width_and_blank_gaps() {
        let mut values = vec![None; 60];
        values.extend((0..60).map(|at| Some(at * 100)));
        let drawn: Vec<char> = curve(&values, 5_900).chars().collect();
        assert_eq!(drawn.len(), CELLS);
        assert_eq!((drawn[0], drawn[30], drawn[59]), (' ', '▁', '▇'));
    }
}
