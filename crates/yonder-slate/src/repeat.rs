//! Slate from the feed's last keyframe, for codecs and sizes that cannot be encoded here.

use std::sync::Arc;

use bytes::{Bytes, BytesMut};
use yonder_media::{Payload, TICKS_PER_SECOND, VideoCodec};

use yonder_media::Frame;

use crate::SlateError;
use crate::gop::{Silence, SlateFrame, SlateGop};

/// Maximum bit rate of repeated keyframes.
const MAX_BITS_PER_SECOND: i64 = 4_000_000;
/// Range of the repetition interval, in ticks.
const EVERY: (i64, i64) = (2 * TICKS_PER_SECOND / 5, 2 * TICKS_PER_SECOND);
/// `nal_unit_type` of H.265 (table 7-1): CRA, and BLA without leading pictures.
const CRA: u8 = 21;
const BLA_N_LP: u8 = 18;

/// Creates a GOP of one keyframe with the feed's own parameter sets.
///
/// # Errors
/// [`SlateError::NoPicture`] if the unit is not video.
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

/// Renames a CRA slice to BLA, which has the same syntax. The picture order count of a repeated CRA picture would have
/// to continue from the previous picture; that of a BLA picture restarts (ITU-T H.265, 7.4.2.2 and 8.1.3).
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
    fn cra_is_renamed_to_bla_and_others_are_unchanged() {
        assert_eq!(&restart(&Bytes::from_static(&[CRA << 1, 1, 9]))[..], [BLA_N_LP << 1, 1, 9]);
        let idr = Bytes::from_static(&[19 << 1, 1, 9]);
        assert_eq!(restart(&idr), idr);
    }
}
