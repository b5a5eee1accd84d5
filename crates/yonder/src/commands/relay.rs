//! `yonder relay …`

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::time::Duration;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use clap::{Args, Subcommand};
use serde_json::json;
use yonder_api::{BulkStart, NewRehearsal, NewRelay, Relay, RelayChange, Start, StartOutcome};
use yonder_core::rendition::{Adapt, Limit, LimitError};

use super::rates::{self, RatesArguments};
use super::{preflight, status};
use crate::client::Client;
use crate::duration::parse_duration;
use crate::failure::Failure;
use crate::output::{has_color, print, print_json, table, wants_json};

/// On-air windows of a relay.
#[derive(Debug, Args)]
pub(crate) struct Times {
    /// On-air window, such as "mon-fri 08:00-18:00"; repeatable. "always" for none.
    #[arg(long, value_name = "WINDOW")]
    on_air: Vec<String>,
    /// Time zone of these times, by its name in the time zone database; by default that of the service.
    #[arg(long, value_name = "ZONE")]
    zone: Option<String>,
    /// Minute of the day with few viewers, such as 04:00, for rollovers if a platform ends long broadcasts; "none" for
    /// just before the limit.
    #[arg(long, value_name = "TIME")]
    quiet_minute: Option<String>,
}

impl Times {
    fn windows(&self) -> Option<Vec<String>> {
        match self.on_air.as_slice() {
            [] => None,
            [always] if always == "always" => Some(Vec::new()),
            windows => Some(windows.to_vec()),
        }
    }

    fn quiet(&self) -> Option<String> {
        self.quiet_minute.as_ref().map(|quiet| if quiet == "none" { String::new() } else { quiet.clone() })
    }
}

/// Adaptation of a relay's feed.
#[derive(Debug, Args)]
pub(crate) struct Adaptation {
    /// Parts of the feed to adapt for a platform that does not accept it as it is: none, audio (default) or all.
    #[arg(long, value_name = "WHAT", value_parser = read_adapt)]
    adapt: Option<Adapt>,
    /// Limit of the video for a destination, such as "Bramble TV=720p,25fps,2500kbit/s"; repeatable. "none" removes all.
    #[arg(long = "limit", value_name = "DESTINATION=LIMIT", value_parser = read_limit)]
    limits: Vec<(String, String)>,
}

impl Adaptation {
    fn limits(&self) -> Option<BTreeMap<String, String>> {
        (!self.limits.is_empty())
            .then(|| self.limits.iter().filter(|(name, _)| !name.is_empty()).cloned().collect())
    }
}

/// Parses a name of [`Adapt`].
fn read_adapt(text: &str) -> Result<Adapt, String> {
    Adapt::from_name(text).ok_or_else(|| "give none, audio or all".to_owned())
}

/// Parses a destination with its limit; an empty name for "none".
fn read_limit(text: &str) -> Result<(String, String), String> {
    if text == "none" {
        return Ok((String::new(), String::new()));
    }
    // Names may contain an equals sign, limits do not.
    let (name, limit) =
        text.rsplit_once('=').ok_or("give a destination and its limit, such as \"Bramble TV=720p\"")?;
    let limit: Limit = limit.parse().map_err(|error: LimitError| error.to_string())?;
    Ok((name.to_owned(), limit.to_string()))
}

