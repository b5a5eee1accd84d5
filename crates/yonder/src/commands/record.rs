//! `yonder logbook` and `yonder report`.

use std::thread::sleep;
use std::time::Duration;

use clap::Args;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use yonder_api::{LogEntry, Outage, Report, ReportLine};
use yonder_core::FaultDomain;

use crate::client::Client;
use crate::failure::Failure;
use crate::output::{Tone, colorize, csv, has_color, local, print, print_json, print_raw, table, wants_json};

/// Interval of requests for new lines with `--follow`.
const FOLLOW_EVERY: Duration = Duration::from_secs(1);

#[derive(Debug, Args)]
pub(crate) struct LogbookArguments {
    /// Keep printing new lines until interrupted.
    #[arg(long, conflicts_with = "csv")]
    follow: bool,
    /// Only lines from this time on: a time like 2026-11-23T08:00:00Z, or an age like 2h.
    #[arg(long, value_name = "TIME", value_parser = read_time)]
    from: Option<String>,
    /// Only lines about the feed, relay or destination with this name.
    #[arg(long, value_name = "NAME")]
    about: Option<String>,
    /// Maximum number of lines, 200 by default; the latest are printed.
    #[arg(long, value_name = "NUMBER", alias = "most")]
    limit: Option<u32>,
    /// Print comma-separated values.
    #[arg(long, conflicts_with = "json")]
    csv: bool,
}

#[derive(Debug, Args)]
pub(crate) struct ReportArguments {
    /// Month, such as 2026-11; the current one by default.
    #[arg(long, value_name = "MONTH")]
    month: Option<String>,
    /// List the outages instead of the sums.
    #[arg(long)]
    outages: bool,
    /// Print comma-separated values.
    #[arg(long, conflicts_with = "json")]
    csv: bool,
}

pub(crate) fn logbook(arguments: &LogbookArguments, client: &Client) -> Result<(), Failure> {
    let LogbookArguments { follow, from, about, limit, csv: as_csv } = arguments;
    let limit = limit.map(|limit| limit.to_string());
    let mut query: Vec<(&str, &str)> = Vec::new();
    query.extend(from.as_deref().map(|from| ("from", from)));
    query.extend(about.as_deref().map(|about| ("about", about)));
    query.extend(limit.as_deref().map(|limit| ("limit", limit)));
    let lines: Vec<LogEntry> = client.get_with(&["logbook"], &query)?;
    if *follow {
        return follow_logbook(lines, about.as_deref(), client);
    }
    if wants_json() {
        return print_json(&lines);
    }
    if *as_csv {
        let rows = lines.iter().map(|line| {
            let LogEntry { at, kind, name, part, what, code, side, message, who, .. } = line;
            let text = |value: &Option<String>| value.clone().unwrap_or_default();
            let (at, kind, name, what) = (at.clone(), kind.clone(), name.clone(), what.clone());
            vec![at, kind, name, text(part), what, text(code), side_name(*side), message.clone(), text(who)]
        });
        let head = ["at", "kind", "name", "destination", "what", "code", "side", "message", "who"];
        print_raw(&csv(&head, rows)?);
        return Ok(());
    }
    if lines.is_empty() {
        print("No logbook entry matches.\n");
        return Ok(());
    }
    let wide = width(&lines);
    for line in &lines {
        print(&log_text(line, wide, has_color()));
    }
    Ok(())
}

fn follow_logbook(mut lines: Vec<LogEntry>, about: Option<&str>, client: &Client) -> Result<(), Failure> {
    let mut last = 0;
    let mut wide = 0;
    loop {
        wide = width(&lines).max(wide);
        for line in &lines {
            last = line.id.max(last);
            if wants_json() {
                let text = serde_json::to_string(line).map_err(anyhow::Error::from)?;
                print_raw(&(text + "\n"));
            } else {
                print(&log_text(line, wide, has_color()));
            }
        }
        sleep(FOLLOW_EVERY);
        let after = last.to_string();
        let mut query = vec![("after", after.as_str())];
        query.extend(about.map(|about| ("about", about)));
        lines = client.get_with(&["logbook"], &query)?;
    }
}

