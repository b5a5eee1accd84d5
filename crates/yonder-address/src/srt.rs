//! SRT server addresses, `srt://host:port?latency=…`, and stream IDs.

use std::fmt;
use std::ops::RangeInclusive;

use percent_encoding::percent_decode_str;

use crate::authority::Authority;
use crate::error::AddressError;
use crate::key::StreamKey;
use crate::passphrase::{KeyLength, Passphrase};
use crate::repair::{Repair, note};
use crate::scheme::SplitAddress;

/// Accepted latencies, in milliseconds. Less than 20 leaves no time for a retransmission; more than 8000 needs larger
/// buffers than receivers usually have.
pub const LATENCY_RANGE_MS: RangeInclusive<u16> = 20..=8_000;
/// Default latency (draft, 4.4).
const DEFAULT_LATENCY_MS: u16 = 120;
/// Maximum length of a stream ID (3.2.1.3).
const MAX_STREAM_ID: usize = 512;
/// Placeholder of the stream key in a stream ID.
const BLANK: &str = "{key}";

/// SRT server.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SrtServer {
    /// Host name or address; IPv6 without brackets.
    pub host: String,
    /// Port.
    pub port: u16,
    /// Stream ID with `{key}` in place of the stream key; `None` if the key itself is the stream ID.
    pub stream_id: Option<String>,
    /// Requested latency, in milliseconds.
    pub latency_ms: u16,
}

/// Parts of an SRT address that are stored separately.
#[derive(Debug, Default)]
pub(crate) struct SrtExtras {
    /// Stream ID without a placeholder for the key, which may be a secret.
    pub(crate) stream_id: Option<String>,
    /// Passphrase.
    pub(crate) passphrase: Option<Passphrase>,
    /// Key length.
    pub(crate) key_length: Option<KeyLength>,
}

impl SrtServer {
    /// Parses an address in the forms used by platforms and encoders.
    pub(crate) fn read(address: SplitAddress<'_>) -> Result<(Self, SrtExtras, Vec<Repair>), AddressError> {
        let SplitAddress { authority, rest, mut repairs, .. } = address;
        let Authority { host, port } = Authority::parse(authority)?;
        let port = port.ok_or_else(|| AddressError::NoPort(authority.to_owned()))?;
        let (path, query) = rest.split_once('?').unwrap_or((rest, ""));
        match path {
            "" => {}
            "/" => note(&mut repairs, Repair::Slashes),
            _ => return Err(AddressError::Path),
        }
        let mut server = Self { host, port, stream_id: None, latency_ms: DEFAULT_LATENCY_MS };
        let mut extras = SrtExtras::default();
        for pair in query.split('&').filter(|pair| !pair.is_empty()) {
            let (name, value) = pair.split_once('=').unwrap_or((pair, ""));
            server.read_parameter(&name.to_ascii_lowercase(), value, &mut extras, &mut repairs)?;
        }
        for id in server.stream_id.iter().chain(&extras.stream_id) {
            check_stream_id(id, &mut repairs);
        }
        Ok((server, extras, repairs))
    }

    fn read_parameter(
        &mut self,
        name: &str,
        value: &str,
        extras: &mut SrtExtras,
        repairs: &mut Vec<Repair>,
    ) -> Result<(), AddressError> {
        match name {
            "streamid" => {
                let id = percent_decode_str(value).decode_utf8_lossy().into_owned();
                if id.len() > MAX_STREAM_ID {
                    return Err(AddressError::StreamId);
                }
                if id.contains(BLANK) {
                    self.stream_id = Some(id);
                } else if !id.is_empty() {
                    extras.stream_id = Some(id);
                }
            }
            // The latency of a push is the peer's receiver delay (draft, 3.2.1.1.1).
            "latency" | "peerlatency" => self.latency_ms = read_latency(value, repairs)?,
            "mode" if value.eq_ignore_ascii_case("caller") => {}
            "mode" => return Err(AddressError::Mode(value.to_owned())),
            "transtype" if value.eq_ignore_ascii_case("live") => {}
            "transtype" => return Err(AddressError::FileMode),
            "pbkeylen" => match value {
                "0" => {}
                bytes => {
                    let bits = bytes.parse().ok().and_then(|bytes: u16| bytes.checked_mul(8));
                    let length = bits.and_then(KeyLength::from_bits);
                    extras.key_length =
                        Some(length.ok_or_else(|| AddressError::KeyLength(value.to_owned()))?);
                }
            },
            "passphrase" if value.is_empty() => {}
            "passphrase" => {
                let text = percent_decode_str(value).decode_utf8_lossy();
                extras.passphrase = Some(Passphrase::parse(&text).map_err(AddressError::Passphrase)?);
            }
            // Socket settings, which are chosen here, and unknown parameters.
            name => note(repairs, Repair::ParameterDropped(name.to_owned())),
        }
        Ok(())
    }
}

