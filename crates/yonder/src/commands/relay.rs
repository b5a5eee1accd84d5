//! `yonder relay …`

use std::fs;
use std::path::{Path, PathBuf};
use std::time::Duration;

use clap::{Args, Subcommand};
use serde_json::json;
use yonder_api::{BulkStart, NewRehearsal, NewRelay, Relay, RelayChange, Start, StartOutcome};

use super::rates::{self, RatesArguments};
use super::{preflight, status};
use crate::arguments::parse_duration;
use crate::client::Client;
use crate::failure::Failure;
use crate::output::{has_colour, print, print_json, table};

/// When a relay should run.
#[derive(Debug, Args)]
pub(crate) struct Times {
    /// Window in which it should run, like "mon-fri 08:00-18:00"; may be given several times. "always" for none.
    #[arg(long, value_name = "WINDOW")]
    on_air: Vec<String>,
    /// Time zone of these times, by its name in the time zone database; the service's own where nothing is said.
    #[arg(long, value_name = "ZONE")]
    zone: Option<String>,
    /// Minute of the day for planned reconnects, like 04:00, where a platform ends long broadcasts; "none" for just
    /// before that.
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

#[derive(Debug, Subcommand)]
pub(crate) enum RelayCommand {
    /// Add a relay; it is off until it is started.
    Add {
        /// Name of the relay.
        name: String,
        /// Feed to pull.
        #[arg(long, value_name = "FEED")]
        feed: String,
        /// Destinations to push to, in order; may be given several times.
        #[arg(long, value_name = "DESTINATION", required = true, num_args = 1..)]
        to: Vec<String>,
        /// How long the feed may be away before the holding picture is shown, like 3s, or never.
        #[arg(long, value_name = "TIME", value_parser = read_after)]
        hold_after: Option<u32>,
        #[command(flatten)]
        times: Times,
        /// Print JSON.
        #[arg(long)]
        json: bool,
    },
    /// List all relays.
    List {
        /// Print JSON.
        #[arg(long)]
        json: bool,
    },
    /// Show a relay, its feed and its pushes.
    Show {
        /// Name of the relay.
        name: String,
        /// Print JSON.
        #[arg(long)]
        json: bool,
    },
    /// Change a relay; while it runs, only the pushes that differ are touched.
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
        /// How long the feed may be away before the holding picture is shown, like 3s, or never.
        #[arg(long, value_name = "TIME", value_parser = read_after)]
        hold_after: Option<u32>,
        /// PNG or JPEG to show while the feed is away; none goes back to the card with the relay's name.
        #[arg(long, value_name = "FILE|none")]
        holding_picture: Option<PathBuf>,
        #[command(flatten)]
        times: Times,
        /// Print JSON.
        #[arg(long)]
        json: bool,
    },
    /// Check, before a relay starts, what will not work and why. Takes some seconds; no key is sent.
    Preflight {
        /// Name of the relay.
        name: String,
        /// Print JSON.
        #[arg(long)]
        json: bool,
    },
    /// Push to our own grading receiver instead of a platform, and see what a platform would see.
    Rehearse {
        /// Name of the relay.
        name: String,
        /// Destination to rehearse; all of them, one after the other, where nothing is said.
        #[arg(long, value_name = "DESTINATION")]
        to: Option<String>,
        /// Platform whose rules judge; the destination's own where nothing is said.
        #[arg(long = "as", value_name = "PLATFORM")]
        platform: Option<String>,
        /// What carries it: rtmp or srt; the destination's own where nothing is said.
        #[arg(long, value_name = "PROTOCOL", value_parser = ["rtmp", "srt"])]
        over: Option<String>,
        /// How long, like 15s.
        #[arg(long = "for", value_parser = parse_duration, value_name = "TIME")]
        duration: Option<Duration>,
        /// Print JSON.
        #[arg(long)]
        json: bool,
    },
    /// Start relays, or retry at once what is blocked in one that runs. Before its first start, and after a change, a
    /// preflight is run; a relay whose preflight fails is not started.
    Start {
        /// Names of the relays.
        #[arg(required_unless_present = "all", value_name = "NAME")]
        names: Vec<String>,
        /// Start all relays that are off.
        #[arg(long, conflicts_with = "names")]
        all: bool,
        /// Start in spite of a failed preflight; the service records that.
        #[arg(long)]
        force: bool,
        /// Print JSON.
        #[arg(long)]
        json: bool,
    },
    /// Show the holding picture; the broadcasts go on.
    Hold {
        /// Name of the relay.
        name: String,
        /// Print JSON.
        #[arg(long)]
        json: bool,
    },
    /// Go back to the feed.
    Resume {
        /// Name of the relay.
        name: String,
        /// Print JSON.
        #[arg(long)]
        json: bool,
    },
    /// Write what the relay shows while it is held, as PNG.
    HoldingPicture {
        /// Name of the relay.
        name: String,
        /// File to write.
        #[arg(long, value_name = "FILE")]
        out: PathBuf,
    },
    /// Show how the rates of a relay went.
    Rates(RatesArguments),
    /// Stop a relay; its broadcasts end.
    Stop {
        /// Name of the relay.
        name: String,
        /// Print JSON.
        #[arg(long)]
        json: bool,
    },
    /// Remove a relay; its broadcasts end.
    Remove {
        /// Name of the relay.
        name: String,
    },
}