pub(crate) fn report(arguments: &ReportArguments, client: &Client) -> Result<(), Failure> {
    let query: Vec<(&str, &str)> = arguments.month.iter().map(|month| ("month", month.as_str())).collect();
    let report: Report = client.get_with(&["report"], &query)?;
    if wants_json() {
        return print_json(&report);
    }
    match (arguments.outages, arguments.csv) {
        (false, false) => print(&sums(&report)),
        (true, false) => print(&outages(&report)),
        (false, true) => print_raw(&sums_csv(&report)?),
        (true, true) => print_raw(&outages_csv(&report)?),
    }
    Ok(())
}

fn sums(report: &Report) -> String {
    let mut text = format!("{}, {} to {}\n\n", report.month, local(&report.from), local(&report.to));
    if report.lines.is_empty() {
        return text + "No relay was on in this period.\n";
    }
    let rank = |line: &&ReportLine| match line.kind.as_str() {
        "relay" => 0,
        "push" => 1,
        _ => 2,
    };
    let mut ordered: Vec<&ReportLine> = report.lines.iter().collect();
    ordered.sort_by_key(|line| (rank(line), line.name.to_lowercase()));
    let rows: Vec<Vec<String>> = report.sites.iter().chain(ordered).map(sums_row).collect();
    text += &table(&["SUBJECT", "UP", "ON", "DOWN", "OUTAGES", "LONGEST", "FAULT DOMAIN"], &rows);
    text
}

fn sums_row(line: &ReportLine) -> Vec<String> {
    let shares: Vec<String> =
        line.shares.iter().map(|share| format!("{} {}", share.side.as_str(), span(share.down_s))).collect();
    vec![
        subject(&line.kind, &line.name, line.part.as_deref()),
        line.availability_percent.map_or_else(|| "-".to_owned(), |percent| format!("{percent:.3} %")),
        span(line.wanted_s),
        span(line.down_s),
        line.outages.to_string(),
        span(line.longest_s),
        shares.join(", "),
    ]
}

fn sums_csv(report: &Report) -> Result<String, Failure> {
    let mut head =
        vec!["kind", "name", "destination", "availability_percent", "wanted_s", "down_s", "outages"];
    head.push("longest_s");
    let by_side: Vec<String> =
        FaultDomain::ALL.iter().map(|side| format!("down_{}_s", side.as_str())).collect();
    head.extend(by_side.iter().map(String::as_str));
    let rows = report.sites.iter().chain(&report.lines).map(|line| {
        let mut row = vec![
            line.kind.clone(),
            line.name.clone(),
            line.part.clone().unwrap_or_default(),
            line.availability_percent.map(|percent| percent.to_string()).unwrap_or_default(),
            line.wanted_s.to_string(),
            line.down_s.to_string(),
            line.outages.to_string(),
            line.longest_s.to_string(),
        ];
        row.extend(FaultDomain::ALL.iter().map(|side| {
            let share = line.shares.iter().find(|share| share.side == *side);
            share.map_or(0, |share| share.down_s).to_string()
        }));
        row
    });
    csv(&head, rows)
}

fn outages(report: &Report) -> String {
    if report.outages.is_empty() {
        return format!("No outages in {}.\n", report.month);
    }
    let row = |outage: &Outage| {
        vec![
            local(&outage.begin),
            outage.end.as_deref().map_or_else(|| "still down".to_owned(), local),
            span(outage.down_s),
            subject(&outage.kind, &outage.name, outage.part.as_deref()),
            outage.side.as_str().to_owned(),
            outage.message.clone(),
        ]
    };
    let rows: Vec<Vec<String>> = report.outages.iter().map(row).collect();
    table(&["FROM", "TO", "DOWN", "SUBJECT", "FAULT DOMAIN", "CAUSE"], &rows)
}

