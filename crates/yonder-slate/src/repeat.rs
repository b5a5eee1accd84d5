//! Slate made of the feed's own last keyframe, for codecs and sizes that cannot be encoded here.

use std::sync::Arc;

use bytes::{Bytes, BytesMut};
use yonder_media::{Payload, TICKS_PER_SECOND, VideoCodec};

use yonder_media::Frame;

use crate::SlateError;
use crate::gop::{Silence, SlateFrame, SlateGop};

/// A keyframe is large: it is repeated as often as keeps below this, in bits per second …
const MAX_BITS_PER_SECOND: i64 = 4_000_000;
/// … but within these times, in ticks.
const EVERY: (i64, i64) = (2 * TICKS_PER_SECOND / 5, 2 * TICKS_PER_SECOND);
/// `nal_unit_type` of H.265 (table 7-1): a clean random access picture, and a broken link without leading ones.
const CRA: u8 = 21;
const BLA_N_LP: u8 = 18;

/// Makes a GOP of one keyframe, in the feed's own parameter sets.
///
/// # Errors
/// [`SlateError::NoPicture`] when the unit is not video.
pub(crate) fn keyframe(entry: &Frame) -> Result<SlateGop, SlateError> {
    let Payload::Nals(nals) = &entry.unit.payload else { return Err(SlateError::NoPicture) };
    let codec = entry.headers.video.as_ref().map(yonder_media::VideoConfig::codec);
    let nals = match codec {
        Some(VideoCodec::H265) => nals.iter().map(restart).collect(),
        _ => nals.clone(),
    };
    let bits = i64::try_from(entry.unit.payload.len()).unwrap_or(MAX_BITS_PER_SECOND) * 8;
    let silence = entry.headers.audio.as_ref().and_then(Silence::of);
    Ok(SlateGop {
        headers: Arc::clone(&entry.headers),
        frames: vec![SlateFrame { payload: Payload::Nals(nals), keyframe: true }],
        frame_ticks: (bits * TICKS_PER_SECOND / MAX_BITS_PER_SECOND).clamp(EVERY.0, EVERY.1),
        silence,
    })
}

/// A clean random access picture counts on from the pictures before it, which here are not what it expects. Named a
/// broken link, whose slices have the same syntax, its count restarts (ITU-T H.265, 7.4.2.2 and 8.1.3).
fn restart(nal: &Bytes) -> Bytes {
    let Some(first) = nal.first().filter(|first| *first >> 1 & 0x3f == CRA) else { return nal.clone() };
    let mut named = BytesMut::from(&nal[..]);
    if let Some(byte) = named.first_mut() {
        *byte = first & 0x81 | BLA_N_LP << 1;
    }
    named.freeze()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_clean_random_access_picture_is_named_a_broken_link_and_others_stay() {
        assert_eq!(&restart(&Bytes::from_static(&[CRA << 1, 1, 9]))[..], [BLA_N_LP << 1, 1, 9]);
        let idr = Bytes::from_static(&[19 << 1, 1, 9]);
        assert_eq!(restart(&idr), idr);
    }
}