pub(crate) fn run(command: RelayCommand, client: &Client) -> Result<(), Failure> {
    match command {
        RelayCommand::Add { name, feed, to, hold_after, times, json } => {
            let new = NewRelay {
                name,
                feed,
                to,
                hold_after_s: hold_after,
                on_air: times.windows(),
                quiet_minute: times.quiet(),
                zone: times.zone,
            };
            show(&client.post(&["relays"], &new)?, json)
        }
        RelayCommand::List { json } => list(&client.get::<Vec<_>>(&["relays"])?, json),
        RelayCommand::Show { name, json } => show(&client.get(&["relays", &name])?, json),
        RelayCommand::Edit { name, rename, feed, to, hold_after, holding_picture, times, json } => {
            if let Some(file) = holding_picture {
                set_picture(client, &name, &file)?;
            }
            let change = RelayChange {
                name: rename,
                feed,
                to,
                hold_after_s: hold_after,
                on_air: times.windows(),
                quiet_minute: times.quiet(),
                zone: times.zone,
            };
            show(&client.patch(&["relays", &name], &change)?, json)
        }
        RelayCommand::Preflight { name, json } => passed(preflight::preflight(client, &name, json)?),
        RelayCommand::Rehearse { name, to, platform, over, duration, json } => {
            let seconds = duration.map(|duration| u32::try_from(duration.as_secs()).unwrap_or(u32::MAX));
            let request = NewRehearsal { to, platform, over, for_s: seconds };
            passed(preflight::rehearse(client, &name, &request, json)?)
        }
        RelayCommand::Start { names, force, json, .. } => match names.as_slice() {
            [name] => show(&client.run_job(&["relays", name, "start"], &Start { force })?, json),
            _ => start_several(client, &BulkStart { relays: names, force }, json),
        },
        RelayCommand::Hold { name, json } => {
            show(&client.post(&["relays", &name, "hold"], &json!({}))?, json)
        }
        RelayCommand::Resume { name, json } => {
            show(&client.post(&["relays", &name, "resume"], &json!({}))?, json)
        }
        RelayCommand::HoldingPicture { name, out } => {
            let png = client.get_bytes(&["relays", &name, "holding-picture"], &[])?;
            fs::write(&out, png).map_err(|error| Failure::Usage(format!("{}: {error}", out.display())))
        }
        RelayCommand::Rates(arguments) => rates::run(&arguments, client),
        RelayCommand::Stop { name, json } => {
            show(&client.post(&["relays", &name, "stop"], &json!({}))?, json)
        }
        RelayCommand::Remove { name } => {
            client.delete(&["relays", &name])?;
            print(&format!("Relay {name} removed.\n"));
            Ok(())
        }
    }
}

/// Starts several relays, and reports those that could not be started.
fn start_several(client: &Client, request: &BulkStart, json: bool) -> Result<(), Failure> {
    let outcomes: Vec<StartOutcome> = client.run_job(&["starts"], request)?;
    let all_started = outcomes.iter().all(|outcome| outcome.started);
    if json {
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
    if all_started { Ok(()) } else { Err(Failure::Told) }
}

/// A picture that cannot be used leaves everything as it was.
fn set_picture(client: &Client, name: &str, file: &Path) -> Result<(), Failure> {
    let path = ["relays", name, "holding-picture"];
    if file == Path::new("none") {
        return client.delete(&path);
    }
    let picture = fs::read(file).map_err(|error| Failure::Usage(format!("{}: {error}", file.display())))?;
    client.put_bytes(&path, &picture)
}

/// Whole seconds, or never.
fn read_after(text: &str) -> Result<u32, String> {
    if text == "never" {
        return Ok(0);
    }
    let time = parse_duration(text)?;
    let seconds = u32::try_from(time.as_secs()).ok().filter(|_| time.subsec_nanos() == 0);
    seconds.ok_or_else(|| "give whole seconds, like 3s, or never".to_owned())
}

/// What was to be told has been told; only the exit code is left.
fn passed(passed: bool) -> Result<(), Failure> {
    if passed { Ok(()) } else { Err(Failure::Told) }
}

fn show(relay: &Relay, json: bool) -> Result<(), Failure> {
    if json {
        return print_json(relay);
    }
    print(&status::describe(relay, has_colour()));
    Ok(())
}

fn list(relays: &[Relay], json: bool) -> Result<(), Failure> {
    if json {
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
