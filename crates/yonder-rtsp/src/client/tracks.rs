//! Selection of tracks from a session description, and parsing of SETUP responses.

use std::net::IpAddr;
use std::time::Duration;

use base64::Engine as _;
use base64::alphabet;
use base64::engine::{DecodePaddingMode, GeneralPurpose, GeneralPurposeConfig};
use bytes::Bytes;
use yonder_media::Track;
use yonder_media::aac::{AudioSpecificConfig, StreamMux};
use yonder_media::g711::Law;

use crate::error::PullError;
use crate::rtp::{AacFormat, VideoFormat};
use crate::sdp::{Description, Media, resolve_control};

/// Codec of a track, with its parameters from the description.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Codec {
    /// H.264 or H.265 with the parameter sets of the description, if any.
    VideoUnit {
        /// Payload format.
        format: VideoFormat,
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
    /// AAC in LATM.
    Latm {
        /// `StreamMuxConfig` from the description, if present.
        mux: Option<StreamMux>,
        /// The configuration is in-band.
        in_band: bool,
    },
    /// G.711.
    G711 {
        /// Companding law.
        law: Law,
        /// Channels.
        channels: u8,
    },
}

/// Track that the camera offers.
#[derive(Debug, Clone, PartialEq)]
pub struct Offered {
    /// `video`, `audio`, `application` …
    pub kind: String,
    /// Encoding name, or its payload type where it has no name.
    pub encoding: String,
    /// Frame rate from the description.
    pub frame_rate: Option<f64>,
    /// The track is selected.
    pub carried: bool,
}

/// Source of the camera's datagrams (12.39).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct DatagramPeer {
    /// Ports for media and control.
    pub ports: (u16, u16),
    /// Address, if it differs from that of the RTSP connection.
    pub source: Option<IpAddr>,
}

/// Selected track.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ClientTrack {
    /// Video or audio.
    pub track: Track,
    /// Codec.
    pub codec: Codec,
    /// RTP clock rate in hertz.
    pub clock_rate: u32,
    /// RTP payload type; packets of others are ignored.
    pub payload_type: u8,
    /// URL for SETUP.
    pub(crate) control: String,
    /// Interleaved channels of RTP and RTCP.
    pub(super) channels: (u8, u8),
    /// Source of the datagrams, for UDP transport.
    pub peer: Option<DatagramPeer>,
}

/// Selects the first video track, which must be supported, and the first supported audio track.
pub(super) fn choose_tracks(description: &Description, base: &str) -> Result<Vec<ClientTrack>, PullError> {
    let mut pictures = description.media.iter().filter(|media| media.kind == "video").peekable();
    let first = pictures.peek().copied().ok_or(PullError::NoVideo)?;
    let (video, codec) = pictures
        .find_map(|media| Some((media, picture(media)?)))
        .ok_or_else(|| PullError::CodecUnsupported { codec: codec_name(first) })?;
    let mut tracks = vec![track(Track::Video, video, codec, base, (0, 1))];
    let audio = description.media.iter().filter(|media| media.kind == "audio");
    if let Some((media, codec)) = audio.filter_map(|media| Some((media, audio_codec(media)?))).next() {
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
        peer: None,
    }
}

/// Returns all media that the camera offers, with the selected ones marked.
pub(super) fn offered(description: &Description, base: &str, tracks: &[ClientTrack]) -> Vec<Offered> {
    let is_pulled = |media: &Media| {
        let control = resolve_control(base, media.control.as_deref());
        tracks.iter().any(|track| track.control == control && track.payload_type == media.payload_type)
    };
    description
        .media
        .iter()
        .map(|media| Offered {
            kind: media.kind.chars().take(32).collect(),
            encoding: codec_name(media),
            frame_rate: media.frame_rate,
            carried: is_pulled(media),
        })
        .collect()
}

fn codec_name(media: &Media) -> String {
    if media.encoding.is_empty() {
        format!("payload type {}", media.payload_type)
    } else {
        media.encoding.chars().take(32).collect()
    }
}

fn picture(media: &Media) -> Option<Codec> {
    match media.encoding.as_str() {
        "H264" => Some(Codec::VideoUnit {
            format: VideoFormat::H264,
            parameter_sets: parameter_sets(media, "sprop-parameter-sets"),
        }),
        // RFC 7798, 7.1
        "H265" | "HEVC" => {
            let number =
                |name| media.parameter(name).and_then(|value| value.parse::<u32>().ok()).unwrap_or(0);
            let order_numbers = number("sprop-max-don-diff") > 0;
            let names = ["sprop-vps", "sprop-sps", "sprop-pps"];
            let parameter_sets = names.into_iter().flat_map(|name| parameter_sets(media, name)).collect();
            Some(Codec::VideoUnit { format: VideoFormat::H265 { order_numbers }, parameter_sets })
        }
        _ => None,
    }
}

