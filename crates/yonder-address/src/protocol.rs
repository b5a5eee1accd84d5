//! Protocols of platforms.

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
