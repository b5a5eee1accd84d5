//! Segments and initialization sections.

use std::sync::Arc;

use bytes::Bytes;

use crate::ticks::{TICKS_PER_SECOND, to_millis};

/// Initialization section (`EXT-X-MAP`), shared by the segments that it describes.
#[derive(Debug, PartialEq)]
pub struct InitSection {
    /// Number, unique among the sections of a packager.
    pub number: u64,
    /// `ftyp` and `moov`.
    pub bytes: Bytes,
    /// Codecs (RFC 6381), separated by a comma.
    pub codecs: String,
    /// Width in samples.
    pub width: u32,
    /// Height in samples.
    pub height: u32,
}

/// Media segment; it begins with a keyframe.
#[derive(Debug, Clone, PartialEq)]
pub struct Segment {
    /// Media sequence number.
    pub number: u64,
    /// Time of the first frame, in milliseconds since 1970.
    pub begins_ms: i64,
    /// Duration of the video, in ticks of 1/90 000 s.
    pub ticks: i64,
    /// Video frames.
    pub frames: u32,
    /// It does not continue the segment before it: the headers differ, or the video has a gap.
    pub is_discontinuous: bool,
    /// Its initialization section.
    pub init: Arc<InitSection>,
    /// `moof` and `mdat`, in pieces.
    pub pieces: Vec<Bytes>,
}

impl Segment {
    /// Returns the size in bytes.
    #[must_use]
    pub fn len(&self) -> usize {
        self.pieces.iter().map(Bytes::len).sum()
    }

    /// Returns true if the segment has no data.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Returns the duration in milliseconds.
    #[must_use]
    pub fn millis(&self) -> i64 {
        to_millis(self.ticks)
    }

    /// Returns the duration in seconds, rounded as for the comparison with the target duration (4.3.3.1).
    #[must_use]
    pub fn rounded_s(&self) -> u64 {
        u64::try_from((self.ticks + TICKS_PER_SECOND / 2) / TICKS_PER_SECOND).unwrap_or_default()
    }

    /// Returns the bit rate in bits per second (4.1).
    #[must_use]
    pub fn bit_rate(&self) -> u64 {
        bit_rate(self.len(), self.ticks)
    }
}

/// Returns the bit rate of `bytes` in `ticks`, in bits per second, rounded up.
pub(super) fn bit_rate(bytes: usize, ticks: i64) -> u64 {
    let bits = i64::try_from(bytes).unwrap_or(i64::MAX).saturating_mul(8);
    let rate = bits.saturating_mul(TICKS_PER_SECOND).saturating_add(ticks.max(1) - 1) / ticks.max(1);
    u64::try_from(rate).unwrap_or_default()
}
