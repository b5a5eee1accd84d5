//! SRT servers: `srt://host:port?latency=…`, and the stream ID that goes with them.

use std::fmt;
use std::ops::RangeInclusive;

use percent_encoding::percent_decode_str;

use crate::authority::Authority;
use crate::key::StreamKey;
use crate::repair::{Repair, note};
use crate::server::{AddressError, Opened};

/// Latencies that can be asked for, in milliseconds. Less than 20 leaves no time for a retransmission anywhere;
/// more than 8000 would need larger buffers than receivers commonly have.
pub const LATENCY_RANGE_MS: RangeInclusive<u16> = 20..=8_000;
/// What is asked for where the address says nothing (the draft's own default, 4.4).
const USUAL_LATENCY_MS: u16 = 120;
/// Longest stream ID (3.2.1.3).
const MAX_STREAM_ID: usize = 512;
/// Stands in a stream ID for the stream key.
const BLANK: &str = "{key}";

/// An SRT server.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SrtServer {
    /// Host name or address; IPv6 without brackets.
    pub host: String,
    /// Port.
    pub port: u16,
    /// Stream ID with `{key}` in place of the stream key; `None` where the key alone is the stream ID.
    pub stream_id: Option<String>,
    /// Latency asked for, in milliseconds.
    pub latency_ms: u16,
}

impl SrtServer {
    /// Reads the address. A stream ID without a blank for the key comes back apart: it may be a secret.
    pub(crate) fn read(opened: Opened<'_>) -> Result<(Self, Option<String>, Vec<Repair>), AddressError> {
        let Opened { authority, rest, mut repairs, .. } = opened;
        let Authority { host, port } = Authority::parse(authority)?;
        let port = port.ok_or_else(|| AddressError::NoPort(authority.to_owned()))?;
        let (path, query) = rest.split_once('?').unwrap_or((rest, ""));
        match path {
            "" => {}
            "/" => note(&mut repairs, Repair::Slashes),
            _ => return Err(AddressError::Path),
        }
        let mut server = Self { host, port, stream_id: None, latency_ms: USUAL_LATENCY_MS };
        let mut sealed = None;
        for pair in query.split('&').filter(|pair| !pair.is_empty()) {
            let (name, value) = pair.split_once('=').unwrap_or((pair, ""));
            match name.to_ascii_lowercase().as_str() {
                "streamid" => {
                    let id = percent_decode_str(value).decode_utf8_lossy().into_owned();
                    if id.len() > MAX_STREAM_ID {
                        return Err(AddressError::StreamId);
                    }
                    if id.contains(BLANK) {
                        server.stream_id = Some(id);
                    } else if !id.is_empty() {
                        sealed = Some(id);
                    }
                }
                "latency" => {
                    let number = value.parse().ok().filter(|number| LATENCY_RANGE_MS.contains(number));
                    server.latency_ms = number.ok_or_else(|| AddressError::Latency(value.to_owned()))?;
                }
                "mode" if value.eq_ignore_ascii_case("caller") => {}
                "mode" => return Err(AddressError::Mode(value.to_owned())),
                "passphrase" => return Err(AddressError::PassphraseInAddress),
                _ => return Err(AddressError::Parameter(name.to_owned())),
            }
        }
        Ok((server, sealed, repairs))
    }
}

impl fmt::Display for SrtServer {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let authority = Authority { host: self.host.clone(), port: Some(self.port) };
        write!(f, "srt://{authority}?latency={}", self.latency_ms)?;
        let Some(id) = &self.stream_id else { return Ok(()) };
        f.write_str("&streamid=")?;
        for c in id.chars() {
            // Only what would end the value, or look like a code, is written as one.
            match c {
                '%' | '&' | ' ' | '"' | '<' | '>' => write!(f, "%{:02X}", u32::from(c))?,
                c => write!(f, "{c}")?,
            }
        }
        Ok(())
    }
}

/// Why no stream ID could be made.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum StreamIdError {
    /// The stream ID has a blank, and there is no key to fill it.
    #[error("the stream ID has a place for the stream key ({BLANK}), but no key is set")]
    NoKey,
    /// Longer than the protocol allows.
    #[error("the stream ID with the key in it is longer than {MAX_STREAM_ID} bytes")]
    TooLong,
}

/// The stream ID that is sent: the address's with the key in its place, or the key itself, or none.
///
/// # Errors
/// [`StreamIdError`] when a blank stays open or the result is too long.
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
