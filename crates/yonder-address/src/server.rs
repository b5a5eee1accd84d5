//! A platform's server, whatever protocol it speaks.

use std::fmt;

use crate::authority::AuthorityError;
use crate::passphrase::PassphraseError;
use crate::repair::{Repair, bare, note};
use crate::rtmp::RtmpServer;
use crate::srt::SrtServer;

/// Longest address accepted, in bytes.
pub(crate) const MAX_ADDRESS: usize = 2048;

/// Why a server address was refused.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum AddressError {
    /// It does not begin with a scheme that is known.
    #[error("the server address must begin with rtmp://, rtmps:// or srt://")]
    Scheme,
    /// It is a web page.
    #[error(
        "this is the address of a web page, perhaps the one where people watch; \
         what is needed is the server address of the platform's page for encoders, beginning with rtmp://, rtmps:// or srt://"
    )]
    WebPage,
    /// It is a camera.
    #[error("this is the address of a camera; a destination needs the platform's server address")]
    Camera,
    /// Host or port is wrong.
    #[error(transparent)]
    Authority(#[from] AuthorityError),
    /// There is no application behind the host.
    #[error("the server address lacks the application, as in rtmp://{0}/live")]
    NoApplication(String),
    /// A blank or control character inside.
    #[error("the server address holds a blank at position {0}")]
    Blank(usize),
    /// Credentials in the address.
    #[error("the server address holds a user name or password; platforms take a stream key instead")]
    Credentials,
    /// Longer than any platform's.
    #[error("the server address is longer than {MAX_ADDRESS} bytes")]
    TooLong,
    /// SRT has no usual port.
    #[error("an SRT address needs a port, as in srt://{0}:8890")]
    NoPort(String),
    /// SRT has no path.
    #[error("an SRT address has no path; the stream ID goes into ?streamid=")]
    Path,
    /// Files are not pushed.
    #[error("the address is for the transfer of files (transtype=file); a push needs transtype=live")]
    FileMode,
    /// A passphrase where none can be kept.
    #[error("the passphrase does not belong in this address; it is given separately and kept sealed")]
    PassphraseInAddress,
    /// A passphrase that SRT does not allow.
    #[error(transparent)]
    Passphrase(PassphraseError),
    /// A length of the key that AES does not have.
    #[error("pbkeylen={0} is no length of a key; possible are 16, 24 and 32 bytes")]
    KeyLength(String),
    /// The latency is no number in its range.
    #[error("the latency {0:?} is not a number of milliseconds from 20 to 8000")]
    Latency(String),
    /// Only calling is possible.
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
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Rtmp, Self::Rtmps, Self::Srt];

    /// The scheme, which is also its word everywhere.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Rtmp => "rtmp",
            Self::Rtmps => "rtmps",
            Self::Srt => "srt",
        }
    }

    /// From its word.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|protocol| protocol.word().eq_ignore_ascii_case(word))
    }
}

/// A platform's server, without any secret.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ServerAddress {
    /// RTMP, with TLS or without.
    Rtmp(RtmpServer),
    /// SRT.
    Srt(SrtServer),
}

impl ServerAddress {
    /// Protocol.
    #[must_use]
    pub fn protocol(&self) -> Protocol {
        match self {
            Self::Rtmp(server) if server.tls => Protocol::Rtmps,
            Self::Rtmp(_) => Protocol::Rtmp,
            Self::Srt(_) => Protocol::Srt,
        }
    }

    /// Returns the address with the secrets in its parameters, for the wire and the sealed store.
    #[must_use]
    pub fn full_address(&self) -> String {
        match self {
            Self::Rtmp(server) => server.full_address(),
            Self::Srt(server) => server.to_string(),
        }
    }

    /// Host name or address; IPv6 without brackets.
    #[must_use]
    pub fn host(&self) -> &str {
        match self {
            Self::Rtmp(server) => &server.host,
            Self::Srt(server) => &server.host,
        }
    }

    /// Port.
    #[must_use]
    pub fn port(&self) -> u16 {
        match self {
            Self::Rtmp(server) => server.port,
            Self::Srt(server) => server.port,
        }
    }

    /// True if a stream key identifies the same broadcast at both: at the same host for RTMP and RTMPS, whose ports lead to the same
    /// ingest, and at the same host and port for SRT, where each port has a listener of its own.
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

/// A pasted address, cleaned and cut behind its scheme.
pub(crate) struct Opened<'a> {
    pub(crate) protocol: Protocol,
    /// Host and port.
    pub(crate) authority: &'a str,
    /// The rest of the text, with its slash or question mark.
    pub(crate) rest: &'a str,
    pub(crate) repairs: Vec<Repair>,
}

/// Drops what surrounds an address and reads its scheme.
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
        scheme => Protocol::from_word(scheme).ok_or(AddressError::Scheme)?,
    };
    if let Some(at) = text.chars().position(|c| c.is_whitespace() || c.is_control()) {
        return Err(AddressError::Blank(at + 1));
    }
    let bare_rest = rest.trim_start_matches('/');
    match rest.len() - bare_rest.len() {
        2 => {}
        0 | 1 => note(&mut repairs, Repair::SchemeSlash),
        // Three slashes say that the host was left out, not that one was doubled.
        _ => return Err(AuthorityError::NoHost.into()),
    }
    let end = bare_rest.find(['/', '?']).unwrap_or(bare_rest.len());
    let (authority, rest) = bare_rest.split_at_checked(end).unwrap_or((bare_rest, ""));
    if authority.contains('@') {
        return Err(AddressError::Credentials);
    }
    Ok(Opened { protocol, authority, rest, repairs })
}
