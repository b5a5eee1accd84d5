//! FLV tag bodies (Adobe Flash Video File Format 10.1, E.4.2 and E.4.3), as RTMP messages carry them.
//!
//! A body is a list of pieces: small headers of our own, and the access unit's slices as they are. Nothing of
//! the payload is copied, and one body serves every push.

use bytes::{BufMut, Bytes, BytesMut};

use crate::stream::{AudioConfig, VideoConfig};
use crate::unit::{AccessUnit, Payload, Track};

/// `SoundFormat` 10 (AAC), 44 kHz, 16 bit, stereo: fixed for AAC whatever it really is (E.4.2.1).
const AAC_TAG: u8 = 0xaf;
/// `CodecID` 7: AVC.
const AVC_CODEC: u8 = 7;
const KEYFRAME: u8 = 1 << 4;
const INTER_FRAME: u8 = 2 << 4;
const SEQUENCE_HEADER: u8 = 0;
const MEDIA: u8 = 1;
const SEQUENCE_END: u8 = 2;

/// One tag body.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Body {
    /// The track it belongs to.
    pub track: Track,
    /// Its bytes, in order.
    pub pieces: Vec<Bytes>,
    /// The sum of the pieces' lengths.
    pub len: usize,
}

impl Body {
    fn new(track: Track, pieces: Vec<Bytes>) -> Self {
        let len = pieces.iter().map(Bytes::len).sum();
        Self { track, pieces, len }
    }

    /// The AVC sequence header for a video configuration.
    #[must_use]
    pub fn video_headers(config: &VideoConfig) -> Self {
        let head = Bytes::from_static(&[KEYFRAME | AVC_CODEC, SEQUENCE_HEADER, 0, 0, 0]);
        Self::new(Track::Video, vec![head, config.record()])
    }

    /// The AAC sequence header for an audio configuration.
    #[must_use]
    pub fn audio_headers(config: &AudioConfig) -> Self {
        let head = Bytes::from_static(&[AAC_TAG, SEQUENCE_HEADER]);
        Self::new(Track::Audio, vec![head, config.specific.clone()])
    }

    /// The end of a video sequence, sent before an orderly close.
    #[must_use]
    pub fn video_end() -> Self {
        let head = Bytes::from_static(&[KEYFRAME | AVC_CODEC, SEQUENCE_END, 0, 0, 0]);
        Self::new(Track::Video, vec![head])
    }

    /// The body for an access unit.
    #[must_use]
    pub fn of_unit(unit: &AccessUnit) -> Self {
        match &unit.payload {
            Payload::Nals(nals) => Self::of_picture(unit, nals),
            Payload::Frame(frame) => {
                Self::new(unit.track, vec![Bytes::from_static(&[AAC_TAG, MEDIA]), frame.clone()])
            }
        }
    }

    /// All the headers of one picture share one small allocation.
    fn of_picture(unit: &AccessUnit, nals: &[Bytes]) -> Self {
        let mut headers = BytesMut::with_capacity(5 + 4 * nals.len());
        headers.put_u8(if unit.keyframe { KEYFRAME } else { INTER_FRAME } | AVC_CODEC);
        headers.put_u8(MEDIA);
        // SI24; the range is far beyond any reorder depth, and what is beyond it is held at its edge.
        let composition = i32::try_from(unit.composition_ms().clamp(0, 0x7f_ffff)).unwrap_or_default();
        headers.put_int(i64::from(composition), 3);
        let mut pieces = Vec::with_capacity(2 * nals.len());
        for nal in nals {
            headers.put_u32(u32::try_from(nal.len()).unwrap_or(u32::MAX));
            pieces.push(headers.split().freeze());
            pieces.push(nal.clone());
        }
        if nals.is_empty() {
            pieces.push(headers.freeze());
        }
        Self::new(Track::Video, pieces)
    }
}

/// What a received tag body turned out to be.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Content {
    /// An `AVCDecoderConfigurationRecord`.
    VideoHeaders(Bytes),
    /// A picture: composition offset in milliseconds, keyframe flag, NAL units.
    Picture {
        /// Composition offset in milliseconds.
        composition_ms: i32,
        /// The keyframe bit of the tag.
        keyframe: bool,
        /// NAL units in decoding order.
        nals: Vec<Bytes>,
    },
    /// The end of the video sequence.
    VideoEnd,
    /// An `AudioSpecificConfig`.
    AudioHeaders(Bytes),
    /// One raw AAC frame.
    Sound(Bytes),
}

/// Why a received tag body was refused.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum BodyError {
    /// It ends inside a header or a NAL unit.
    #[error("tag body is cut short")]
    Short,
    /// The codec is not H.264 or AAC.
    #[error("tag codec {0} is not carried")]
    Codec(u8),
    /// The packet type is unknown.
    #[error("tag packet type {0} is unknown")]
    PacketType(u8),
}