fn audio_codec(media: &Media) -> Option<Codec> {
    match media.encoding.as_str() {
        "MPEG4-GENERIC" => aac(media),
        "MP4A-LATM" => latm(media),
        "PCMA" => Some(Codec::G711 { law: Law::A, channels: media.channels }),
        "PCMU" => Some(Codec::G711 { law: Law::Mu, channels: media.channels }),
        _ => None,
    }
}

/// RFC 6416, 7.3: `config` in hexadecimal, or `cpresent` (default 1) and in-band.
fn latm(media: &Media) -> Option<Codec> {
    let in_band = media.parameter("cpresent").is_none_or(|value| value != "0");
    let mux = media.parameter("config").and_then(unhex).and_then(|config| StreamMux::parse(&config).ok());
    (in_band || mux.is_some()).then_some(Codec::Latm { mux, in_band })
}

/// Base64 with optional padding, which some firmware omits.
const LENIENT_BASE64: GeneralPurpose = GeneralPurpose::new(
    &alphabet::STANDARD,
    GeneralPurposeConfig::new()
        .with_decode_padding_mode(DecodePaddingMode::Indifferent)
        .with_decode_allow_trailing_bits(true),
);

/// RFC 6184, 8.1: comma-separated Base64. Trailing commas and invalid entries occur in practice and are ignored.
fn parameter_sets(media: &Media, name: &str) -> Vec<Bytes> {
    media
        .parameter(name)
        .unwrap_or_default()
        .split(',')
        .filter_map(|set| LENIENT_BASE64.decode(set.trim()).ok())
        .filter(|set| !set.is_empty())
        .map(Bytes::from)
        .collect()
}

/// RFC 3640, 4.1: configuration in hexadecimal, and field widths. If the configuration is missing or invalid, AAC-LC with the
/// clock rate and channels of the description is assumed.
fn aac(media: &Media) -> Option<Codec> {
    let described = media.parameter("config").and_then(unhex);
    let described = described.filter(|config| AudioSpecificConfig::parse(config).is_ok());
    let config = described.or_else(|| AudioSpecificConfig::lc(media.clock_rate, media.channels))?;
    let width = |name: &str, default: u32| {
        media.parameter(name).map_or(Some(default), |value| value.parse().ok().filter(|width| *width <= 32))
    };
    let defaults = AacFormat::default();
    let format = AacFormat {
        size_bits: width("sizelength", defaults.size_bits)?,
        index_bits: width("indexlength", defaults.index_bits)?,
        delta_bits: width("indexdeltalength", defaults.delta_bits)?,
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
        .map(|seconds| Duration::from_secs(seconds.min(86_400)));
    (id, timeout)
}

/// Returns the `interleaved` channels of a Transport reply (12.39).
pub(super) fn read_channels(transport: &str) -> Option<(u8, u8)> {
    let value = transport.split(';').map(str::trim).find_map(|part| part.strip_prefix("interleaved="))?;
    let (media, control) = value.split_once('-').unwrap_or((value, ""));
    let media: u8 = media.trim().parse().ok()?;
    Some((media, control.trim().parse().unwrap_or_else(|_| media.wrapping_add(1))))
}

/// Returns `server_port` and, where it differs, `source` of a Transport response (12.39).
pub(super) fn read_datagram_peer(transport: &str) -> Option<DatagramPeer> {
    let parameter = |name: &str| {
        let mut parts = transport.split(';').filter_map(|part| part.trim().split_once('='));
        parts
            .find(|(key, _)| key.trim().eq_ignore_ascii_case(name))
            .map(|(_, value)| value.trim().trim_matches('"'))
    };
    let ports = parameter("server_port")?;
    let (media, control) = ports.split_once('-').unwrap_or((ports, ""));
    let media: u16 = media.trim().parse().ok().filter(|port| *port != 0)?;
    let control = control.trim().parse().unwrap_or_else(|_| media.saturating_add(1));
    let source = parameter("source").and_then(|address| address.trim_matches(['[', ']']).parse().ok());
    Some(DatagramPeer { ports: (media, control), source })
}