/// Parses a latency in milliseconds; some sources use microseconds.
fn read_latency(value: &str, repairs: &mut Vec<Repair>) -> Result<u16, AddressError> {
    let malformed = || AddressError::Latency(value.to_owned());
    let number: u32 = value.parse().map_err(|_| malformed())?;
    let in_range = |number: u32| u16::try_from(number).ok().filter(|ms| LATENCY_RANGE_MS.contains(ms));
    if let Some(latency) = in_range(number) {
        return Ok(latency);
    }
    let latency = in_range(number / 1_000).filter(|_| number.is_multiple_of(1_000)).ok_or_else(malformed)?;
    note(repairs, Repair::LatencyInMicroseconds);
    Ok(latency)
}

/// Checks a stream ID of the standardized form (draft-sharabayko-srt, appendix B): `#!::` and pairs of key and value.
/// Records keys that are missing for a push.
pub(crate) fn check_stream_id(id: &str, repairs: &mut Vec<Repair>) {
    let Some(pairs) = id.strip_prefix("#!::") else { return };
    let pairs = pairs.split(',').map(|pair| pair.split_once('='));
    if pairs.clone().any(|pair| pair.is_none_or(|(key, _)| key.is_empty())) {
        note(repairs, Repair::StreamIdMalformed);
        return;
    }
    let value = |key: &str| pairs.clone().flatten().find(|(name, _)| *name == key).map(|(_, value)| value);
    if value("m") != Some("publish") {
        note(repairs, Repair::StreamIdDoesNotPublish);
    }
    if pairs.clone().flatten().all(|(name, value)| name != "r" || value.is_empty()) {
        note(repairs, Repair::StreamIdWithoutResource);
    }
}

impl fmt::Display for SrtServer {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let authority = Authority { host: self.host.clone(), port: Some(self.port) };
        write!(f, "srt://{authority}?latency={}", self.latency_ms)?;
        let Some(id) = &self.stream_id else { return Ok(()) };
        f.write_str("&streamid=")?;
        for c in id.chars() {
            // Only characters that would end the value, or look like an encoding, are encoded.
            match c {
                '%' | '&' | ' ' | '"' | '<' | '>' => write!(f, "%{:02X}", u32::from(c))?,
                c => write!(f, "{c}")?,
            }
        }
        Ok(())
    }
}

/// Error for a stream ID that cannot be built.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum StreamIdError {
    /// The placeholder cannot be filled without a key.
    #[error("the stream ID has a place for the stream key ({BLANK}), but no key is set")]
    NoKey,
    /// Too long.
    #[error("the stream ID with the key in it is longer than {MAX_STREAM_ID} bytes")]
    TooLong,
}

/// Returns the stream ID to be sent: the server's with the key inserted, or the key itself, or none.
///
/// # Errors
/// [`StreamIdError`] if the key is missing or the result is too long.
pub fn stream_id(server: &SrtServer, key: Option<&StreamKey>) -> Result<Option<StreamKey>, StreamIdError> {
    let id = match (&server.stream_id, key) {
        (Some(template), Some(key)) => Some(template.replace(BLANK, key.expose())),
        (Some(_), None) => return Err(StreamIdError::NoKey),
        (None, Some(key)) => Some(key.expose().to_owned()),
        (None, None) => None,
    };
    match id {
        Some(id) if id.len() > MAX_STREAM_ID => Err(StreamIdError::TooLong),
        id => Ok(id.map(|id| StreamKey::from_stored(id.into()))),
    }
}
