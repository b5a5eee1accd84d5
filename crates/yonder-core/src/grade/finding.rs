//! Findings: faults of a stream that a platform would report.

use std::time::Duration;

/// The picture or the sound.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Half {
    /// The picture.
    Picture,
    /// The sound.
    Sound,
}

impl Half {
    pub(super) fn other(self) -> Self {
        match self {
            Self::Picture => Self::Sound,
            Self::Sound => Self::Picture,
        }
    }

    fn word(self) -> &'static str {
        match self {
            Self::Picture => "picture",
            Self::Sound => "sound",
        }
    }
}

/// Fault of a stream that a platform would report.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum Finding {
    /// A picture came before its headers.
    NoHeaders,
    /// The first picture was no keyframe.
    FirstNotKeyframe,
    /// Time stepped back.
    TimeStepsBack(Half),
    /// Keyframes are too far apart, in milliseconds.
    KeyframesFarApart(u64),
    /// A hole in media time, in milliseconds.
    Gap(Half, u64),
    /// Offset between video and audio, in milliseconds.
    Skew(u64),
    /// Nothing came for so long.
    Stalled(Duration),
    /// Data that cannot be parsed.
    Unreadable(String),
    /// Nothing came at all.
    Empty,
}

impl Finding {
    /// The finding in words.
    #[must_use]
    pub fn sentence(&self) -> String {
        match self {
            Self::NoHeaders => "a picture came before its headers".to_owned(),
            Self::FirstNotKeyframe => "the first picture was no keyframe".to_owned(),
            Self::TimeStepsBack(half) => format!("the time of the {} stepped back", half.word()),
            Self::KeyframesFarApart(ms) => format!("keyframes are {ms} ms apart"),
            Self::Gap(half, ms) => format!("a hole of {ms} ms in the {}", half.word()),
            Self::Skew(ms) => format!("video and audio are {ms} ms apart"),
            Self::Stalled(span) => format!("nothing came for {} ms", span.as_millis()),
            Self::Unreadable(what) => format!("something cannot be read: {what}"),
            Self::Empty => "no picture came".to_owned(),
        }
    }
}
