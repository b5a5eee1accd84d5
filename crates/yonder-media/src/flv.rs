//! FLV tag bodies (Adobe Flash Video File Format 10.1, E.4.2 and E.4.3; Enhanced RTMP v1 for H.265), as RTMP
//! messages carry them.
//!
//! A body is a list of slices: small headers, and the slices of the access unit without a copy. All pushes share it.

use bytes::{BufMut, Bytes, BytesMut};
use smallvec::{SmallVec, smallvec};

use crate::g711::Law;
use crate::stream::{AudioConfig, StreamHeaders, VideoCodec, VideoConfig};
use crate::unit::{AccessUnit, Payload, Track};

/// `AudioFormat` 10 (AAC), 44 kHz, 16 bit, stereo: constant for AAC, whatever its real format (E.4.2.1).
const AAC_TAG: u8 = 0xaf;
/// `AudioFormat` 7 and 8 (G.711 A-law and µ-law), 16 bit, mono; the last bit means stereo.
const A_LAW_TAG: u8 = 0x72;
const MU_LAW_TAG: u8 = 0x82;
/// `IsExHeader`: a packet type and a `FourCC` follow (Enhanced RTMP v1, "Defining Additional Video Codecs").
const ENHANCED: u8 = 0x80;
const HEVC_FOUR_CC: &[u8; 4] = b"hvc1";
const AVC_FOUR_CC: &[u8; 4] = b"avc1";
const AAC_FOUR_CC: &[u8] = b"mp4a";
/// Number of H.265 in tags of publishers that predate Enhanced RTMP.
const HEVC_CODEC: u8 = 12;
/// Sound format of tags with a four-character code (Enhanced RTMP v2).
const ENHANCED_AUDIO: u8 = 9;
/// `PacketTypeCodedFramesX`: frames with a composition offset of zero, which is omitted.
const MEDIA_WITHOUT_OFFSET: u8 = 3;
/// `CodecID` 7: AVC.
const AVC_CODEC: u8 = 7;
const KEYFRAME: u8 = 1 << 4;
const INTER_FRAME: u8 = 2 << 4;
const SEQUENCE_HEADER: u8 = 0;
const MEDIA: u8 = 1;
const SEQUENCE_END: u8 = 2;

/// FLV tag body.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Body {
    /// Track.
    pub track: Track,
    /// Slices, in order.
    pub pieces: SmallVec<[Bytes; 4]>,
    /// Total length.
    pub len: usize,
}

impl Body {
    fn new(track: Track, pieces: SmallVec<[Bytes; 4]>) -> Self {
        let len = pieces.iter().map(Bytes::len).sum();
        Self { track, pieces, len }
    }

    /// Returns the sequence header for a video configuration.
    #[must_use]
    pub fn video_headers(config: &VideoConfig) -> Self {
        let head = match config.codec() {
            VideoCodec::H264 => Bytes::from_static(&[KEYFRAME | AVC_CODEC, SEQUENCE_HEADER, 0, 0, 0]),
            VideoCodec::H265 => enhanced_head(KEYFRAME | SEQUENCE_HEADER),
        };
        Self::new(Track::Video, smallvec![head, config.record()])
    }

    /// Returns the sequence header for an audio configuration; G.711 has none.
    #[must_use]
    pub fn audio_headers(config: &AudioConfig) -> Option<Self> {
        let AudioConfig::Aac { specific, .. } = config else { return None };
        let head = Bytes::from_static(&[AAC_TAG, SEQUENCE_HEADER]);
        Some(Self::new(Track::Audio, smallvec![head, specific.clone()]))
    }

    /// Returns the end of a video sequence, sent before an orderly close.
    #[must_use]
    pub fn video_end(codec: VideoCodec) -> Self {
        let head = match codec {
            VideoCodec::H264 => Bytes::from_static(&[KEYFRAME | AVC_CODEC, SEQUENCE_END, 0, 0, 0]),
            VideoCodec::H265 => enhanced_head(KEYFRAME | SEQUENCE_END),
        };
        Self::new(Track::Video, smallvec![head])
    }

