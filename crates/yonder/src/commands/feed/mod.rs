//! `yonder feed …`

mod add;
mod find;
mod ingest;
mod still;
mod survey;
mod tune;

use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};
use yonder_api::{Feed, FeedChange, Transport};

use crate::client::Client;
use crate::failure::Failure;
use crate::output::{print, print_json, table, wants_json};
use crate::secrets::Source;

#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum TransportChoice {
    Auto,
    Tcp,
    Udp,
}

impl From<TransportChoice> for Transport {
    fn from(choice: TransportChoice) -> Self {
        match choice {
            TransportChoice::Auto => Self::Auto,
            TransportChoice::Tcp => Self::Tcp,
            TransportChoice::Udp => Self::Udp,
        }
    }
}

/// Credentials of a camera.
#[derive(Debug, Args)]
pub(crate) struct AccountArguments {
    /// User name for the camera.
    #[arg(long, value_name = "NAME")]
    user: Option<String>,
    /// File with the camera's password.
    #[arg(long, value_name = "FILE", conflicts_with = "password_stdin")]
    password_file: Option<PathBuf>,
    /// Read the camera's password from standard input; on a terminal it is not shown.
    #[arg(long)]
    password_stdin: bool,
}

impl AccountArguments {
    fn password(&self) -> Result<Option<yonder_api::Secret>, Failure> {
        let source = Source::of(self.password_file.as_ref(), self.password_stdin);
        source.map(|source| source.read_password()).transpose()
    }
}

#[derive(Debug, Subcommand)]
pub(crate) enum FeedCommand {
    /// Add a feed, or all channels of a recorder.
    Add(Box<add::AddArguments>),
    /// List all feeds.
    List,
    /// Show a feed.
    Show {
        /// Name of the feed.
        name: String,
    },
    /// Change a feed. A running one reconnects if necessary.
    Edit {
        /// Name of the feed.
        name: String,
        /// New name; only while the feed is off.
        #[arg(long, value_name = "NAME")]
        rename: Option<String>,
        /// New RTSP address of the main stream.
        #[arg(long, value_name = "RTSP_URL")]
        url: Option<String>,
        /// Read the address from standard input; on a terminal it is not shown.
        #[arg(long = "url-stdin", conflicts_with = "url")]
        url_stdin: bool,
        /// New RTSP address of the sub stream; an empty text removes it.
        #[arg(long = "sub-url", value_name = "RTSP_URL")]
        sub_url: Option<String>,
        /// Transport of RTP packets.
        #[arg(long, value_enum)]
        transport: Option<TransportChoice>,
        #[command(flatten)]
        account: AccountArguments,
        /// SHA-256 fingerprint of the camera's own certificate; an empty text restores the trust in known authorities.
        #[arg(long, value_name = "FINGERPRINT")]
        pin: Option<String>,
        /// Site of the camera; an empty text for that of the service.
        #[arg(long, value_name = "SITE")]
        site: Option<String>,
        /// ONVIF device service of the camera; an empty text for port 80 of the feed's host.
        #[arg(long, value_name = "HOST")]
        device: Option<String>,
        /// File with a new passphrase for SRT encoders; an empty file removes it.
        #[arg(long, value_name = "FILE")]
        passphrase_file: Option<PathBuf>,
        /// Length of the SRT encryption key in the address for encoders: 128, 192 or 256 bits.
        #[arg(long, value_name = "BITS")]
        key_length: Option<u16>,
    },
    /// Discover cameras in the local networks, or at given hosts.
    Find(Box<find::FindArguments>),
    /// Measure the main and the sub stream of a feed, with advice.
    Survey(Box<survey::SurveyArguments>),
    /// Show or change the encoder settings of a feed's camera over ONVIF, and verify the stream.
    Tune(Box<tune::TuneArguments>),
    /// Write a still picture of a feed.
    Still(still::StillArguments),
    /// Replace the stream key of a feed that encoders publish to. One that publishes stays connected.
    Rekey(ingest::RekeyArguments),
    /// Print addresses, stream key and passphrase for an encoder. This is audited.
    Reveal {
        /// Name of the feed.
        name: String,
    },
    /// Remove an unused feed.
    Remove {
        /// Name of the feed.
        name: String,
    },
}

pub(crate) fn run(command: FeedCommand, client: &Client) -> Result<(), Failure> {
    match command {
        FeedCommand::Add(arguments) => add::run(*arguments, client),
        FeedCommand::List => list(&client.get::<Vec<_>>(&["feeds"])?),
        FeedCommand::Show { name } => show(&client.get(&["feeds", &name])?),
        FeedCommand::Edit {
            name,
            rename,
            url,
            url_stdin,
            sub_url,
            transport,
            account,
            pin,
            site,
            device,
            passphrase_file,
            key_length,
        } => {
            let change = FeedChange {
                name: rename,
                url: add::read_url(url, url_stdin)?,
                sub_url: sub_url.map(|url| add::warned("--sub-url", url)),
                transport: transport.map(Into::into),
                password: account.password()?,
                user: account.user,
                pin,
                site,
                device,
                passphrase: passphrase_file.as_ref().map(|file| ingest::read_passphrase(file)).transpose()?,
                key_length,
            };
            show(&client.patch(&["feeds", &name], &change)?)
        }
        FeedCommand::Find(arguments) => find::run(*arguments, client),
        FeedCommand::Survey(arguments) => survey::run(*arguments, client),
        FeedCommand::Tune(arguments) => tune::run(*arguments, client),
        FeedCommand::Still(arguments) => still::run(&arguments, client),
        FeedCommand::Rekey(arguments) => ingest::rekey(&arguments, client),
        FeedCommand::Reveal { name } => ingest::reveal(&name, client),
        FeedCommand::Remove { name } => {
            client.delete(&["feeds", &name])?;
            print(&format!("Feed {name} removed.\n"));
            Ok(())
        }
    }
}

fn list(feeds: &[Feed]) -> Result<(), Failure> {
    if wants_json() {
        return print_json(&feeds);
    }
    if feeds.is_empty() {
        print("There are no feeds yet. Add one: yonder feed add NAME --url rtsp://192.0.2.7/main\n");
        return Ok(());
    }
    let rows: Vec<Vec<String>> = feeds
        .iter()
        .map(|feed| {
            let user = feed.user.clone().unwrap_or_else(|| "-".to_owned());
            vec![feed.name.clone(), feed.state.to_string(), user, ingest::address(feed)]
        })
        .collect();
    print(&table(&["FEED", "STATE", "USER", "ADDRESS"], &rows));
    Ok(())
}

fn show(feed: &Feed) -> Result<(), Failure> {
    if wants_json() {
        return print_json(feed);
    }
    let mut text = format!("{}\n  address    {}\n", feed.name, ingest::address(feed));
    if let Some(sub_url) = &feed.sub_url {
        text += &format!("  sub        {sub_url}\n");
    }
    if feed.ingest.is_some() {
        text += &ingest::describe(feed);
    } else {
        text += &format!("  transport  {}\n", feed.transport.as_str());
    }
    if let Some(user) = &feed.user {
        text += &format!("  user       {user}, password stored encrypted\n");
    }
    if let Some(pin) = &feed.pin {
        text += &format!("  pin        {pin}\n");
    }
    if let Some(site) = &feed.site {
        text += &format!("  site       {site}\n");
    }
    if let Some(device) = &feed.device {
        text += &format!("  device     {device}\n");
    }
    text += &format!("  state      {}\n", feed.state);
    for warning in &feed.warnings {
        text += &format!("  warning    {warning}\n");
    }
    print(&text);
    Ok(())
}
