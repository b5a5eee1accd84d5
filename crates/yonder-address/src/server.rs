//! Server addresses of platforms, for any protocol.

use std::fmt;

use crate::authority::AuthorityError;
use crate::passphrase::PassphraseError;
use crate::repair::{Repair, bare, note};
use crate::rtmp::RtmpServer;
use crate::srt::SrtServer;

/// Maximum length of an address, in bytes.
pub(crate) const MAX_ADDRESS: usize = 2048;

/// Error for an invalid server address.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum AddressError {
    /// Unknown scheme.
    #[error("the server address must begin with rtmp://, rtmps:// or srt://")]
    Scheme,
    /// The address of a web page.
    #[error(
        "this is the address of a web page; copy the server address for encoders from the platform's page, beginning with rtmp://, rtmps:// or srt://"
    )]
    WebPage,
    /// The address of a camera.
    #[error("this is the address of a camera; a destination needs the platform's server address")]
    Camera,
    /// Invalid host or port.
    #[error(transparent)]
    Authority(#[from] AuthorityError),
    /// The application is missing.
    #[error("the server address has no application, as in rtmp://{0}/live")]
    NoApplication(String),
    /// Blank or control character.
    #[error("the server address contains a blank at position {0}")]
    Blank(usize),
    /// Credentials in the address.
    #[error("the server address contains a user name or password; platforms use a stream key instead")]
    Credentials,
    /// Too long.
    #[error("the server address is longer than {MAX_ADDRESS} bytes")]
    TooLong,
    /// SRT has no default port.
    #[error("an SRT address needs a port, as in srt://{0}:8890")]
    NoPort(String),
    /// SRT has no path.
    #[error("an SRT address has no path; write the stream ID as ?streamid=")]
    Path,
    /// File mode of SRT is not supported.
    #[error("the address is for file transfer (transtype=file); a push needs transtype=live")]
    FileMode,
    /// A passphrase in a context where it cannot be stored.
    #[error("the passphrase does not belong in this address; enter it separately; it is stored encrypted")]
    PassphraseInAddress,
    /// Invalid passphrase.
    #[error(transparent)]
    Passphrase(PassphraseError),
    /// Invalid key length.
    #[error("pbkeylen={0} is not a key length; use 16, 24 or 32 bytes")]
    KeyLength(String),
    /// Latency out of range.
    #[error("the latency {0:?} is not a number of milliseconds from 20 to 8000")]
    Latency(String),
    /// Only caller mode is supported.
    #[error("mode={0} is not possible: pushes call the platform (mode=caller)")]
    Mode(String),
    /// The stream ID is too long.
    #[error("the stream ID is longer than 512 bytes")]
    StreamId,
}

/// Protocol of a server.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Protocol {
    /// RTMP without encryption.
    Rtmp,
    /// RTMP over TLS.
    Rtmps,
    /// SRT.
    Srt,
}

impl Protocol {
    /// All protocols.
    pub const ALL: [Self; 3] = [Self::Rtmp, Self::Rtmps, Self::Srt];

    /// Returns the scheme, which is also the protocol's name.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Rtmp => "rtmp",
            Self::Rtmps => "rtmps",
            Self::Srt => "srt",
        }
    }

    /// Returns the protocol with this name.
    #[must_use]
    pub fn from_name(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|protocol| protocol.as_str().eq_ignore_ascii_case(word))
    }
}

/// Server of a platform, without secrets.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ServerAddress {
    /// RTMP or RTMPS.
    Rtmp(RtmpServer),
    /// SRT.
    Srt(SrtServer),
}

impl ServerAddress {
    /// Returns the protocol.
    #[must_use]
    pub fn protocol(&self) -> Protocol {
        match self {
            Self::Rtmp(server) if server.tls => Protocol::Rtmps,
            Self::Rtmp(_) => Protocol::Rtmp,
            Self::Srt(_) => Protocol::Srt,
        }
    }

    /// Returns the address with the secrets in its parameters, for the protocol and for sealing.
    #[must_use]
    pub fn full_address(&self) -> String {
        match self {
            Self::Rtmp(server) => server.full_address(),
            Self::Srt(server) => server.to_string(),
        }
    }

    /// Returns the host name or address; IPv6 without brackets.
    #[must_use]
    pub fn host(&self) -> &str {
        match self {
            Self::Rtmp(server) => &server.host,
            Self::Srt(server) => &server.host,
        }
    }

    /// Returns the port.
    #[must_use]
    pub fn port(&self) -> u16 {
        match self {
            Self::Rtmp(server) => server.port,
            Self::Srt(server) => server.port,
        }
    }

    /// Returns true if a stream key identifies the same broadcast on both: same host for RTMP and RTMPS, whose ports
    /// lead to the same ingest; same host and port for SRT, whose ports have separate listeners.
    #[must_use]
    pub fn is_same_ingest(&self, other: &Self) -> bool {
        let is_same_host = self.host().eq_ignore_ascii_case(other.host());
        match (self, other) {
            (Self::Srt(_), Self::Srt(_)) => is_same_host && self.port() == other.port(),
            (Self::Rtmp(_), Self::Rtmp(_)) => is_same_host,
            _ => false,
        }
    }
}

impl fmt::Display for ServerAddress {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Rtmp(server) => server.fmt(f),
            Self::Srt(server) => server.fmt(f),
        }
    }
}

/// Pasted address without surroundings, split after its scheme.
pub(crate) struct Opened<'a> {
    pub(crate) protocol: Protocol,
    /// Host and port.
    pub(crate) authority: &'a str,
    /// Rest, beginning with its slash or question mark.
    pub(crate) rest: &'a str,
    pub(crate) repairs: Vec<Repair>,
}

/// Removes quotes and blanks around an address and parses its scheme.
pub(crate) fn open(text: &str) -> Result<Opened<'_>, AddressError> {
    let mut repairs = Vec::new();
    let text = bare(text, &mut repairs);
    if text.len() > MAX_ADDRESS {
        return Err(AddressError::TooLong);
    }
    let (scheme, rest) = text.split_once(':').ok_or(AddressError::Scheme)?;
    let protocol = match scheme.to_ascii_lowercase().as_str() {
        "http" | "https" => return Err(AddressError::WebPage),
        "rtsp" | "rtsps" => return Err(AddressError::Camera),
        scheme => Protocol::from_name(scheme).ok_or(AddressError::Scheme)?,
    };
    if let Some(at) = text.chars().position(|c| c.is_whitespace() || c.is_control()) {
        return Err(AddressError::Blank(at + 1));
    }
    let bare_rest = rest.trim_start_matches('/');
    match rest.len() - bare_rest.len() {
        2 => {}
        0 | 1 => note(&mut repairs, Repair::SchemeSlash),
        // Three slashes mean an empty host, not a repeated slash.
        _ => return Err(AuthorityError::NoHost.into()),
    }
    let end = bare_rest.find(['/', '?']).unwrap_or(bare_rest.len());
    let (authority, rest) = bare_rest.split_at_checked(end).unwrap_or((bare_rest, ""));
    if authority.contains('@') {
        return Err(AddressError::Credentials);
    }
    Ok(Opened { protocol, authority, rest, repairs })
}