    /// Returns the body for an access unit of a stream with these headers.
    #[must_use]
    pub fn of_unit(unit: &AccessUnit, headers: &StreamHeaders) -> Self {
        match &unit.payload {
            Payload::Nals(nals) => {
                let codec = headers.video.as_ref().map_or(VideoCodec::H264, VideoConfig::codec);
                Self::of_picture(unit, nals, codec)
            }
            Payload::Frame(frame) => {
                let head = match headers.audio {
                    Some(AudioConfig::G711 { law, channels, .. }) => g711_head(law, channels),
                    _ => Bytes::from_static(&[AAC_TAG, MEDIA]),
                };
                Self::new(unit.track, smallvec![head, frame.clone()])
            }
        }
    }

    /// All headers of a frame share one small allocation.
    fn of_picture(unit: &AccessUnit, nals: &[Bytes], codec: VideoCodec) -> Self {
        let mut headers = BytesMut::with_capacity(8 + 4 * nals.len());
        let frame = if unit.keyframe { KEYFRAME } else { INTER_FRAME };
        // SI24: the range is far beyond any reorder depth; larger offsets are clamped.
        let composition = i32::try_from(unit.composition_ms().clamp(0, 0x7f_ffff)).unwrap_or_default();
        match codec {
            VideoCodec::H264 => headers.put_slice(&[frame | AVC_CODEC, MEDIA]),
            VideoCodec::H265 => {
                let kind = if composition == 0 { MEDIA_WITHOUT_OFFSET } else { MEDIA };
                headers.put_u8(ENHANCED | frame | kind);
                headers.put_slice(HEVC_FOUR_CC);
            }
        }
        if codec == VideoCodec::H264 || composition != 0 {
            headers.put_int(i64::from(composition), 3);
        }
        let mut pieces = SmallVec::with_capacity(2 * nals.len());
        for nal in nals.iter().filter(|nal| codec.is_in_sample(nal)) {
            headers.put_u32(u32::try_from(nal.len()).unwrap_or(u32::MAX));
            pieces.push(headers.split().freeze());
            pieces.push(nal.clone());
        }
        if pieces.is_empty() {
            pieces.push(headers.freeze());
        }
        Self::new(Track::Video, pieces)
    }
}

fn enhanced_head(frame_and_kind: u8) -> Bytes {
    let mut head = BytesMut::with_capacity(5);
    head.put_u8(ENHANCED | frame_and_kind);
    head.put_slice(HEVC_FOUR_CC);
    head.freeze()
}

fn g711_head(law: Law, channels: u8) -> Bytes {
    match (law, channels > 1) {
        (Law::A, false) => Bytes::from_static(&[A_LAW_TAG]),
        (Law::A, true) => Bytes::from_static(&[A_LAW_TAG | 1]),
        (Law::Mu, false) => Bytes::from_static(&[MU_LAW_TAG]),
        (Law::Mu, true) => Bytes::from_static(&[MU_LAW_TAG | 1]),
    }
}

/// Content of a received tag body.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Content {
    /// A decoder configuration record.
    VideoHeaders {
        /// Codec.
        codec: VideoCodec,
        /// The record.
        record: Bytes,
    },
    /// Frame: composition offset, keyframe flag and NAL units.
    VideoFrame {
        /// Composition offset in milliseconds.
        composition_ms: i32,
        /// Keyframe bit of the tag.
        keyframe: bool,
        /// NAL units in decoding order.
        nals: Vec<Bytes>,
    },
    /// End of the video sequence.
    VideoEnd,
    /// An `AudioSpecificConfig`.
    AudioHeaders(Bytes),
    /// Raw AAC frame.
    AudioFrame(Bytes),
    /// G.711 samples.
    G711 {
        /// Law.
        law: Law,
        /// Samples, one byte each.
        samples: Bytes,
    },
}

/// Error in a received tag body.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum BodyError {
    /// Truncated in a header or a NAL unit.
    #[error("tag body is cut short")]
    Short,
    /// Unsupported codec.
    #[error("tag codec {0} is not supported")]
    Codec(u8),
    /// Unsupported codec, by its four-character code.
    #[error("codec {} is not supported", .0.escape_ascii())]
    FourCc([u8; 4]),
    /// Unknown packet type.
    #[error("tag packet type {0} is unknown")]
    PacketType(u8),
}

