//! Corrections of pasted texts, and remarks.

use std::borrow::Cow;

/// Correction or remark.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Repair {
    /// Surrounding blanks or line ends were removed.
    Trimmed,
    /// Surrounding quotes or brackets were removed.
    Unquoted,
    /// A line end inside the key was removed.
    Unfolded,
    /// Repeated, leading or trailing slashes were removed.
    Slashes,
    /// A missing slash after the scheme was added.
    SchemeSlash,
    /// The key was pasted together with the server address.
    KeyInAddress,
    /// The key was at the end of the server address as well.
    KeyTwice,
    /// Only one address was given; its end is the key.
    KeySplitOff,
    /// The stream ID of the address is sealed like the key.
    StreamIdSealed,
    /// The passphrase of the address is sealed.
    PassphraseSealed,
    /// An irrelevant parameter was removed.
    ParameterDropped(String),
    /// The latency was given in microseconds.
    LatencyInMicroseconds,
    /// Remark: a stream ID of the form `#!::` with invalid pairs.
    StreamIdMalformed,
    /// Remark: a stream ID of the form `#!::` whose mode is not `publish`.
    StreamIdDoesNotPublish,
    /// Remark: a stream ID of the form `#!::` without a resource name.
    StreamIdWithoutResource,
    /// Remark: TLS on the usual port without TLS.
    TlsOnPlainPort,
    /// Remark: no TLS on the usual port of TLS.
    PlainOnTlsPort,
}

impl Repair {
    /// Returns the message.
    #[must_use]
    pub fn sentence(&self) -> Cow<'static, str> {
        let fixed = match self {
            Self::Trimmed => "surrounding blanks or line ends were removed",
            Self::Unquoted => "surrounding quotes were removed",
            Self::Unfolded => "a line end inside the key was removed",
            Self::Slashes => "repeated, leading or trailing slashes were removed",
            Self::SchemeSlash => "the missing slash after the scheme was added",
            Self::KeyInAddress => "the server address before the key was removed",
            Self::KeyTwice => "the key at the end of the server address was removed",
            Self::KeySplitOff => {
                "the end of the address is the stream key; it was split off and stored encrypted"
            }
            Self::StreamIdSealed => {
                "the stream ID of the address was split off and stored encrypted, as the key"
            }
            Self::PassphraseSealed => "the passphrase was split off the address and stored encrypted",
            Self::ParameterDropped(name) => {
                return Cow::Owned(format!("the parameter {name} was removed: pushes do not use it"));
            }
            Self::LatencyInMicroseconds => "the latency was read as microseconds",
            Self::StreamIdMalformed => {
                "the stream ID begins with #!:: but is no list of key=value pairs, which strict servers refuse"
            }
            Self::StreamIdDoesNotPublish => {
                "the stream ID lacks m=publish, so that the server may treat the push as a viewer"
            }
            Self::StreamIdWithoutResource => "the stream ID lacks r=…, the name of the stream at the server",
            Self::TlsOnPlainPort => {
                "the address asks for TLS on port 1935, the default without TLS; with TLS it is 443"
            }
            Self::PlainOnTlsPort => {
                "the address goes without TLS to port 443, the default with TLS; then it begins with rtmps://"
            }
        };
        Cow::Borrowed(fixed)
    }
}

/// Pairs of quotes and brackets that are often copied along.
const QUOTES: [(char, char); 7] =
    [('"', '"'), ('\'', '\''), ('`', '`'), ('“', '”'), ('‘', '’'), ('«', '»'), ('<', '>')];

/// Removes blanks and quotes around a text, in any nesting, and records it.
pub(crate) fn bare<'a>(text: &'a str, repairs: &mut Vec<Repair>) -> &'a str {
    let mut bare = text;
    loop {
        let trimmed = bare.trim_matches(|c: char| c.is_whitespace() || matches!(c, '\u{feff}' | '\u{200b}'));
        if trimmed.len() != bare.len() {
            note(repairs, Repair::Trimmed);
        }
        let unquoted = QUOTES
            .iter()
            .find_map(|(open, close)| trimmed.strip_prefix(*open).and_then(|rest| rest.strip_suffix(*close)));
        match unquoted {
            Some(inner) => {
                note(repairs, Repair::Unquoted);
                bare = inner;
            }
            None => return trimmed,
        }
    }
}

/// Adds a correction, unless it is already listed.
pub(crate) fn note(repairs: &mut Vec<Repair>, repair: Repair) {
    if !repairs.contains(&repair) {
        repairs.push(repair);
    }
}
