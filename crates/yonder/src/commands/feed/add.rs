//! `yonder feed add`: by an address, or by a pattern that is filled in.

use std::collections::BTreeMap;

use clap::Args;
use yonder_api::{Feed, NewFeed, PatternFeeds};

use super::{AccountArguments, TransportChoice, show};
use crate::client::Client;
use crate::failure::Failure;
use crate::output::print_json;

#[derive(Debug, Args)]
pub(crate) struct AddArguments {
    /// Name of the feed; with --channels each feed's name ends in its channel.
    name: String,
    /// RTSP address of its main stream. A password in it is seen by whoever lists this machine's processes
    /// meanwhile: --user and --password-file keep it out of sight.
    #[arg(long, value_name = "RTSP_URL", required_unless_present = "pattern", conflicts_with = "pattern")]
    url: Option<String>,
    /// RTSP address of a lighter stream.
    #[arg(long = "sub-url", value_name = "RTSP_URL", requires = "url")]
    sub_url: Option<String>,
    /// Address pattern to fill in; see `yonder pattern list`.
    #[arg(long, value_name = "PATTERN")]
    pattern: Option<String>,
    /// What stands in a blank of the pattern, like `host=192.0.2.7`.
    #[arg(long = "set", value_name = "BLANK=VALUE", requires = "pattern", value_parser = read_pair)]
    set: Vec<(String, String)>,
    /// A recorder's channels, one feed each, like `1-4,7`.
    #[arg(long, value_name = "LIST", requires = "pattern")]
    channels: Option<String>,
    /// How the camera's packets travel.
    #[arg(long, value_enum, default_value = "auto")]
    transport: TransportChoice,
    #[command(flatten)]
    account: AccountArguments,
    /// SHA-256 fingerprint of the camera's own certificate, for rtsps:// without a known authority.
    #[arg(long, value_name = "FINGERPRINT")]
    pin: Option<String>,
    /// Site that the camera is at, when that is not where the service runs: its uplink carries the pull.
    #[arg(long, value_name = "SITE")]
    site: Option<String>,
    /// Print JSON.
    #[arg(long)]
    json: bool,
}

pub(super) fn run(arguments: AddArguments, client: &Client) -> Result<(), Failure> {
    let AddArguments { name, url, sub_url, pattern, set, channels, transport, account, pin, site, json } =
        arguments;
    let password = account.password()?;
    if let Some(pattern) = pattern {
        let set: BTreeMap<String, String> = set.into_iter().collect();
        let transport = transport.into();
        let new = PatternFeeds { name, set, channels, transport, user: account.user, password, pin, site };
        let feeds: Vec<Feed> = client.post(&["patterns", &pattern, "feeds"], &new)?;
        if json {
            return print_json(&feeds);
        }
        return feeds.iter().try_for_each(|feed| show(feed, false));
    }
    let new = NewFeed {
        name,
        // One of the two is there: the arguments demand it.
        url: url.unwrap_or_default().into(),
        sub_url: sub_url.map(Into::into),
        transport: transport.into(),
        user: account.user,
        password,
        pin,
        site,
    };
    show(&client.post(&["feeds"], &new)?, json)
}

fn read_pair(text: &str) -> Result<(String, String), String> {
    let (name, value) = text.split_once('=').ok_or("give a blank and its value, like host=192.0.2.7")?;
    match name.trim() {
        "user" | "password" => {
            Err("user name and password are given by --user and --password-file".to_owned())
        }
        name => Ok((name.to_owned(), value.trim().to_owned())),
    }
}
