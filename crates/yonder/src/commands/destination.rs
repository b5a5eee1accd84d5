//! `yonder destination …`

use std::path::PathBuf;

use clap::{Args, Subcommand};
use serde_json::json;
use yonder_api::{Destination, DestinationChange, NewDestination, Rekey, RevealedKey, Stored};

use crate::client::Client;
use crate::failure::Failure;
use crate::output::{print, print_json, table};
use crate::secrets::Source;

/// Where a stream key comes from. It is never taken as an argument.
#[derive(Debug, Args)]
#[group(required = true, multiple = false)]
pub(crate) struct KeyArguments {
    /// File with the stream key.
    #[arg(long, value_name = "FILE")]
    key_file: Option<PathBuf>,
    /// Read the stream key from standard input, or ask for it on a terminal.
    #[arg(long)]
    key_stdin: bool,
}

impl KeyArguments {
    fn read(&self) -> Result<yonder_api::Secret, Failure> {
        Source::of(self.key_file.as_ref(), self.key_stdin)
            .ok_or_else(|| Failure::Usage("give --key-file or --key-stdin".to_owned()))?
            .read("stream key")
    }
}

#[derive(Debug, Subcommand)]
pub(crate) enum DestinationCommand {
    /// Add a destination.
    Add {
        /// Name of the destination.
        name: String,
        /// Server address as the platform shows it, without the key.
        #[arg(long, value_name = "URL")]
        server: String,
        /// Name of the platform.
        #[arg(long, value_name = "NAME")]
        platform: Option<String>,
        #[command(flatten)]
        key: KeyArguments,
        /// Print JSON.
        #[arg(long)]
        json: bool,
    },
    /// List all destinations.
    List {
        /// Print JSON.
        #[arg(long)]
        json: bool,
    },
    /// Show a destination.
    Show {
        /// Name of the destination.
        name: String,
        /// Print JSON.
        #[arg(long)]
        json: bool,
    },
    /// Change a destination; pushes that run to it are dialled anew.
    Edit {
        /// Name of the destination.
        name: String,
        /// New name; only while no push runs to it.
        #[arg(long, value_name = "NAME")]
        rename: Option<String>,
        /// New server address.
        #[arg(long, value_name = "URL")]
        server: Option<String>,
        /// New platform; an empty text removes it.
        #[arg(long, value_name = "NAME")]
        platform: Option<String>,
        /// Print JSON.
        #[arg(long)]
        json: bool,
    },
    /// Set a new stream key; a push that runs takes it over with one reconnect.
    Rekey {
        /// Name of the destination.
        name: String,
        #[command(flatten)]
        key: KeyArguments,
        /// Print JSON.
        #[arg(long)]
        json: bool,
    },
    /// Print the stream key in clear. The service records that this was done.
    Reveal {
        /// Name of the destination.
        name: String,
    },
    /// Remove a destination that no relay uses.
    Remove {
        /// Name of the destination.
        name: String,
    },
}

pub(crate) fn run(command: DestinationCommand, client: &Client) -> Result<(), Failure> {
    match command {
        DestinationCommand::Add { name, server, platform, key, json } => {
            let new = NewDestination { name, server, platform, key: key.read()? };
            show_stored(&client.post(&["destinations"], &new)?, json)
        }
        DestinationCommand::List { json } => list(&client.get::<Vec<_>>(&["destinations"])?, json),
        DestinationCommand::Show { name, json } => {
            let destination: Destination = client.get(&["destinations", &name])?;
            if json {
                print_json(&destination)
            } else {
                print(&describe(&destination));
                Ok(())
            }
        }
        DestinationCommand::Edit { name, rename, server, platform, json } => {
            let change = DestinationChange { name: rename, server, platform };
            show_stored(&client.patch(&["destinations", &name], &change)?, json)
        }
        DestinationCommand::Rekey { name, key, json } => {
            let request = Rekey { key: key.read()? };
            show_stored(&client.post(&["destinations", &name, "rekey"], &request)?, json)
        }
        DestinationCommand::Reveal { name } => {
            let revealed: RevealedKey = client.post(&["destinations", &name, "reveal"], &json!({}))?;
            print(&format!("{}\n", revealed.key.expose()));
            Ok(())
        }
        DestinationCommand::Remove { name } => {
            client.delete(&["destinations", &name])?;
            print(&format!("Destination {name} removed.\n"));
            Ok(())
        }
    }
}

fn list(destinations: &[Destination], json: bool) -> Result<(), Failure> {
    if json {
        return print_json(&destinations);
    }
    if destinations.is_empty() {
        print(
            "There are no destinations yet. Add one: yonder destination add NAME --server rtmp://ingest.example.net/live --key-stdin\n",
        );
        return Ok(());
    }
    let rows: Vec<Vec<String>> = destinations
        .iter()
        .map(|destination| {
            let relays = destination.relays.join(", ");
            let relays = if relays.is_empty() { "-".to_owned() } else { relays };
            vec![destination.name.clone(), key_words(destination), relays, destination.server.clone()]
        })
        .collect();
    print(&table(&["DESTINATION", "KEY", "RELAYS", "SERVER"], &rows));
    Ok(())
}

fn show_stored(stored: &Stored, json: bool) -> Result<(), Failure> {
    if json {
        return print_json(stored);
    }
    let mut text = describe(&stored.destination);
    for repair in &stored.repairs {
        text += &format!("  put right  {repair}\n");
    }
    print(&text);
    Ok(())
}

fn describe(destination: &Destination) -> String {
    let mut text = format!("{}\n  server     {}\n", destination.name, destination.server);
    if let Some(platform) = &destination.platform {
        text += &format!("  platform   {platform}\n");
    }
    let day = destination.key.set_at.get(..10).unwrap_or_default();
    text += &format!(
        "  key        {}, {} characters, set {day}\n",
        key_words(destination),
        destination.key.length
    );
    if !destination.relays.is_empty() {
        text += &format!("  relays     {}\n", destination.relays.join(", "));
    }
    text
}

fn key_words(destination: &Destination) -> String {
    match destination.key.ending.as_str() {
        "" => "sealed".to_owned(),
        ending => format!("…{ending}"),
    }
}