#[derive(Debug, Subcommand)]
pub(crate) enum RelayCommand {
    /// Add a relay, which is off until it is started.
    Add {
        /// Name of the relay.
        name: String,
        /// Feed to pull.
        #[arg(long, value_name = "FEED")]
        feed: String,
        /// Destination to push to; repeatable, in order.
        #[arg(long, value_name = "DESTINATION", required = true, num_args = 1..)]
        to: Vec<String>,
        /// Absence of the feed after which the holding picture is sent, such as 3s, or never.
        #[arg(long, value_name = "TIME", value_parser = read_after)]
        hold_after: Option<u32>,
        #[command(flatten)]
        times: Times,
        #[command(flatten)]
        adaptation: Adaptation,
    },
    /// List all relays.
    List,
    /// Show a relay with its feed and its pushes.
    Show {
        /// Name of the relay.
        name: String,
    },
    /// Change a relay; while it runs, only pushes that differ are touched.
    Edit {
        /// Name of the relay.
        name: String,
        /// New name; only while the relay is off.
        #[arg(long, value_name = "NAME")]
        rename: Option<String>,
        /// New feed.
        #[arg(long, value_name = "FEED")]
        feed: Option<String>,
        /// New destinations, in order.
        #[arg(long, value_name = "DESTINATION", num_args = 1..)]
        to: Option<Vec<String>>,
        /// Absence of the feed after which the holding picture is sent, such as 3s, or never.
        #[arg(long, value_name = "TIME", value_parser = read_after)]
        hold_after: Option<u32>,
        /// PNG or JPEG to send while the feed is away; "none" restores the default card with the relay's name.
        #[arg(long, value_name = "FILE|none")]
        holding_picture: Option<PathBuf>,
        #[command(flatten)]
        times: Times,
        #[command(flatten)]
        adaptation: Adaptation,
    },
    /// Run the checks before a start. Takes some seconds; no key is sent.
    Preflight {
        /// Name of the relay.
        name: String,
    },
    /// Push to an own grading receiver instead of a platform, and show the grade.
    Rehearse {
        /// Name of the relay.
        name: String,
        /// Destination to rehearse; all in turn by default.
        #[arg(long, value_name = "DESTINATION")]
        to: Option<String>,
        /// Rule sheet to check against; by default the destination's.
        #[arg(long = "as", value_name = "PLATFORM")]
        platform: Option<String>,
        /// Protocol: rtmp or srt; by default that of the destination.
        #[arg(long, value_name = "PROTOCOL", value_parser = ["rtmp", "srt"])]
        over: Option<String>,
        /// Duration, such as 15s.
        #[arg(long = "for", value_parser = parse_duration, value_name = "TIME")]
        duration: Option<Duration>,
    },
    /// Start relays, or retry blocked parts of running ones. The first start, and the first one after a change of its
    /// configuration, require a passed preflight.
    Start {
        /// Names of the relays.
        #[arg(required_unless_present = "all", value_name = "NAME")]
        names: Vec<String>,
        /// Start all relays that are off.
        #[arg(long, conflicts_with = "names")]
        all: bool,
        /// Start in spite of a failed preflight; the service audits this.
        #[arg(long)]
        force: bool,
    },
    /// Send the holding picture while the broadcasts continue.
    Hold {
        /// Name of the relay.
        name: String,
    },
    /// Return from the holding picture to the feed.
    Resume {
        /// Name of the relay.
        name: String,
    },
    /// Write the holding picture of a relay as PNG.
    HoldingPicture {
        /// Name of the relay.
        name: String,
        /// File to write.
        #[arg(long, value_name = "FILE")]
        out: PathBuf,
    },
    /// Show the bit rates of a relay over time.
    Rates(RatesArguments),
    /// Stop a relay; its broadcasts end in order.
    Stop {
        /// Name of the relay.
        name: String,
    },
    /// Remove a relay; its broadcasts end in order.
    Remove {
        /// Name of the relay.
        name: String,
    },
}