/// Parses a video tag body whose NAL units have length fields of four bytes. Shares `body`.
///
/// # Errors
/// [`BodyError`] if it is truncated or has another codec.
pub fn read_video(body: Bytes) -> Result<Content, BodyError> {
    read_video_with(body, 4)
}

/// Parses a video tag body whose NAL units have length fields of `length_size` bytes, as the decoder configuration record
/// says (ISO/IEC 14496-15, 5.3.3.1). Shares `body`.
///
/// # Errors
/// [`BodyError`] if it is truncated or has another codec.
pub fn read_video_with(mut body: Bytes, length_size: usize) -> Result<Content, BodyError> {
    let Some((&[tag, b1, b2, b3, b4], _)) = body.split_first_chunk::<5>() else {
        return Err(BodyError::Short);
    };
    let keyframe = tag & 0x70 == KEYFRAME;
    let rest = body.split_off(5);
    if tag & ENHANCED != 0 {
        let codec = match &[b1, b2, b3, b4] {
            HEVC_FOUR_CC => VideoCodec::H265,
            AVC_FOUR_CC => VideoCodec::H264,
            _ => return Err(BodyError::FourCc([b1, b2, b3, b4])),
        };
        return read_enhanced(tag & 0x0f, codec, keyframe, rest, length_size);
    }
    let codec = match tag & 0x0f {
        AVC_CODEC => VideoCodec::H264,
        HEVC_CODEC => VideoCodec::H265,
        other => return Err(BodyError::Codec(other)),
    };
    match b1 {
        SEQUENCE_HEADER => Ok(Content::VideoHeaders { codec, record: rest }),
        MEDIA => picture([b2, b3, b4], keyframe, rest, length_size),
        SEQUENCE_END => Ok(Content::VideoEnd),
        other => Err(BodyError::PacketType(other)),
    }
}

fn read_enhanced(
    kind: u8,
    codec: VideoCodec,
    keyframe: bool,
    mut rest: Bytes,
    length_size: usize,
) -> Result<Content, BodyError> {
    match kind {
        SEQUENCE_HEADER => Ok(Content::VideoHeaders { codec, record: rest }),
        MEDIA => {
            let Some((offset, _)) = rest.split_first_chunk::<3>() else { return Err(BodyError::Short) };
            let offset = *offset;
            picture(offset, keyframe, rest.split_off(3), length_size)
        }
        MEDIA_WITHOUT_OFFSET => picture([0; 3], keyframe, rest, length_size),
        SEQUENCE_END => Ok(Content::VideoEnd),
        other => Err(BodyError::PacketType(other)),
    }
}

fn picture(
    [c0, c1, c2]: [u8; 3],
    keyframe: bool,
    data: Bytes,
    length_size: usize,
) -> Result<Content, BodyError> {
    // Sign extension of SI24 by an arithmetic shift.
    let composition_ms = i32::from_be_bytes([c0, c1, c2, 0]) >> 8;
    Ok(Content::VideoFrame { composition_ms, keyframe, nals: split_length_prefixed(data, length_size)? })
}

/// Parses an audio tag body. Shares `body`.
///
/// # Errors
/// [`BodyError`] if it is truncated or has another codec.
pub fn read_audio(mut body: Bytes) -> Result<Content, BodyError> {
    let &tag = body.first().ok_or(BodyError::Short)?;
    let law = match tag >> 4 {
        7 => Some(Law::A),
        8 => Some(Law::Mu),
        _ => None,
    };
    if let Some(law) = law {
        return Ok(Content::G711 { law, samples: body.split_off(1) });
    }
    let (kind, header) = match tag >> 4 {
        format if format == AAC_TAG >> 4 => (*body.get(1).ok_or(BodyError::Short)?, 2),
        ENHANCED_AUDIO => match body.get(1..5).ok_or(BodyError::Short)? {
            code if code == AAC_FOUR_CC => (tag & 0x0f, 5),
            code => return Err(BodyError::FourCc(code.try_into().map_err(|_| BodyError::Short)?)),
        },
        other => return Err(BodyError::Codec(other)),
    };
    let rest = body.split_off(header);
    match kind {
        SEQUENCE_HEADER => Ok(Content::AudioHeaders(rest)),
        MEDIA => Ok(Content::AudioFrame(rest)),
        other => Err(BodyError::PacketType(other)),
    }
}

