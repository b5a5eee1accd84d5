//! `yonder feed add`: by an address, or from a pattern.

use std::collections::BTreeMap;

use clap::Args;
use yonder_address::mask;
use yonder_api::{Feed, NewFeed, PatternFeeds, Secret};

use super::ingest::IngestArguments;
use super::{AccountArguments, TransportChoice, show};
use crate::client::Client;
use crate::failure::Failure;
use crate::output::{print_json, wants_json};
use crate::secrets::Source;

#[derive(Debug, Args)]
pub(crate) struct AddArguments {
    /// Name of the feed; with --channels each feed's name ends with its channel.
    name: String,
    /// RTSP address of the main stream. A password in it is visible in the process list and in the history of the
    /// shell: use --url-stdin, or --user and --password-file.
    #[arg(long, value_name = "RTSP_URL", required_unless_present_any = ["pattern", "url_stdin", "ingest"], conflicts_with = "pattern")]
    url: Option<String>,
    /// Read the address of the main stream from standard input; on a terminal it is not shown.
    #[arg(long = "url-stdin", conflicts_with_all = ["url", "pattern"])]
    url_stdin: bool,
    /// RTSP address of the sub stream.
    #[arg(long = "sub-url", value_name = "RTSP_URL", conflicts_with = "pattern")]
    sub_url: Option<String>,
    /// Address pattern; see `yonder pattern list`.
    #[arg(long, value_name = "PATTERN")]
    pattern: Option<String>,
    /// Value of a placeholder of the pattern, such as `host=192.0.2.7`.
    #[arg(long = "set", value_name = "BLANK=VALUE", requires = "pattern", value_parser = read_pair)]
    set: Vec<(String, String)>,
    /// Channels of a recorder, one feed each, such as `1-4,7`.
    #[arg(long, value_name = "LIST", requires = "pattern")]
    channels: Option<String>,
    /// Encoders publish to the feed, with a stream key. A strong one is generated unless one is given; see `yonder feed reveal`.
    #[arg(long, conflicts_with_all = ["url", "url_stdin", "sub_url", "pattern", "user", "password_file", "password_stdin", "pin", "device"])]
    ingest: bool,
    #[command(flatten)]
    access: IngestArguments,
    /// Transport of RTP packets.
    #[arg(long, value_enum, default_value = "auto")]
    transport: TransportChoice,
    #[command(flatten)]
    account: AccountArguments,
    /// SHA-256 fingerprint of the camera's own certificate, for rtsps:// without a known authority.
    #[arg(long, value_name = "FINGERPRINT")]
    pin: Option<String>,
    /// Site of the camera, if it is not that of the service: its uplink carries the pull.
    #[arg(long, value_name = "SITE")]
    site: Option<String>,
    /// ONVIF device service of the camera, if it is not at port 80 of the feed's host: a host with its port, or a URL.
    #[arg(long, value_name = "HOST", conflicts_with = "pattern")]
    device: Option<String>,
}

/// Returns the address from an argument, or from standard input.
pub(super) fn read_url(url: Option<String>, stdin: bool) -> Result<Option<Secret>, Failure> {
    if stdin {
        return Source::Stdin.read_line("address").map(Some);
    }
    Ok(url.map(|url| warned("--url", url)))
}

/// Warns about a secret in an argument.
#[expect(clippy::print_stderr, reason = "a warning is not part of the output")]
pub(super) fn warned(option: &str, url: String) -> Secret {
    let has_account = url.split_once("://").is_some_and(|(_, rest)| {
        let authority = rest.split(['/', '?']).next().unwrap_or_default();
        authority.split_once('@').is_some_and(|(account, _)| account.contains(':'))
    });
    if has_account || mask(&url).secrets.iter().any(Option::is_some) {
        eprintln!(
            "yonder: the address given with {option} contains a password or token, which is visible in the process list and the shell history. It is stored encrypted. Use --url-stdin, or --user and --password-file."
        );
    }
    url.into()
}

pub(super) fn run(arguments: AddArguments, client: &Client) -> Result<(), Failure> {
    let AddArguments {
        name,
        url,
        url_stdin,
        sub_url,
        pattern,
        set,
        channels,
        ingest,
        access,
        transport,
        account,
        pin,
        site,
        device,
    } = arguments;
    let password = account.password()?;
    if let Some(pattern) = pattern {
        let set: BTreeMap<String, String> = set.into_iter().collect();
        let transport = transport.into();
        let new = PatternFeeds { name, set, channels, transport, user: account.user, password, pin, site };
        let feeds: Vec<Feed> = client.post(&["patterns", &pattern, "feeds"], &new)?;
        if wants_json() {
            return print_json(&feeds);
        }
        return feeds.iter().try_for_each(show);
    }
    let new = NewFeed {
        name,
        url: read_url(url, url_stdin)?.unwrap_or_else(|| String::new().into()),
        sub_url: sub_url.map(|url| warned("--sub-url", url)),
        ingest,
        key: access.key.read()?,
        passphrase: access.passphrase()?,
        key_length: access.key_length,
        transport: transport.into(),
        user: account.user,
        password,
        pin,
        site,
        device,
    };
    show(&client.post(&["feeds"], &new)?)
}

fn read_pair(text: &str) -> Result<(String, String), String> {
    let (name, value) =
        text.split_once('=').ok_or("give a placeholder and its value, like host=192.0.2.7")?;
    match name.trim() {
        "user" | "password" => {
            Err("user name and password are given by --user and --password-file".to_owned())
        }
        name => Ok((name.to_owned(), value.trim().to_owned())),
    }
}
