//! Repairs of pasted texts, and remarks about them.

use std::borrow::Cow;

/// One repair, or one remark.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Repair {
    /// Blanks or line ends around it were dropped.
    Trimmed,
    /// Quotes or brackets around it were dropped.
    Unquoted,
    /// A line end inside the key was taken out.
    Unfolded,
    /// Doubled, leading or trailing slashes were dropped.
    Slashes,
    /// A slash was missing behind the scheme.
    SchemeSlash,
    /// The key was pasted together with the server address.
    KeyInAddress,
    /// The key stood at the end of the server address as well.
    KeyTwice,
    /// Only one address was given, and its end is the key.
    KeySplitOff,
    /// The stream ID of the address is kept sealed, as the key.
    StreamIdSealed,
    /// The passphrase of the address is kept sealed.
    PassphraseSealed,
    /// A parameter that has no meaning for a push was dropped.
    ParameterDropped(String),
    /// The latency was given in microseconds.
    LatencyInMicroseconds,
    /// Remark: a stream ID of the form `#!::` whose pairs cannot be read.
    StreamIdMalformed,
    /// Remark: a stream ID of the form `#!::` that does not ask to publish.
    StreamIdDoesNotPublish,
    /// Remark: a stream ID of the form `#!::` without a resource name.
    StreamIdWithoutResource,
    /// Remark: TLS on the port that is usual without.
    TlsOnPlainPort,
    /// Remark: no TLS on the port that is usual with it.
    PlainOnTlsPort,
}

impl Repair {
    /// The repair in words.
    #[must_use]
    pub fn sentence(&self) -> Cow<'static, str> {
        let fixed = match self {
            Self::Trimmed => "blanks or line ends around it were dropped",
            Self::Unquoted => "quotes around it were dropped",
            Self::Unfolded => "a line end inside the key was taken out",
            Self::Slashes => "doubled, leading or trailing slashes were dropped",
            Self::SchemeSlash => "the slash missing behind the scheme was put in",
            Self::KeyInAddress => "the server address in front of the key was dropped",
            Self::KeyTwice => "the key stood at the end of the server address as well; there it was dropped",
            Self::KeySplitOff => "the end of the address was taken as the stream key and is kept sealed",
            Self::StreamIdSealed => {
                "the stream ID was taken out of the address and is kept sealed, as the key"
            }
            Self::PassphraseSealed => "the passphrase was taken out of the address and is kept sealed",
            Self::ParameterDropped(name) => {
                return Cow::Owned(format!("the parameter {name} was dropped: a push has no use for it"));
            }
            Self::LatencyInMicroseconds => "the latency was taken as microseconds",
            Self::StreamIdMalformed => {
                "the stream ID begins with #!:: but is no list of key=value pairs, which strict servers refuse"
            }
            Self::StreamIdDoesNotPublish => {
                "the stream ID lacks m=publish, so that the server may take the push for a viewer"
            }
            Self::StreamIdWithoutResource => "the stream ID lacks r=…, the name of the stream at the server",
            Self::TlsOnPlainPort => {
                "the address asks for TLS on port 1935, which is usual without TLS; with TLS it is 443"
            }
            Self::PlainOnTlsPort => {
                "the address goes without TLS to port 443, which is usual with TLS; then it begins with rtmps://"
            }
        };
        Cow::Borrowed(fixed)
    }
}

/// Pairs of marks that come along when something is copied out of a page or a message.
const QUOTES: [(char, char); 7] =
    [('"', '"'), ('\'', '\''), ('`', '`'), ('“', '”'), ('‘', '’'), ('«', '»'), ('<', '>')];

/// Drops blanks and quotes around a pasted text, in any nesting, and notes what was dropped.
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

/// Adds a correction, unless it is listed already.
pub(crate) fn note(repairs: &mut Vec<Repair>, repair: Repair) {
    if !repairs.contains(&repair) {
        repairs.push(repair);
    }
}
