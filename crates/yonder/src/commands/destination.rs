//! `yonder destination …`

use std::fs;
use std::path::{Path, PathBuf};

use clap::{Args, Subcommand, ValueEnum};
use serde_json::json;
use yonder_api::{
    Destination, DestinationChange, KeyFacts, KeyKind, NewDestination, Rekey, RevealedKey, Secret, Stored,
};

use crate::client::Client;
use crate::failure::Failure;
use crate::output::{print, print_json, table, wants_json};
use crate::secrets::Source;

/// Source of a stream key, which is never an argument.
#[derive(Debug, Args)]
#[group(multiple = false)]
pub(crate) struct KeyArguments {
    /// File with the stream key, or with server address and key together.
    #[arg(long, value_name = "FILE")]
    key_file: Option<PathBuf>,
    /// Read the stream key from standard input; on a terminal it is not shown.
    #[arg(long)]
    key_stdin: bool,
}

impl KeyArguments {
    fn read(&self) -> Result<Option<Secret>, Failure> {
        Source::of(self.key_file.as_ref(), self.key_stdin).map(|source| source.read("stream key")).transpose()
    }
}

/// Validity of a stream key.
#[derive(Debug, Args)]
pub(crate) struct KeyLife {
    /// Validity of the key; by default as in the platform's rules.
    #[arg(long, value_enum, value_name = "KIND")]
    key_kind: Option<Kind>,
    /// Expiry of the key: a day like 2026-12-31, or a time like 2026-12-31T12:00:00Z.
    #[arg(long, value_name = "DAY")]
    key_expires: Option<String>,
}

/// Validity of a key.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum Kind {
    /// Any number of broadcasts.
    Reusable,
    /// One broadcast.
    OneBroadcast,
}

impl From<Kind> for KeyKind {
    fn from(kind: Kind) -> Self {
        match kind {
            Kind::Reusable => Self::Reusable,
            Kind::OneBroadcast => Self::OneBroadcast,
        }
    }
}

/// Settings of a new destination.
#[derive(Debug, Args)]
pub(crate) struct AddArguments {
    /// Name of the destination.
    name: String,
    /// Server address as shown by the platform: rtmp://, rtmps:// or srt://.
    #[arg(long, value_name = "URL")]
    server: Option<String>,
    /// Backup server address.
    #[arg(long, value_name = "URL")]
    backup_server: Option<String>,
    /// Failback delay: seconds for which the main server must be reachable before a push returns to it.
    #[arg(long, value_name = "SECONDS")]
    return_after: Option<u32>,
    /// Name of the platform whose rules apply; see `yonder platform list`.
    #[arg(long, value_name = "NAME")]
    platform: Option<String>,
    /// Address of the watch page.
    #[arg(long, value_name = "URL")]
    watch_page: Option<String>,
    #[command(flatten)]
    key: KeyArguments,
    #[command(flatten)]
    life: KeyLife,
    /// File with the passphrase of an encrypted SRT connection.
    #[arg(long, value_name = "FILE")]
    passphrase_file: Option<PathBuf>,
    /// Key length of the encryption, in bits: 128, 192 or 256.
    #[arg(long, value_name = "BITS")]
    key_length: Option<u16>,
    /// File with the certificate of a private authority, trusted in addition to the system's.
    #[arg(long, value_name = "CA.pem")]
    authority: Option<PathBuf>,
    /// Uplink that pushes are bound to; repeatable, in order of preference.
    #[arg(long = "uplink", value_name = "NAME")]
    uplinks: Vec<String>,
}

/// Changes of a destination.
#[derive(Debug, Args)]
pub(crate) struct EditArguments {
    /// Name of the destination.
    name: String,
    /// New name; only while no push to it runs.
    #[arg(long, value_name = "NAME")]
    rename: Option<String>,
    /// New server address.
    #[arg(long, value_name = "URL")]
    server: Option<String>,
    /// New backup server address; an empty text removes it.
    #[arg(long, value_name = "URL")]
    backup_server: Option<String>,
    /// Failback delay: seconds for which the main server must be reachable before a push returns to it.
    #[arg(long, value_name = "SECONDS")]
    return_after: Option<u32>,
    /// New platform; an empty text removes it.
    #[arg(long, value_name = "NAME")]
    platform: Option<String>,
    /// Address of the watch page; an empty text removes it.
    #[arg(long, value_name = "URL")]
    watch_page: Option<String>,
    /// Validity of the key.
    #[arg(long, value_enum, value_name = "KIND")]
    key_kind: Option<Kind>,
    /// Expiry of the key; an empty text for none.
    #[arg(long, value_name = "DAY")]
    key_expires: Option<String>,
    /// Key length of the encryption, in bits: 128, 192 or 256.
    #[arg(long, value_name = "BITS")]
    key_length: Option<u16>,
    /// Remove the passphrase: the connection is not encrypted.
    #[arg(long)]
    no_passphrase: bool,
    /// File with the certificate of a private authority.
    #[arg(long, value_name = "CA.pem", conflicts_with = "no_authority")]
    authority: Option<PathBuf>,
    /// Trust only the system's authorities.
    #[arg(long)]
    no_authority: bool,
    /// Uplinks that pushes are bound to, in order of preference.
    #[arg(long = "uplink", value_name = "NAME", conflicts_with = "no_uplink")]
    uplinks: Vec<String>,
    /// Remove the binding to uplinks.
    #[arg(long)]
    no_uplink: bool,
}

