//! `yonder budget`: uplinks, bit rates and monthly traffic.

use clap::{Args, ValueEnum};
use yonder_api::{Budget, FitRow, Load, UplinkBudget, WhatFits, WhatIf};
use yonder_core::budget::{BitRate, Volume};

use crate::client::Client;
use crate::failure::Failure;
use crate::output::{Tone, colorize, grouped, has_color, print, print_json, wants_json};

/// Width of a bar, in characters.
const BAR: u64 = 40;

/// Protocol of a push.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum PushProtocol {
    Rtmp,
    Rtmps,
    Srt,
}

impl PushProtocol {
    fn as_str(self) -> &'static str {
        match self {
            Self::Rtmp => "rtmp",
            Self::Rtmps => "rtmps",
            Self::Srt => "srt",
        }
    }
}

#[derive(Debug, Args)]
pub(crate) struct BudgetArguments {
    /// Number of additional pushes.
    #[arg(long, value_name = "NUMBER")]
    more: Option<u32>,
    /// Protocol of the additional pushes, or of the chart.
    #[arg(long, value_enum)]
    over: Option<PushProtocol>,
    /// Hypothetical bit rate of every feed, such as 3Mbit/s.
    #[arg(long, value_name = "RATE")]
    rate: Option<String>,
    /// Hypothetical hours per day of all relays.
    #[arg(long, value_name = "HOURS")]
    hours: Option<f64>,
    /// Show the frame sizes, frame rates and bit rates that fit for this number of destinations.
    #[arg(long, value_name = "DESTINATIONS")]
    what_fits: Option<u32>,
    /// Include relays that are off.
    #[arg(long)]
    all: bool,
}

pub(crate) fn run(arguments: BudgetArguments, client: &Client) -> Result<(), Failure> {
    let BudgetArguments { more, over, rate, hours, what_fits, all } = arguments;
    let over = over.map(|over| over.as_str().to_owned());
    let request = WhatIf { more, over, rate, hours, destinations: what_fits, all };
    let budget: Budget = client.post(&["budget"], &request)?;
    if wants_json() {
        return print_json(&budget);
    }
    print(&screen(&budget, has_color()));
    Ok(())
}

fn screen(budget: &Budget, color: bool) -> String {
    let mut text = String::new();
    if budget.uplinks.is_empty() {
        text += "No uplinks yet. Add one: yonder uplink add NAME --rate 20Mbit/s\n";
    }
    for uplink in &budget.uplinks {
        text += &uplink_text(uplink, budget, color);
        text += "\n";
    }
    if !budget.undescribed.is_empty() {
        text += &colorize("On unknown uplinks", Tone::Strong, color);
        text += "\n";
        text += &loads(&budget.undescribed);
        text += "\n";
    }
    for chart in &budget.fits {
        text += &chart_text(chart, color);
        text += "\n";
    }
    text.truncate(text.trim_end().len());
    text + "\n"
}

fn uplink_text(budget: &UplinkBudget, all: &Budget, color: bool) -> String {
    let uplink = &budget.uplink;
    let site = uplink.site.as_ref().map(|site| format!(" at {site}")).unwrap_or_default();
    let role = if uplink.backup { ", backup: after a failover" } else { "" };
    let mut text = colorize(&format!("{}{site}", uplink.name), Tone::Strong, color);
    text += &format!("{role}\n");
    let tone = tone(&budget.verdict);
    text += &format!(
        "  {} {} of {}, {} usable: {}\n",
        colorize(&bar(budget.sum_kbps, budget.usable_kbps, uplink.up_kbps), tone, color),
        BitRate::from_kbps(budget.sum_kbps),
        BitRate::from_kbps(uplink.up_kbps),
        BitRate::from_kbps(budget.usable_kbps),
        colorize(&budget.verdict, tone, color),
    );
    let is_as_above =
        uplink.backup && all.uplinks.iter().any(|other| !other.uplink.backup && other.loads == budget.loads);
    text += &if is_as_above { "    the same as above\n".to_owned() } else { loads(&budget.loads) };
    let sent = Volume::from_bytes(uplink.sent_bytes);
    let projected = Volume::from_bytes(budget.projected_bytes);
    match (uplink.allowance_bytes, budget.projected_percent, &budget.month_verdict) {
        (Some(allowance), Some(percent), Some(verdict)) => {
            let tone = self::tone(verdict);
            text += &format!(
                "  {} {}: {sent} sent, {projected} projected with {} left ({percent} % of {}): {}\n",
                colorize(&bar(budget.projected_bytes, allowance, allowance), tone, color),
                all.month,
                days(all.days_left),
                Volume::from_bytes(allowance),
                colorize(verdict, tone, color),
            );
        }
        _ => text += &format!("  {}: {sent} sent, {projected} projected; no allowance is set\n", all.month),
    }
    text
}

