//! What was put right, or is worth a second look, in something pasted.

/// One repair, or one remark.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
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
    /// Remark: TLS on the port that is usual without.
    TlsOnPlainPort,
    /// Remark: no TLS on the port that is usual with it.
    PlainOnTlsPort,
}

impl Repair {
    /// The repair in words.
    #[must_use]
    pub fn sentence(self) -> &'static str {
        match self {
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
            Self::TlsOnPlainPort => {
                "remark: the address asks for TLS on port 1935, which is usual without TLS; with TLS it is 443"
            }
            Self::PlainOnTlsPort => {
                "remark: the address goes without TLS to port 443, which is usual with TLS; then it begins with rtmps://"
            }
        }
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

/// Each repair is told once.
pub(crate) fn note(repairs: &mut Vec<Repair>, repair: Repair) {
    if !repairs.contains(&repair) {
        repairs.push(repair);
    }
}