/// Reads a video tag body. Shares `body`.
///
/// # Errors
/// [`BodyError`] when it is cut short or of another codec.
pub fn read_video(mut body: Bytes) -> Result<Content, BodyError> {
    let Some((&[tag, kind, c0, c1, c2], _)) = body.split_first_chunk::<5>() else {
        return Err(BodyError::Short);
    };
    if tag & 0x0f != AVC_CODEC || tag & 0x80 != 0 {
        return Err(BodyError::Codec(tag & 0x0f));
    }
    // Sign extension of SI24 by an arithmetic shift.
    let composition_ms = i32::from_be_bytes([c0, c1, c2, 0]) >> 8;
    let rest = body.split_off(5);
    match kind {
        SEQUENCE_HEADER => Ok(Content::VideoHeaders(rest)),
        MEDIA => Ok(Content::Picture {
            composition_ms,
            keyframe: tag & 0x70 == KEYFRAME,
            nals: split_length_prefixed(rest)?,
        }),
        SEQUENCE_END => Ok(Content::VideoEnd),
        other => Err(BodyError::PacketType(other)),
    }
}

/// Reads an audio tag body. Shares `body`.
///
/// # Errors
/// [`BodyError`] when it is cut short or of another codec.
pub fn read_audio(mut body: Bytes) -> Result<Content, BodyError> {
    let Some((&[tag, kind], _)) = body.split_first_chunk::<2>() else {
        return Err(BodyError::Short);
    };
    if tag >> 4 != AAC_TAG >> 4 {
        return Err(BodyError::Codec(tag >> 4));
    }
    let rest = body.split_off(2);
    match kind {
        SEQUENCE_HEADER => Ok(Content::AudioHeaders(rest)),
        MEDIA => Ok(Content::Sound(rest)),
        other => Err(BodyError::PacketType(other)),
    }
}

fn split_length_prefixed(mut data: Bytes) -> Result<Vec<Bytes>, BodyError> {
    let mut nals = Vec::new();
    while let Some((prefix, rest)) = data.split_first_chunk::<4>() {
        let length = usize::try_from(u32::from_be_bytes(*prefix)).map_err(|_| BodyError::Short)?;
        if length > rest.len() {
            return Err(BodyError::Short);
        }
        let mut tail = data.split_off(4);
        data = tail.split_off(length);
        nals.push(tail);
    }
    if data.is_empty() { Ok(nals) } else { Err(BodyError::Short) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn joined(body: &Body) -> Bytes {
        let joined = body.pieces.concat();
        assert_eq!(joined.len(), body.len);
        Bytes::from(joined)
    }

    fn picture(nals: Vec<Bytes>, keyframe: bool, offset: i64) -> AccessUnit {
        AccessUnit { track: Track::Video, dts: 0, pts: offset, keyframe, payload: Payload::Nals(nals) }
    }

    #[test]
    fn a_keyframe_is_tagged_as_one_and_its_units_get_lengths() {
        let body = Body::of_unit(&picture(vec![Bytes::from_static(&[0x65, 9])], true, 3_600));
        assert_eq!(joined(&body)[..], [0x17, 1, 0, 0, 40, 0, 0, 0, 2, 0x65, 9]);
    }

    #[test]
    fn payload_slices_are_shared_not_copied() {
        let nal = Bytes::from(vec![0x41; 1000]);
        let body = Body::of_unit(&picture(vec![nal.clone()], false, 0));
        assert_eq!(body.pieces[1].as_ptr(), nal.as_ptr());
    }

    #[test]
    fn sound_is_tagged_as_aac() {
        let unit = AccessUnit {
            track: Track::Audio,
            dts: 0,
            pts: 0,
            keyframe: true,
            payload: Payload::Frame(Bytes::from_static(&[1, 2])),
        };
        assert_eq!(joined(&Body::of_unit(&unit))[..], [0xaf, 1, 1, 2]);
    }

    #[test]
    fn enhanced_and_foreign_codecs_are_named() {
        assert_eq!(read_video(Bytes::from_static(&[0x12, 0, 0, 0, 0])), Err(BodyError::Codec(2)));
        assert_eq!(read_audio(Bytes::from_static(&[0x2f, 1])), Err(BodyError::Codec(2)));
        assert_eq!(read_video(Bytes::from_static(&[0x17, 9, 0, 0, 0])), Err(BodyError::PacketType(9)));
    }

    #[test]
    fn a_nal_unit_longer_than_the_body_is_refused() {
        let body = Bytes::from_static(&[0x17, 1, 0, 0, 0, 0, 0, 0, 9, 1]);
        assert_eq!(read_video(body), Err(BodyError::Short));
    }

    proptest! {
        #[test]
        fn pictures_survive_the_round_trip(
            nals in prop::collection::vec(prop::collection::vec(any::<u8>(), 1..40), 0..6),
            keyframe: bool,
            offset_ms in 0_i64..5_000,
        ) {
            let nals: Vec<Bytes> = nals.into_iter().map(Bytes::from).collect();
            let body = Body::of_unit(&picture(nals.clone(), keyframe, offset_ms * 90));
            let composition_ms = i32::try_from(offset_ms).unwrap();
            prop_assert_eq!(read_video(joined(&body)), Ok(Content::Picture { composition_ms, keyframe, nals }));
        }

        #[test]
        fn any_bytes_are_read_or_refused(data: Vec<u8>) {
            let _ = read_video(Bytes::from(data.clone()));
            let _ = read_audio(Bytes::from(data));
        }
    }
}