pub(crate) fn run(command: RelayCommand, client: &Client) -> Result<(), Failure> {
    match command {
        RelayCommand::Add { name, feed, to, hold_after, times, adaptation } => {
            let new = NewRelay {
                name,
                feed,
                to,
                hold_after_s: hold_after,
                on_air: times.windows(),
                quiet_minute: times.quiet(),
                zone: times.zone,
                limits: adaptation.limits(),
                adapt: adaptation.adapt,
            };
            show(&client.post(&["relays"], &new)?)
        }
        RelayCommand::List => list(&client.get::<Vec<_>>(&["relays"])?),
        RelayCommand::Show { name } => show(&client.get(&["relays", &name])?),
        RelayCommand::Edit { name, rename, feed, to, hold_after, holding_picture, times, adaptation } => {
            let change = RelayChange {
                name: rename,
                feed,
                to,
                hold_after_s: hold_after,
                on_air: times.windows(),
                quiet_minute: times.quiet(),
                zone: times.zone,
                limits: adaptation.limits(),
                adapt: adaptation.adapt,
                holding_picture: holding_picture.as_deref().map(read_picture).transpose()?,
            };
            show(&client.patch(&["relays", &name], &change)?)
        }
        RelayCommand::Preflight { name } => passed(preflight::preflight(client, &name)?),
        RelayCommand::Rehearse { name, to, platform, over, duration } => {
            let seconds = duration.map(|duration| u32::try_from(duration.as_secs()).unwrap_or(u32::MAX));
            let request = NewRehearsal { to, platform, over, for_s: seconds };
            passed(preflight::rehearse(client, &name, &request)?)
        }
        RelayCommand::Start { names, force, .. } => match names.as_slice() {
            [name] => show(&client.run_job(&["relays", name, "start"], &Start { force })?),
            _ => start_several(client, &BulkStart { relays: names, force }),
        },
        RelayCommand::Hold { name } => show(&client.post(&["relays", &name, "hold"], &json!({}))?),
        RelayCommand::Resume { name } => show(&client.post(&["relays", &name, "resume"], &json!({}))?),
        RelayCommand::HoldingPicture { name, out } => {
            let png = client.get_bytes(&["relays", &name, "holding-picture"], &[])?;
            fs::write(&out, png).map_err(|error| Failure::Usage(format!("{}: {error}", out.display())))
        }
        RelayCommand::Rates(arguments) => rates::run(&arguments, client),
        RelayCommand::Stop { name } => show(&client.post(&["relays", &name, "stop"], &json!({}))?),
        RelayCommand::Remove { name } => {
            client.delete(&["relays", &name])?;
            print(&format!("Relay {name} removed.\n"));
            Ok(())
        }
    }
}

/// Starts several relays, and reports those that could not be started.
fn start_several(client: &Client, request: &BulkStart) -> Result<(), Failure> {
    let outcomes: Vec<StartOutcome> = client.run_job(&["starts"], request)?;
    let all_started = outcomes.iter().all(|outcome| outcome.started);
    if wants_json() {
        print_json(&outcomes)?;
    } else if outcomes.is_empty() {
        print("No relay is off: there is nothing to start.\n");
    } else {
        for StartOutcome { relay, problem, .. } in outcomes {
            match problem {
                None => print(&format!("Relay {relay} started.\n")),
                Some(problem) => Failure::Refused(Box::new(problem)).print(),
            }
        }
    }
    if all_started { Ok(()) } else { Err(Failure::AlreadyReported) }
}

/// Reads a holding picture for a change; `none` restores the default card.
fn read_picture(file: &Path) -> Result<String, Failure> {
    if file == Path::new("none") {
        return Ok(String::new());
    }
    let picture = fs::read(file).map_err(|error| Failure::Usage(format!("{}: {error}", file.display())))?;
    Ok(STANDARD.encode(picture))
}

/// Parses whole seconds, or "never".
fn read_after(text: &str) -> Result<u32, String> {
    if text == "never" {
        return Ok(0);
    }
    let time = parse_duration(text)?;
    let seconds = u32::try_from(time.as_secs()).ok().filter(|_| time.subsec_nanos() == 0);
    seconds.ok_or_else(|| "give whole seconds, like 3s, or never".to_owned())
}

/// Returns a failure that has been reported already, unless the check has passed.
fn passed(passed: bool) -> Result<(), Failure> {
    if passed { Ok(()) } else { Err(Failure::AlreadyReported) }
}

fn show(relay: &Relay) -> Result<(), Failure> {
    if wants_json() {
        return print_json(relay);
    }
    print(&status::describe(relay, has_color()));
    Ok(())
}

fn list(relays: &[Relay]) -> Result<(), Failure> {
    if wants_json() {
        return print_json(&relays);
    }
    if relays.is_empty() {
        print("There are no relays yet. Add one: yonder relay add NAME --feed FEED --to DESTINATION\n");
        return Ok(());
    }
    let rows: Vec<Vec<String>> = relays
        .iter()
        .map(|relay| {
            let pushes: Vec<String> =
                relay.pushes.iter().map(|push| format!("{} ({})", push.destination, push.state)).collect();
            let feed = format!("{} ({})", relay.feed.name, relay.feed.state);
            vec![relay.name.clone(), relay.wanted.to_string(), feed, pushes.join(", ")]
        })
        .collect();
    print(&table(&["RELAY", "WANTED", "FEED", "PUSHES"], &rows));
    Ok(())
}
