//! Which tracks of a description are pulled, and how SETUP's answers are read.

use std::time::Duration;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use bytes::Bytes;
use yonder_media::Track;

use crate::error::PullError;
use crate::rtp::AacFormat;
use crate::sdp::{Description, Media, resolve_control};

/// Codec of a track, with what the description says about it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Codec {
    /// H.264 with the parameter sets of `sprop-parameter-sets`, possibly none.
    H264 {
        /// Parameter sets as NAL units.
        parameter_sets: Vec<Bytes>,
    },
    /// AAC in the AAC-hbr mode.
    Aac {
        /// `AudioSpecificConfig`.
        config: Bytes,
        /// Field widths.
        format: AacFormat,
    },
}

/// A track that is pulled.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ClientTrack {
    /// Picture or sound.
    pub track: Track,
    /// Codec.
    pub codec: Codec,
    /// RTP ticks per second.
    pub clock_rate: u32,
    /// RTP payload type; packets of others are left alone.
    pub payload_type: u8,
    /// Address for SETUP.
    pub(crate) control: String,
    /// Interleaved channels for media and control.
    pub(super) channels: (u8, u8),
}

/// The first picture, which must be carried, and the first sound that can be.
pub(super) fn choose_tracks(description: &Description, base: &str) -> Result<Vec<ClientTrack>, PullError> {
    let mut pictures = description.media.iter().filter(|media| media.kind == "video").peekable();
    let first = pictures.peek().copied().ok_or(PullError::NoVideo)?;
    let video = pictures
        .find(|media| media.encoding == "H264")
        .ok_or_else(|| PullError::CodecUnsupported { codec: codec_name(first) })?;
    let mut tracks =
        vec![track(Track::Video, video, Codec::H264 { parameter_sets: parameter_sets(video) }, base, (0, 1))];
    let sound = description.media.iter().filter(|media| media.kind == "audio");
    if let Some((media, codec)) = sound.filter_map(|media| Some((media, aac(media)?))).next() {
        tracks.push(track(Track::Audio, media, codec, base, (2, 3)));
    }
    Ok(tracks)
}

fn track(track: Track, media: &Media, codec: Codec, base: &str, channels: (u8, u8)) -> ClientTrack {
    ClientTrack {
        track,
        codec,
        clock_rate: media.clock_rate,
        payload_type: media.payload_type,
        control: resolve_control(base, media.control.as_deref()),
        channels,
    }
}

fn codec_name(media: &Media) -> String {
    if media.encoding.is_empty() {
        format!("payload type {}", media.payload_type)
    } else {
        media.encoding.chars().take(32).collect()
    }
}

/// RFC 6184, 8.1: comma-separated Base64. Firmware leaves trailing commas and broken entries behind.
fn parameter_sets(media: &Media) -> Vec<Bytes> {
    media
        .parameter("sprop-parameter-sets")
        .unwrap_or_default()
        .split(',')
        .filter_map(|set| STANDARD.decode(set.trim()).ok())
        .filter(|set| !set.is_empty())
        .map(Bytes::from)
        .collect()
}

/// RFC 3640, 4.1: the configuration in hexadecimal, and the field widths.
fn aac(media: &Media) -> Option<Codec> {
    if media.encoding != "MPEG4-GENERIC" {
        return None;
    }
    let config = unhex(media.parameter("config")?)?;
    let width = |name: &str, default: u32| {
        media.parameter(name).map_or(Some(default), |value| value.parse().ok().filter(|width| *width <= 32))
    };
    let usual = AacFormat::default();
    let format = AacFormat {
        size_bits: width("sizelength", usual.size_bits)?,
        index_bits: width("indexlength", usual.index_bits)?,
        delta_bits: width("indexdeltalength", usual.delta_bits)?,
    };
    Some(Codec::Aac { config, format })
}

fn unhex(text: &str) -> Option<Bytes> {
    let digits: Option<Vec<u8>> = text
        .trim()
        .trim_matches('"')
        .chars()
        .map(|digit| digit.to_digit(16).and_then(|digit| u8::try_from(digit).ok()))
        .collect();
    let bytes: Vec<u8> =
        digits?.chunks_exact(2).map(|pair| pair.iter().fold(0, |byte, digit| byte << 4 | digit)).collect();
    if bytes.is_empty() { None } else { Some(Bytes::from(bytes)) }
}

/// `Session: <id>[;timeout=<seconds>]` (12.37).
pub(super) fn read_session(value: &str) -> (String, Option<Duration>) {
    let mut parts = value.split(';').map(str::trim);
    let id = parts.next().unwrap_or_default().to_owned();
    let timeout = parts
        .filter_map(|part| part.split_once('='))
        .find(|(name, _)| name.trim().eq_ignore_ascii_case("timeout"))
        .and_then(|(_, seconds)| seconds.trim().parse::<u64>().ok())
        .filter(|seconds| *seconds > 0)
        // A keep-alive more often than every five seconds is a firmware's slip.
        .map(|seconds| Duration::from_secs(seconds.clamp(10, 86_400)));
    (id, timeout)
}

/// The `interleaved` channels of a Transport reply (12.39).
pub(super) fn read_channels(transport: &str) -> Option<(u8, u8)> {
    let value = transport.split(';').map(str::trim).find_map(|part| part.strip_prefix("interleaved="))?;
    let (media, control) = value.split_once('-').unwrap_or((value, ""));
    let media: u8 = media.trim().parse().ok()?;
    Some((media, control.trim().parse().unwrap_or_else(|_| media.wrapping_add(1))))
}
