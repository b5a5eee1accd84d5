//! `yonder feed rekey` and `reveal`: access of encoders that publish to a feed.

use std::path::{Path, PathBuf};
use std::time::Duration;

use clap::Args;
use serde_json::json;
use yonder_api::{Feed, IngestRekey, RevealedIngest, RtmpAccess, Secret, SrtAccess};

use super::show;
use crate::client::Client;
use crate::duration::parse_duration;
use crate::failure::Failure;
use crate::output::{print, print_json, wants_json};
use crate::secrets::Source;

/// Source of a stream key of encoders, which is never an argument.
#[derive(Debug, Args)]
#[group(multiple = false)]
pub(super) struct KeyArguments {
    /// File with the stream key; without it a strong one is generated.
    #[arg(long, value_name = "FILE")]
    key_file: Option<PathBuf>,
    /// Read the stream key from standard input; on a terminal it is not shown.
    #[arg(long)]
    key_stdin: bool,
}

impl KeyArguments {
    pub(super) fn read(&self) -> Result<Option<Secret>, Failure> {
        Source::of(self.key_file.as_ref(), self.key_stdin).map(|source| source.read("stream key")).transpose()
    }
}

/// Access of encoders to a new feed.
#[derive(Debug, Args)]
pub(super) struct IngestArguments {
    #[command(flatten)]
    pub(super) key: KeyArguments,
    /// File with the passphrase that SRT encoders must use; without one they must not encrypt.
    #[arg(long, value_name = "FILE", requires = "ingest")]
    passphrase_file: Option<PathBuf>,
    /// Length of the SRT encryption key in the address for encoders: 128, 192 or 256 bits.
    #[arg(long, value_name = "BITS", requires = "ingest")]
    pub(super) key_length: Option<u16>,
}

impl IngestArguments {
    pub(super) fn passphrase(&self) -> Result<Option<Secret>, Failure> {
        self.passphrase_file.as_ref().map(|file| read_passphrase(file)).transpose()
    }
}

/// Reads a passphrase, without a final line end.
pub(super) fn read_passphrase(file: &Path) -> Result<Secret, Failure> {
    let text = Source::File(file).read("passphrase")?;
    Ok(text.expose().trim_end_matches(['\r', '\n']).to_owned().into())
}

#[derive(Debug, Args)]
pub(crate) struct RekeyArguments {
    /// Name of the feed.
    name: String,
    #[command(flatten)]
    key: KeyArguments,
    /// Time for which the present key stays valid, such as 2h or 24h.
    #[arg(long, value_name = "TIME", value_parser = parse_duration)]
    grace: Option<Duration>,
}

pub(super) fn rekey(arguments: &RekeyArguments, client: &Client) -> Result<(), Failure> {
    let grace = arguments.grace.unwrap_or_default();
    let request = IngestRekey {
        key: arguments.key.read()?,
        grace_s: u32::try_from(grace.as_millis().div_ceil(1_000)).unwrap_or(u32::MAX),
    };
    show(&client.post(&["feeds", &arguments.name, "rekey"], &request)?)
}

pub(super) fn reveal(name: &str, client: &Client) -> Result<(), Failure> {
    let revealed: RevealedIngest = client.post(&["feeds", name, "reveal"], &json!({}))?;
    if wants_json() {
        return print_json(&revealed);
    }
    print(&text(&revealed));
    Ok(())
}

fn text(revealed: &RevealedIngest) -> String {
    let mut text = String::new();
    let rtmp = |title: &str, access: &RtmpAccess| {
        let RtmpAccess { server, key, joined } = access;
        format!("{title}\n  server  {server}\n  key     {}\n  joined  {}\n", key.expose(), joined.expose())
    };
    if let Some(access) = &revealed.rtmp {
        text += &rtmp("RTMP", access);
    }
    if let Some(access) = &revealed.rtmps {
        text += &rtmp("RTMPS", access);
    }
    if let Some(fingerprint) = &revealed.certificate {
        text += &format!("  certificate of this service itself, SHA-256 {fingerprint}\n");
    }
    if let Some(SrtAccess { address, passphrase, key_length }) = &revealed.srt {
        text += &format!("SRT (caller mode)\n  address     {}\n", address.expose());
        if let Some(passphrase) = passphrase {
            let bits = key_length.unwrap_or_default();
            text += &format!("  passphrase  {}\n  key length  {bits} bits\n", passphrase.expose());
        }
    }
    if text.is_empty() {
        text = format!(
            "key  {}\nThe service does not listen for encoders: start it with --ingest-rtmp, --ingest-rtmps or --ingest-srt.\n",
            revealed.key.expose()
        );
    }
    text
}

/// Returns the address of a feed, or that encoders publish to it.
pub(super) fn address(feed: &Feed) -> String {
    if feed.ingest.is_some() { "published by an encoder".to_owned() } else { feed.url.clone() }
}

/// Describes the access of encoders, and the one that publishes.
pub(super) fn describe(feed: &Feed) -> String {
    let Some(ingest) = &feed.ingest else { return String::new() };
    let mut text = format!("  key        set {}; `yonder feed reveal` prints it\n", ingest.key_set_at);
    if let Some(until) = &ingest.former_key_until {
        text += &format!("  former     key valid until {until}\n");
    }
    let bits = ingest.key_length;
    text += &if ingest.has_passphrase {
        format!("  SRT        encrypted, {bits} bits\n")
    } else {
        "  SRT        not encrypted\n".to_owned()
    };
    if let Some(publisher) = &feed.publisher {
        let software = publisher.software.as_ref().map(|name| format!(", {name}")).unwrap_or_default();
        let encrypted = if publisher.encrypted { ", encrypted" } else { "" };
        let rtt = publisher.rtt_ms.map(|ms| format!(", round trip {ms} ms")).unwrap_or_default();
        text += &format!(
            "  encoder    {} from {}{encrypted}{software}{rtt}, since {}\n",
            publisher.protocol.to_uppercase(),
            publisher.address,
            publisher.since
        );
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn revealed_access_without_listeners_says_how_to_start_them() {
        let key = Secret::from("abcd-efgh".to_owned());
        let mut revealed = RevealedIngest { rtmp: None, rtmps: None, srt: None, key, certificate: None };
        assert!(text(&revealed).contains("--ingest-rtmp"));
        revealed.srt = Some(SrtAccess {
            address: "srt://192.0.2.7:9000?streamid=abcd-efgh".to_owned().into(),
            passphrase: Some("three lamps at night".to_owned().into()),
            key_length: Some(256),
        });
        let text = text(&revealed);
        assert!(text.contains("three lamps at night") && text.contains("256 bits"), "{text}");
    }
}