fn outages_csv(report: &Report) -> Result<String, Failure> {
    let head = ["kind", "name", "destination", "begin", "end", "down_s", "side", "code", "message"];
    let rows = report.outages.iter().map(|outage| {
        let Outage { kind, name, part, begin, end, down_s, code, side, message } = outage.clone();
        let (part, end) = (part.unwrap_or_default(), end.unwrap_or_default());
        vec![kind, name, part, begin, end, down_s.to_string(), side.as_str().to_owned(), code, message]
    });
    csv(&head, rows)
}

fn side_name(side: Option<FaultDomain>) -> String {
    side.map_or("", FaultDomain::as_str).to_owned()
}

/// Returns the width of the longest subject of the lines.
fn width(lines: &[LogEntry]) -> usize {
    let names = lines.iter().map(|line| subject(&line.kind, &line.name, line.part.as_deref()));
    names.map(|name| name.chars().count()).max().unwrap_or_default()
}

fn log_text(line: &LogEntry, wide: usize, color: bool) -> String {
    let subject = subject(&line.kind, &line.name, line.part.as_deref());
    let mut text = format!("{}  {subject:<wide$}  ", local(&line.at));
    text += &colorize(&line.what, Tone::of_entry(&line.what), color);
    if let Some(who) = &line.who {
        text += &format!(" by {who}");
    }
    if let (Some(code), Some(side)) = (&line.code, line.side) {
        let code = colorize(&format!("({code})"), Tone::Quiet, color);
        text += &format!("  {} {} {code}", side.sentence(), line.message);
    } else if !line.message.is_empty() {
        text += &format!("  {}", line.message);
    }
    text + "\n"
}

fn subject(kind: &str, name: &str, part: Option<&str>) -> String {
    part.map_or_else(|| format!("{kind} {name}"), |part| format!("push {name} → {part}"))
}

/// Formats seconds with suitable units.
fn span(seconds: u64) -> String {
    match seconds {
        0..60 => format!("{seconds} s"),
        60..3_600 => format!("{} min {:02} s", seconds / 60, seconds % 60),
        3_600..86_400 => format!("{} h {:02} min", seconds / 3_600, seconds / 60 % 60),
        _ => format!("{} d {:02} h", seconds / 86_400, seconds / 3_600 % 24),
    }
}

/// Parses a time in RFC 3339, a day, or an age, to a time of the API.
fn read_time(text: &str) -> Result<String, String> {
    if let Ok(ago) = crate::duration::parse_duration(text) {
        let then = Timestamp::now().checked_sub(ago).map_err(|error| error.to_string())?;
        return Ok(then.to_string());
    }
    let day = || text.parse::<jiff::civil::Date>().ok()?.to_zoned_datetime(TimeZone::system()).ok();
    let time = text.parse::<Timestamp>().ok().or_else(|| day().map(|day| day.timestamp()));
    let wrong = || "give a time like 2026-11-23T08:00:00Z, a day like 2026-11-23, or how long ago, like 2h";
    time.map(|time| time.to_string()).ok_or_else(|| wrong().to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(0, "0 s")]
    #[case(59, "59 s")]
    #[case(61, "1 min 01 s")]
    #[case(3_660, "1 h 01 min")]
    #[case(90_000, "1 d 01 h")]
    fn durations_have_suitable_units(#[case] seconds: u64, #[case] said: &str) {
        assert_eq!(span(seconds), said);
    }

    #[test]
    fn time_is_a_timestamp_a_day_or_an_age() {
        assert_eq!(read_time("2026-11-23T08:00:00+01:00").as_deref(), Ok("2026-11-23T07:00:00Z"));
        assert!(read_time("2026-11-23").is_ok());
        let ago: Timestamp = read_time("2h").unwrap().parse().unwrap();
        assert!((Timestamp::now().as_second() - ago.as_second() - 7_200).abs() < 5);
        for wrong in ["", "yesterday", "2026-13-01", "12"] {
            assert!(read_time(wrong).is_err(), "{wrong}");
        }
    }
}