#[derive(Debug, Subcommand)]
pub(crate) enum DestinationCommand {
    /// Add a destination. The key's file may contain server address and key together.
    Add(Box<AddArguments>),
    /// List all destinations.
    List,
    /// Show a destination.
    Show {
        /// Name of the destination.
        name: String,
    },
    /// Change a destination. Running pushes to it reconnect if necessary.
    Edit(Box<EditArguments>),
    /// Set a new stream key or passphrase; a running push applies it with one reconnect.
    Rekey {
        /// Name of the destination.
        name: String,
        #[command(flatten)]
        key: KeyArguments,
        #[command(flatten)]
        life: KeyLife,
        /// File with the new passphrase of an encrypted SRT connection.
        #[arg(long, value_name = "FILE")]
        passphrase_file: Option<PathBuf>,
    },
    /// Print stream key and passphrase in clear. The service audits this.
    Reveal {
        /// Name of the destination.
        name: String,
    },
    /// Remove an unused destination.
    Remove {
        /// Name of the destination.
        name: String,
    },
}

pub(crate) fn run(command: DestinationCommand, client: &Client) -> Result<(), Failure> {
    match command {
        DestinationCommand::Add(arguments) => add(*arguments, client),
        DestinationCommand::List => list(&client.get::<Vec<_>>(&["destinations"])?),
        DestinationCommand::Show { name } => {
            let destination: Destination = client.get(&["destinations", &name])?;
            if wants_json() {
                print_json(&destination)
            } else {
                print(&describe(&destination));
                Ok(())
            }
        }
        DestinationCommand::Edit(arguments) => edit(*arguments, client),
        DestinationCommand::Rekey { name, key, life, passphrase_file } => {
            let request = Rekey {
                key: key.read()?,
                key_kind: life.key_kind.map(Into::into),
                key_expires: life.key_expires,
                passphrase: read_passphrase(passphrase_file.as_ref())?,
            };
            if request.key.is_none() && request.passphrase.is_none() {
                let text = "give --key-file, --key-stdin or --passphrase-file";
                return Err(Failure::Usage(text.to_owned()));
            }
            show_stored(&client.post(&["destinations", &name, "rekey"], &request)?)
        }
        DestinationCommand::Reveal { name } => {
            let revealed: RevealedKey = client.post(&["destinations", &name, "reveal"], &json!({}))?;
            let mut text = revealed.key.map(|key| format!("{}\n", key.expose())).unwrap_or_default();
            if let Some(passphrase) = revealed.passphrase {
                text += &format!("passphrase {}\n", passphrase.expose());
            }
            print(if text.is_empty() { "It has no key and no passphrase.\n" } else { &text });
            Ok(())
        }
        DestinationCommand::Remove { name } => {
            client.delete(&["destinations", &name])?;
            print(&format!("Destination {name} removed.\n"));
            Ok(())
        }
    }
}

fn add(arguments: AddArguments, client: &Client) -> Result<(), Failure> {
    let key = arguments.key.read()?;
    let is_srt = |server: &String| server.trim().to_ascii_lowercase().starts_with("srt:");
    if key.is_none() && !arguments.server.as_ref().is_some_and(is_srt) {
        // Without a key the end of the address would be used as key, which must not be an argument.
        return Err(Failure::Usage("give the stream key by --key-file or --key-stdin".to_owned()));
    }
    let new = NewDestination {
        name: arguments.name,
        server: arguments.server.map(Into::into),
        backup_server: arguments.backup_server.map(Into::into),
        return_after_s: arguments.return_after,
        platform: arguments.platform,
        watch_page: arguments.watch_page,
        key,
        key_kind: arguments.life.key_kind.map(Into::into),
        key_expires: arguments.life.key_expires,
        passphrase: read_passphrase(arguments.passphrase_file.as_ref())?,
        key_length: arguments.key_length,
        authority: arguments.authority.as_deref().map(read_file).transpose()?,
        uplinks: arguments.uplinks,
    };
    show_stored(&client.post(&["destinations"], &new)?)
}

fn edit(arguments: EditArguments, client: &Client) -> Result<(), Failure> {
    let authority = match (&arguments.authority, arguments.no_authority) {
        (Some(file), _) => Some(read_file(file)?),
        (None, true) => Some(String::new()),
        (None, false) => None,
    };
    let change = DestinationChange {
        name: arguments.rename,
        server: arguments.server.map(Into::into),
        backup_server: arguments.backup_server.map(Into::into),
        return_after_s: arguments.return_after,
        platform: arguments.platform,
        watch_page: arguments.watch_page,
        key_kind: arguments.key_kind.map(Into::into),
        key_expires: arguments.key_expires,
        key_length: arguments.key_length,
        authority,
        no_passphrase: arguments.no_passphrase,
        uplinks: (arguments.no_uplink || !arguments.uplinks.is_empty()).then_some(arguments.uplinks),
    };
    show_stored(&client.patch(&["destinations", &arguments.name], &change)?)
}