/// Formats a number of days.
fn days(count: u32) -> String {
    format!("{count} {}", if count == 1 { "day" } else { "days" })
}

fn tone(verdict: &str) -> Tone {
    match verdict {
        "fits" | "good" => Tone::Good,
        "tight" | "plain" => Tone::Wait,
        _ => Tone::Bad,
    }
}

/// Formats a bar of the used part, with a mark at the end of the usable part.
fn bar(used: u64, usable: u64, all: u64) -> String {
    let all = all.max(1);
    let cells = |part: u64| part.saturating_mul(BAR) / all;
    let (used, mark) = (cells(used).min(BAR), cells(usable));
    let cell = |at: u64| match at {
        at if at == mark && at < BAR => '│',
        at if at < used => '█',
        _ => '·',
    };
    (0..BAR).map(cell).collect()
}

fn loads(loads: &[Load]) -> String {
    let wide = loads.iter().map(|load| load.what.chars().count()).max().unwrap_or_default();
    let line = |load: &Load| {
        let rate = load
            .kbps
            .map_or_else(|| "not measured yet".to_owned(), |kbps| format!("{:>7} kbit/s", grouped(kbps)));
        format!("    {:<wide$}  {rate}\n", load.what)
    };
    loads.iter().map(line).collect()
}

fn chart_text(chart: &WhatFits, color: bool) -> String {
    let each = BitRate::from_kbps(chart.each_kbps);
    let mut text = colorize(
        &format!(
            "Capacity of {} to {} destinations: {each} of media for each",
            chart.uplink, chart.destinations
        ),
        Tone::Strong,
        color,
    );
    let mut rates: Vec<u32> = chart.rows.iter().map(|row| row.fps).collect();
    rates.sort_unstable();
    rates.dedup();
    text += &format!("\n  {:<11}", "");
    for fps in &rates {
        text += &format!("{:<21}", format!("{fps} frames/s"));
    }
    text.truncate(text.trim_end().len());
    text += "\n";
    let mut sizes: Vec<(u32, u32)> = chart.rows.iter().map(|row| (row.width, row.lines)).collect();
    sizes.dedup();
    for (width, lines) in sizes {
        let mut line = format!("  {:<11}", format!("{width}×{lines}"));
        for fps in &rates {
            if let Some(row) = chart.rows.iter().find(|row| row.lines == lines && row.fps == *fps) {
                line += &cell(row, color);
            }
        }
        text += line.trim_end();
        text += "\n";
    }
    text + "  good and plain: typical rates of H.264 with audio, in kbit/s\n"
}

fn cell(row: &FitRow, color: bool) -> String {
    let text = match row.fit.as_str() {
        "good" => format!("good from {}", grouped(row.good_kbps)),
        "plain" => format!("plain from {}", grouped(row.plain_kbps)),
        _ => format!("needs {}", grouped(row.plain_kbps)),
    };
    let tone = if row.fit == "no" { Tone::Quiet } else { tone(&row.fit) };
    colorize(&format!("{text:<21}"), tone, color)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bar_shows_used_part_and_headroom() {
        assert_eq!(bar(0, 75, 100), format!("{}│{}", "·".repeat(30), "·".repeat(9)));
        assert_eq!(bar(50, 75, 100), format!("{}{}│{}", "█".repeat(20), "·".repeat(10), "·".repeat(9)));
        assert_eq!(bar(900, 75, 100), format!("{}│{}", "█".repeat(30), "█".repeat(9)));
        assert_eq!(bar(5, 0, 0).chars().count(), 40);
    }
}
