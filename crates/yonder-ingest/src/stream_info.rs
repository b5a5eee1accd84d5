//! Parameters of a received stream, by its headers.

use yonder_core::grade::{AudioHeaders, VideoHeaders};
use yonder_media::{AudioConfig, ParameterSets, VideoCodec, VideoConfig};

/// Returns the video parameters of a decoder configuration record.
pub(crate) fn of_record(codec: VideoCodec, record: &[u8]) -> Option<VideoHeaders> {
    let mut sets = ParameterSets::new(codec);
    for nal in nals_of_record(codec, record) {
        sets.take(&bytes::Bytes::copy_from_slice(nal));
    }
    sets.config().as_ref().map(of_video)
}

/// Returns the video parameters of a configuration.
pub(crate) fn of_video(config: &VideoConfig) -> VideoHeaders {
    let facts = config.facts();
    VideoHeaders {
        codec: facts.codec.name(),
        profile: facts.profile,
        width: facts.width,
        height: facts.height,
    }
}

/// Returns the audio parameters of a configuration.
pub(crate) fn of_audio(config: &AudioConfig) -> AudioHeaders {
    AudioHeaders { codec: config.codec_name(), rate_hz: config.sample_rate(), channels: config.channels() }
}

/// Returns the parameter sets of a record, as far as they can be parsed (ISO/IEC 14496-15, 5.3.3.1 and 8.3.3.1).
pub(crate) fn nals_of_record(codec: VideoCodec, record: &[u8]) -> Vec<&[u8]> {
    let mut nals = Vec::new();
    match codec {
        VideoCodec::H264 => {
            let Some((&count, mut rest)) = record.get(5..).and_then(<[u8]>::split_first) else { return nals };
            for _ in 0..count & 0x1f {
                let Some((nal, after)) = sized(rest) else { return nals };
                nals.push(nal);
                rest = after;
            }
            let Some((&count, mut rest)) = rest.split_first() else { return nals };
            for _ in 0..count {
                let Some((nal, after)) = sized(rest) else { return nals };
                nals.push(nal);
                rest = after;
            }
        }
        VideoCodec::H265 => {
            let mut rest = record.get(23..).unwrap_or_default();
            while let Some((&[_, high, low], sets)) = rest.split_first_chunk::<3>() {
                rest = sets;
                for _ in 0..u16::from_be_bytes([high, low]) {
                    let Some((nal, after)) = sized(rest) else { return nals };
                    nals.push(nal);
                    rest = after;
                }
            }
        }
    }
    nals
}

/// Returns the size of the length fields of NAL units, in bytes, as a record says (`lengthSizeMinusOne`).
pub(crate) fn length_size(codec: VideoCodec, record: &[u8]) -> usize {
    let at = match codec {
        VideoCodec::H264 => 4,
        VideoCodec::H265 => 21,
    };
    record.get(at).map_or(4, |byte| usize::from(byte & 3) + 1)
}

/// Splits off a NAL unit with a 16-bit length.
fn sized(data: &[u8]) -> Option<(&[u8], &[u8])> {
    let (length, rest) = data.split_first_chunk::<2>()?;
    rest.split_at_checked(usize::from(u16::from_be_bytes(*length)))
}