fn read_passphrase(file: Option<&PathBuf>) -> Result<Option<Secret>, Failure> {
    Source::of(file, false).map(|source| source.read("passphrase")).transpose()
}

fn read_file(file: &Path) -> Result<String, Failure> {
    fs::read_to_string(file).map_err(|error| Failure::Usage(format!("{}: {error}", file.display())))
}

fn list(destinations: &[Destination]) -> Result<(), Failure> {
    if wants_json() {
        return print_json(&destinations);
    }
    if destinations.is_empty() {
        print(
            "There are no destinations yet. Add one: yonder destination add NAME --server rtmp://ingest.example.net/live --key-stdin\n",
        );
        return Ok(());
    }
    let dash = |text: String| if text.is_empty() { "-".to_owned() } else { text };
    let rows: Vec<Vec<String>> = destinations
        .iter()
        .map(|destination| {
            let sealed = if destination.encrypted { ", encrypted" } else { "" };
            vec![
                destination.name.clone(),
                dash(destination.platform.clone().unwrap_or_default()),
                format!("{}{sealed}", destination.protocol),
                key_column(destination),
                destination.key.as_ref().map_or_else(|| "-".to_owned(), |key| age(key.age_days)),
                dash(destination.relays.join(", ")),
                short(&destination.server),
            ]
        })
        .collect();
    print(&table(&["DESTINATION", "PLATFORM", "PROTOCOL", "KEY", "AGE", "RELAYS", "SERVER"], &rows));
    Ok(())
}

fn key_column(destination: &Destination) -> String {
    if destination.secret_lost {
        return "lost: rekey".to_owned();
    }
    destination.key.as_ref().map_or_else(|| "-".to_owned(), key_text)
}

/// Returns an address without its parameters, which `show` prints.
fn short(server: &str) -> String {
    server.split_once('?').map_or_else(|| server.to_owned(), |(before, _)| format!("{before}?…"))
}

fn age(days: u64) -> String {
    match days {
        0 => "today".to_owned(),
        1 => "1 day".to_owned(),
        days => format!("{days} days"),
    }
}

fn show_stored(stored: &Stored) -> Result<(), Failure> {
    if wants_json() {
        return print_json(stored);
    }
    let mut text = describe(&stored.destination);
    for repair in &stored.repairs {
        text += &format!("  note       {repair}\n");
    }
    print(&text);
    Ok(())
}

fn describe(destination: &Destination) -> String {
    let mut text = format!("{}\n  server     {}\n", destination.name, destination.server);
    if let Some(backup) = &destination.backup_server {
        let back = destination.return_after_s;
        text += &format!("  backup     {backup}, failback after {back} s\n");
    }
    if let Some(platform) = &destination.platform {
        text += &format!("  platform   {platform}\n");
    }
    if let Some(page) = &destination.watch_page {
        text += &format!("  watch      {page}\n");
    }
    let day = |time: &str| time.get(..10).unwrap_or_default().to_owned();
    if destination.secret_lost {
        text += "  secrets    cannot be decrypted: set key and passphrase again with `yonder destination rekey`\n";
    }
    match &destination.key {
        Some(key) => {
            text += &format!(
                "  key        {}, {} characters, set {}",
                key_text(key),
                key.length,
                day(&key.set_at)
            );
            if key.rolls > 0 {
                text += &format!(", rolled {} times", key.rolls);
            }
            if key.kind == KeyKind::OneBroadcast {
                text += ", for one broadcast";
            }
            text += &key.expires_at.as_deref().map(|at| format!(", expires {}", day(at))).unwrap_or_default();
            text += &key.used_at.as_deref().map(|at| format!(", used {}", day(at))).unwrap_or_default();
            text += "\n";
        }
        None => text += "  key        none\n",
    }
    if let Some(passphrase) = &destination.passphrase {
        let (bits, set) = (passphrase.key_length, day(&passphrase.set_at));
        text += &format!("  passphrase sealed, AES-{bits}, set {set}\n");
    }
    if destination.has_authority {
        text += "  authority  an additional private one is trusted\n";
    }
    if !destination.uplinks.is_empty() {
        text += &format!("  uplinks    {}\n", destination.uplinks.join(", then "));
    }
    if !destination.relays.is_empty() {
        text += &format!("  relays     {}\n", destination.relays.join(", "));
    }
    text
}

fn key_text(key: &KeyFacts) -> String {
    match key.ending.as_str() {
        "" => "sealed".to_owned(),
        ending => format!("…{ending}"),
    }
}
