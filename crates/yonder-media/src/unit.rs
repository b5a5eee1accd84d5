//! Access unit: one video or audio frame on the feed's clock.

use std::sync::Arc;

use bytes::Bytes;

use crate::stream::StreamHeaders;

/// Track of a feed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Track {
    /// Video.
    Video,
    /// Audio.
    Audio,
}

/// One value for each track.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct PerTrack<T> {
    /// Value of the video track.
    pub video: T,
    /// Value of the audio track.
    pub audio: T,
}

impl<T> PerTrack<T> {
    /// Returns the value of `track`.
    #[must_use]
    pub fn get(&self, track: Track) -> &T {
        match track {
            Track::Video => &self.video,
            Track::Audio => &self.audio,
        }
    }

    /// Returns the value of `track` mutably.
    pub fn get_mut(&mut self, track: Track) -> &mut T {
        match track {
            Track::Video => &mut self.video,
            Track::Audio => &mut self.audio,
        }
    }
}

/// Payload of an access unit, as slices of received data.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Payload {
    /// NAL units in decoding order, without start codes or length prefixes.
    Nals(Vec<Bytes>),
    /// Raw audio frame, without a transport header.
    Frame(Bytes),
}

impl Payload {
    /// Returns the payload size without framing, in bytes.
    #[must_use]
    pub fn len(&self) -> usize {
        match self {
            Self::Nals(nals) => nals.iter().map(Bytes::len).sum(),
            Self::Frame(frame) => frame.len(),
        }
    }

    /// Returns true if the payload is empty.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }
}

/// Video or audio frame. Cloning shares the payload.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AccessUnit {
    /// Track.
    pub track: Track,
    /// Decoding time in ticks of 1/90 000 s, strictly rising per track.
    pub dts: i64,
    /// Presentation time in ticks of 1/90 000 s, at least `dts`.
    pub pts: i64,
    /// Decoding can start here (always true for audio).
    pub keyframe: bool,
    /// Payload.
    pub payload: Payload,
}

impl AccessUnit {
    /// Returns the composition offset in milliseconds (ISO/IEC 14496-12, 8.6.1.3), rounded.
    #[must_use]
    pub fn composition_ms(&self) -> i64 {
        ticks_to_ms(self.pts.saturating_sub(self.dts))
    }
}

/// Access unit with the stream headers that apply to it. Shared by all readers.
#[derive(Debug)]
pub struct Frame {
    /// The access unit.
    pub unit: AccessUnit,
    /// Stream headers.
    pub headers: Arc<StreamHeaders>,
}

impl Frame {
    /// Creates a frame.
    #[must_use]
    pub fn new(unit: AccessUnit, headers: Arc<StreamHeaders>) -> Self {
        Self { unit, headers }
    }

    /// Returns true for a video frame at which decoding can start.
    #[must_use]
    pub fn is_keyframe(&self) -> bool {
        self.unit.track == Track::Video && self.unit.keyframe
    }
}

/// Converts ticks to milliseconds, rounded.
#[must_use]
pub(crate) fn ticks_to_ms(ticks: i64) -> i64 {
    ticks.saturating_add(45).div_euclid(90)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn composition_time_is_rounded_to_the_nearest_millisecond() {
        let unit = |dts, pts| AccessUnit {
            track: Track::Video,
            dts,
            pts,
            keyframe: false,
            payload: Payload::Nals(Vec::new()),
        };
        assert_eq!(unit(0, 3_600).composition_ms(), 40);
        assert_eq!(unit(0, 3_003).composition_ms(), 33);
        assert_eq!(unit(10, 10).composition_ms(), 0);
        assert_eq!(unit(0, 45).composition_ms(), 1);
    }

    #[test]
    fn payload_length_counts_all_pieces() {
        let payload = Payload::Nals(vec![Bytes::from_static(b"abc"), Bytes::from_static(b"de")]);
        assert_eq!(payload.len(), 5);
        assert!(!payload.is_empty());
        assert!(Payload::Frame(Bytes::new()).is_empty());
    }
}
