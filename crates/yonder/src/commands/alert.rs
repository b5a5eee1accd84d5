//! `yonder alert …`

use std::time::Duration;

use clap::Subcommand;
use yonder_api::{Acknowledge, Alert, AlertChange, Mute, NewAlert};

use crate::client::Client;
use crate::duration::parse_duration;
use crate::failure::Failure;
use crate::output::{Tone, colorize, has_color, local, print, print_json, table, wants_json};

#[derive(Debug, Subcommand)]
pub(crate) enum AlertCommand {
    /// Add an alert rule.
    Add {
        /// Name of the alert.
        name: String,
        /// Condition: "down 60s", "blocked", "rate-below 500kbit/s 30s", "rate-above 8Mbit/s 30s",
        /// "key-expires 7d", "allowance 80%", "flapping 5 in 10m", "disk-low", "records-failing", "restarted",
        /// "undelivered", "wrong-keys" or "backup-old 7d".
        #[arg(long, value_name = "WHAT")]
        when: String,
        /// Name of the only relay, feed, destination or uplink that it covers.
        #[arg(long, value_name = "NAME")]
        about: Option<String>,
        /// Contact to notify; repeatable. All contacts by default.
        #[arg(long, value_name = "RECEIVER", num_args = 1..)]
        to: Vec<String>,
        /// Repetition interval while the alert is open; 4h by default.
        #[arg(long, value_name = "TIME", value_parser = parse_duration)]
        repeat: Option<Duration>,
    },
    /// List all alert rules and open alerts.
    List,
    /// Show an alert rule.
    Show {
        /// Name of the alert.
        name: String,
    },
    /// Change an alert rule.
    Edit {
        /// Name of the alert.
        name: String,
        /// New name.
        #[arg(long, value_name = "NAME")]
        rename: Option<String>,
        /// Condition.
        #[arg(long, value_name = "WHAT")]
        when: Option<String>,
        /// Name of the only subject that it covers; an empty text for all.
        #[arg(long, value_name = "NAME")]
        about: Option<String>,
        /// Contacts to notify; "everybody" for all.
        #[arg(long, value_name = "RECEIVER", num_args = 1..)]
        to: Option<Vec<String>>,
        /// Repetition interval while the alert is open.
        #[arg(long, value_name = "TIME", value_parser = parse_duration)]
        repeat: Option<Duration>,
    },
    /// Acknowledge an open alert, so that it is not repeated.
    Acknowledge {
        /// Name of the alert.
        name: String,
        /// Subject, as `show` lists it; all open subjects by default.
        #[arg(long)]
        subject: Option<String>,
    },
    /// Mute an alert for some time: no notifications are sent.
    Mute {
        /// Name of the alert.
        name: String,
        /// Duration, such as 2h.
        #[arg(long = "for", value_name = "TIME", value_parser = parse_duration)]
        time: Duration,
    },
    /// End the mute of an alert.
    Unmute {
        /// Name of the alert.
        name: String,
    },
    /// Remove an alert rule.
    Remove {
        /// Name of the alert.
        name: String,
    },
}

pub(crate) fn run(command: AlertCommand, client: &Client) -> Result<(), Failure> {
    match command {
        AlertCommand::Add { name, when, about, to, repeat } => {
            let new = NewAlert { name, when, about, to, repeat_s: repeat.map(seconds) };
            show(&client.post(&["alerts"], &new)?)
        }
        AlertCommand::List => list(&client.get::<Vec<_>>(&["alerts"])?),
        AlertCommand::Show { name } => show(&client.get(&["alerts", &name])?),
        AlertCommand::Edit { name, rename, when, about, to, repeat } => {
            let to = to.map(|to| if to == ["everybody"] { Vec::new() } else { to });
            let change = AlertChange { name: rename, when, about, to, repeat_s: repeat.map(seconds) };
            show(&client.patch(&["alerts", &name], &change)?)
        }
        AlertCommand::Acknowledge { name, subject } => {
            show(&client.post(&["alerts", &name, "acknowledge"], &Acknowledge { subject })?)
        }
        AlertCommand::Mute { name, time } => {
            show(&client.post(&["alerts", &name, "mute"], &Mute { for_s: seconds(time) })?)
        }
        AlertCommand::Unmute { name } => show(&client.post(&["alerts", &name, "mute"], &Mute { for_s: 0 })?),
        AlertCommand::Remove { name } => {
            client.delete(&["alerts", &name])?;
            print(&format!("Alert {name} removed.\n"));
            Ok(())
        }
    }
}

fn seconds(time: Duration) -> u32 {
    u32::try_from(time.as_secs()).unwrap_or(u32::MAX)
}

fn everybody(to: &[String]) -> String {
    if to.is_empty() { "everybody".to_owned() } else { to.join(", ") }
}

fn list(alerts: &[Alert]) -> Result<(), Failure> {
    if wants_json() {
        return print_json(&alerts);
    }
    if alerts.is_empty() {
        print("There are no alerts yet. Add one: yonder alert add NAME --when \"down 60s\"\n");
        return Ok(());
    }
    let row = |alert: &Alert| {
        let about = alert.about.clone().unwrap_or_else(|| "everything".to_owned());
        let open = match alert.open.as_slice() {
            [] => "-".to_owned(),
            open => open.iter().map(|open| open.subject.clone()).collect::<Vec<_>>().join(", "),
        };
        vec![alert.name.clone(), alert.when.clone(), about, everybody(&alert.to), open]
    };
    let rows: Vec<Vec<String>> = alerts.iter().map(row).collect();
    print(&table(&["ALERT", "WHEN", "ABOUT", "CONTACTS", "OPEN"], &rows));
    Ok(())
}

fn show(alert: &Alert) -> Result<(), Failure> {
    if wants_json() {
        return print_json(alert);
    }
    let mut text = format!("{}\n  when     {}\n", alert.name, alert.when);
    text += &format!("  about    {}\n", alert.about.as_deref().unwrap_or("everything"));
    text += &format!("  tells    {}\n", everybody(&alert.to));
    text += &format!("  repeats  every {} min while it is open\n", alert.repeat_s / 60);
    if let Some(until) = &alert.muted_until {
        text += &format!("  muted    until {}\n", local(until));
    }
    for open in &alert.open {
        let since = colorize(&format!("since {}", local(&open.since)), Tone::Quiet, has_color());
        let acknowledged = if open.acknowledged { ", acknowledged" } else { "" };
        text += &format!("  open     {}: {} {since}{acknowledged}\n", open.subject, open.message);
    }
    print(&text);
    Ok(())
}
