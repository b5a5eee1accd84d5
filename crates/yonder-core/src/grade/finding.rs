//! Findings: faults of a stream that a platform would report.

use std::time::Duration;

/// Kind of media.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MediaKind {
    /// Video.
    Video,
    /// Audio.
    Audio,
}

impl MediaKind {
    pub(super) fn other(self) -> Self {
        match self {
            Self::Video => Self::Audio,
            Self::Audio => Self::Video,
        }
    }

    fn as_str(self) -> &'static str {
        match self {
            Self::Video => "video",
            Self::Audio => "audio",
        }
    }
}

/// Fault of a stream that a platform would report.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum Finding {
    /// A frame before its headers.
    NoHeaders,
    /// The first frame is not a keyframe.
    FirstNotKeyframe,
    /// Decoding time steps back.
    TimeStepsBack(MediaKind),
    /// Keyframes are too far apart, in milliseconds.
    KeyframesFarApart(u64),
    /// Gap in media time, in milliseconds.
    Gap(MediaKind, u64),
    /// Offset between video and audio, in milliseconds.
    Skew(u64),
    /// No data for this long.
    Stalled(Duration),
    /// Data that cannot be parsed.
    Unreadable(String),
    /// No data at all.
    Empty,
}

impl Finding {
    /// Returns the finding as a sentence.
    #[must_use]
    pub fn sentence(&self) -> String {
        match self {
            Self::NoHeaders => "a frame arrived before its headers".to_owned(),
            Self::FirstNotKeyframe => "the first frame was not a keyframe".to_owned(),
            Self::TimeStepsBack(kind) => format!("{} time stepped back", kind.as_str()),
            Self::KeyframesFarApart(ms) => format!("keyframes are {ms} ms apart"),
            Self::Gap(kind, ms) => format!("a gap of {ms} ms in the {}", kind.as_str()),
            Self::Skew(ms) => format!("video and audio are {ms} ms apart"),
            Self::Stalled(span) => format!("no data for {} ms", span.as_millis()),
            Self::Unreadable(what) => format!("unreadable data: {what}"),
            Self::Empty => "no video arrived".to_owned(),
        }
    }
}