fn split_length_prefixed(mut data: Bytes, length_size: usize) -> Result<Vec<Bytes>, BodyError> {
    let mut nals = Vec::new();
    while let Some((prefix, rest)) = data.split_at_checked(length_size).filter(|_| !data.is_empty()) {
        let length = prefix.iter().fold(0_usize, |length, byte| length << 8 | usize::from(*byte));
        if length > rest.len() {
            return Err(BodyError::Short);
        }
        let mut tail = data.split_off(length_size);
        data = tail.split_off(length);
        nals.push(tail);
    }
    if data.is_empty() { Ok(nals) } else { Err(BodyError::Short) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::h265;
    use crate::h265::sps::tests::{SAMPLE_MAIN_1080P, SAMPLE_PPS, SAMPLE_VPS};
    use proptest::prelude::*;

    fn joined(body: &Body) -> Bytes {
        let joined = body.pieces.concat();
        assert_eq!(joined.len(), body.len);
        Bytes::from(joined)
    }

    fn picture(nals: Vec<Bytes>, keyframe: bool, offset: i64) -> AccessUnit {
        AccessUnit { track: Track::Video, dts: 0, pts: offset, keyframe, payload: Payload::Nals(nals) }
    }

    fn h264() -> StreamHeaders {
        StreamHeaders::default()
    }

    fn h265() -> StreamHeaders {
        let mut sets = h265::ParameterSets::default();
        for nal in [SAMPLE_VPS, SAMPLE_MAIN_1080P, SAMPLE_PPS] {
            sets.take(&Bytes::from_static(nal));
        }
        StreamHeaders { video: sets.config().map(VideoConfig::H265), audio: None }
    }

    #[test]
    fn h265_is_tagged_by_its_four_character_code() {
        let headers = h265();
        let body = Body::video_headers(headers.video.as_ref().unwrap());
        assert_eq!(joined(&body)[..6], [0x90, b'h', b'v', b'c', b'1', 1]);
        let nal = Bytes::from_static(&[0x26, 1]);
        let body = Body::of_unit(&picture(vec![nal.clone()], true, 0), &headers);
        assert_eq!(joined(&body)[..], [0x93, b'h', b'v', b'c', b'1', 0, 0, 0, 2, 0x26, 1]);
        let body = Body::of_unit(&picture(vec![nal], false, 3_600), &headers);
        assert_eq!(joined(&body)[..8], [0xa1, b'h', b'v', b'c', b'1', 0, 0, 40]);
        assert_eq!(read_video(joined(&Body::video_end(VideoCodec::H265))), Ok(Content::VideoEnd));
    }

    #[test]
    fn parameter_sets_delimiters_and_filler_are_left_out_of_samples() {
        let h264_nals: [&'static [u8]; 6] =
            [&[9, 0xf0], &[0x67, 1], &[0x68, 1], &[6, 5], &[0x65, 1], &[12, 0xff]];
        let h265_nals: [&'static [u8]; 6] =
            [&[0x46, 1, 0x50], &[0x40, 1], &[0x42, 1], &[0x4e, 1, 5], &[0x26, 1, 9], &[38 << 1, 1, 0xff]];
        for (headers, nals) in [(h264(), h264_nals), (h265(), h265_nals)] {
            let nals = nals.map(Bytes::from_static);
            let body = Body::of_unit(&picture(nals.to_vec(), true, 0), &headers);
            let Ok(Content::VideoFrame { nals: read, .. }) = read_video(joined(&body)) else {
                panic!("no picture")
            };
            assert_eq!(read, nals[3..5]);
        }
    }

    #[test]
    fn g711_goes_without_headers_under_its_own_tag() {
        let config = AudioConfig::G711 { law: Law::Mu, sample_rate: 8_000, channels: 1 };
        assert_eq!(Body::audio_headers(&config), None);
        let samples = Bytes::from_static(&[0xff; 4]);
        let payload = Payload::Frame(samples.clone());
        let unit = AccessUnit { track: Track::Audio, dts: 0, pts: 0, keyframe: true, payload };
        let body = Body::of_unit(&unit, &StreamHeaders { video: None, audio: Some(config) });
        assert_eq!(joined(&body)[0], 0x82);
        assert_eq!(read_audio(joined(&body)), Ok(Content::G711 { law: Law::Mu, samples }));
    }

    #[test]
    fn a_keyframe_is_tagged_as_one_and_its_units_get_lengths() {
        let body = Body::of_unit(&picture(vec![Bytes::from_static(&[0x65, 9])], true, 3_600), &h264());
        assert_eq!(joined(&body)[..], [0x17, 1, 0, 0, 40, 0, 0, 0, 2, 0x65, 9]);
    }

    #[test]
    fn payload_slices_are_shared_not_copied() {
        let nal = Bytes::from(vec![0x41; 1000]);
        let body = Body::of_unit(&picture(vec![nal.clone()], false, 0), &h264());
        assert_eq!(body.pieces[1].as_ptr(), nal.as_ptr());
    }

    #[test]
    fn tags_of_other_publishers_are_read() {
        let frame = |nals: &[&'static [u8]]| Content::VideoFrame {
            composition_ms: 0,
            keyframe: true,
            nals: nals.iter().map(|nal| Bytes::from_static(nal)).collect(),
        };
        // H.265 under the number 12, and H.264 under its four-character code.
        let legacy = Bytes::from_static(&[0x1c, 1, 0, 0, 0, 0, 0, 0, 2, 0x26, 1]);
        assert_eq!(read_video(legacy), Ok(frame(&[&[0x26, 1]])));
        let coded = Bytes::from_static(&[0x93, b'a', b'v', b'c', b'1', 0, 0, 0, 1, 0x65]);
        assert_eq!(read_video(coded), Ok(frame(&[&[0x65]])));
        // Length fields of two bytes.
        let short = Bytes::from_static(&[0x17, 1, 0, 0, 0, 0, 1, 0x65, 0, 2, 0x65, 9]);
        assert_eq!(read_video_with(short, 2), Ok(frame(&[&[0x65], &[0x65, 9]])));
        let audio = Bytes::from_static(&[0x91, b'm', b'p', b'4', b'a', 7, 8]);
        assert_eq!(read_audio(audio), Ok(Content::AudioFrame(Bytes::from_static(&[7, 8]))));
        let opus = Bytes::from_static(&[0x91, b'O', b'p', b'u', b's', 7]);
        assert_eq!(read_audio(opus).unwrap_err().to_string(), "codec Opus is not supported");
    }

    #[test]
    fn audio_is_tagged_as_aac() {
        let unit = AccessUnit {
            track: Track::Audio,
            dts: 0,
            pts: 0,
            keyframe: true,
            payload: Payload::Frame(Bytes::from_static(&[1, 2])),
        };
        assert_eq!(joined(&Body::of_unit(&unit, &h264()))[..], [0xaf, 1, 1, 2]);
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
            offset_ms in prop_oneof![Just(0_i64), 0_i64..5_000],
        ) {
            let nals: Vec<Bytes> = nals.into_iter().map(Bytes::from).collect();
            let composition_ms = i32::try_from(offset_ms).unwrap();
            for headers in [h264(), h265()] {
                let body = Body::of_unit(&picture(nals.clone(), keyframe, offset_ms * 90), &headers);
                let codec = headers.video.as_ref().map_or(VideoCodec::H264, VideoConfig::codec);
                let mut nals = nals.clone();
                nals.retain(|nal| codec.is_in_sample(nal));
                let expected = Content::VideoFrame { composition_ms, keyframe, nals };
                prop_assert_eq!(read_video(joined(&body)), Ok(expected));
            }
        }

        #[test]
        fn any_bytes_are_parsed_or_refused(data: Vec<u8>) {
            let _ = read_video(Bytes::from(data.clone()));
            let _ = read_audio(Bytes::from(data));
        }
    }
}
