//! Stream headers, which a receiver needs before the first access unit.

use bytes::Bytes;

use crate::aac::AudioSpecificConfig;
use crate::g711::Law;
use crate::ticks::FrameRate;
use crate::{h264, h265};

/// `nal_unit_type` of filler data (table 7-1 of both standards).
const FILLER_H264: u8 = 12;
const FILLER_H265: u8 = 38;

/// Video codec.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum VideoCodec {
    /// ITU-T H.264.
    H264,
    /// ITU-T H.265.
    H265,
}

impl VideoCodec {
    /// Returns the display name.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::H264 => "H.264",
            Self::H265 => "H.265",
        }
    }

    /// Returns true for NAL units that belong in samples of the types `avc1` and `hvc1` (ISO/IEC 14496-15, 5.3.2 and 8.3.2):
    /// parameter sets are in the configuration record, and access unit delimiters and filler data are left out.
    #[must_use]
    pub fn is_in_sample(self, nal: &[u8]) -> bool {
        use crate::{h264::NalKind as H264, h265::NalKind as H265};
        match self {
            Self::H264 => !matches!(
                h264::kind_of(nal),
                H264::Sps | H264::Pps | H264::Delimiter | H264::Other(FILLER_H264)
            ),
            Self::H265 => !matches!(
                h265::kind_of(nal),
                H265::Vps | H265::Sps | H265::Pps | H265::Delimiter | H265::Other(FILLER_H265)
            ),
        }
    }

    /// Returns true if decoding can start at an access unit with these NAL units.
    #[must_use]
    pub fn is_random_access(self, nals: &[Bytes]) -> bool {
        let nals = nals.iter().map(|nal| &nal[..]);
        match self {
            Self::H264 => h264::is_random_access(nals),
            Self::H265 => h265::is_random_access(nals),
        }
    }
}

/// Video parameters, the same for every codec.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct VideoProperties {
    /// Codec.
    pub codec: VideoCodec,
    /// Profile name.
    pub profile: &'static str,
    /// Tier, if the codec has tiers.
    pub tier: Option<h265::Tier>,
    /// Level as usually written, such as 4.1.
    pub level: f64,
    /// Width in samples, after cropping.
    pub width: u32,
    /// Height in samples, after cropping.
    pub height: u32,
    /// Frames per second as numerator and denominator, if declared.
    pub frame_rate: Option<FrameRate>,
    /// Maximum number of frames that precede a frame in decoding order and follow it in output order, if declared.
    pub reorder_frames: Option<u8>,
    /// Bits per luma sample.
    pub luma_bits: u8,
}

/// Configuration of a video track.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum VideoConfig {
    /// H.264.
    H264(h264::Config),
    /// H.265.
    H265(h265::Config),
}

impl VideoConfig {
    /// Returns the codec.
    #[must_use]
    pub fn codec(&self) -> VideoCodec {
        match self {
            Self::H264(_) => VideoCodec::H264,
            Self::H265(_) => VideoCodec::H265,
        }
    }

    /// Returns the video parameters.
    #[must_use]
    pub fn facts(&self) -> VideoProperties {
        match self {
            Self::H264(config) => VideoProperties {
                codec: VideoCodec::H264,
                profile: config.facts.profile_name(),
                tier: None,
                level: f64::from(config.facts.level) / 10.0,
                width: config.facts.width,
                height: config.facts.height,
                frame_rate: config.facts.frame_rate,
                reorder_frames: config.facts.reorder_frames,
                luma_bits: config.facts.luma_bits,
            },
            Self::H265(config) => VideoProperties {
                codec: VideoCodec::H265,
                profile: config.facts.level.profile_name(),
                tier: Some(config.facts.level.tier),
                level: config.facts.level.level_number(),
                width: config.facts.width,
                height: config.facts.height,
                frame_rate: config.facts.frame_rate,
                reorder_frames: Some(config.facts.reorder_frames),
                luma_bits: config.facts.luma_bits,
            },
        }
    }

    /// Returns the decoder configuration record (ISO/IEC 14496-15, 5.3.3.1 and 8.3.3.1).
    #[must_use]
    pub fn record(&self) -> Bytes {
        match self {
            Self::H264(config) => config.record(),
            Self::H265(config) => config.record(),
        }
    }

    /// Returns the parameter sets as NAL units, in the order required by decoders.
    pub fn parameter_sets(&self) -> impl Iterator<Item = &Bytes> {
        let (vps, sps, pps): (&[Bytes], _, _) = match self {
            Self::H264(config) => (&[], &config.sps, &config.pps),
            Self::H265(config) => (&config.vps, &config.sps, &config.pps),
        };
        vps.iter().chain(sps).chain(pps)
    }
}

/// Parameter sets of a video track of either codec.
#[derive(Debug, Clone)]
pub enum ParameterSets {
    /// H.264.
    H264(h264::ParameterSets),
    /// H.265.
    H265(h265::ParameterSets),
}

impl ParameterSets {
    /// Creates an empty collection.
    #[must_use]
    pub fn new(codec: VideoCodec) -> Self {
        match codec {
            VideoCodec::H264 => Self::H264(h264::ParameterSets::default()),
            VideoCodec::H265 => Self::H265(h265::ParameterSets::default()),
        }
    }

    /// Handles a NAL unit. Returns true if the configuration has changed.
    pub fn take(&mut self, nal: &Bytes) -> bool {
        match self {
            Self::H264(sets) => sets.take(nal),
            Self::H265(sets) => sets.take(nal),
        }
    }

    /// Returns the error of the last sequence parameter set, if it could not be parsed.
    #[must_use]
    pub fn problem(&self) -> Option<h264::SpsError> {
        match self {
            Self::H264(sets) => sets.problem(),
            Self::H265(sets) => sets.problem(),
        }
    }

    /// Returns the configuration, once each required set is known.
    #[must_use]
    pub fn config(&self) -> Option<VideoConfig> {
        match self {
            Self::H264(sets) => sets.config().map(VideoConfig::H264),
            Self::H265(sets) => sets.config().map(VideoConfig::H265),
        }
    }
}

/// Configuration of an audio track.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum AudioConfig {
    /// AAC.
    Aac {
        /// Parsed configuration.
        facts: AudioSpecificConfig,
        /// `AudioSpecificConfig` (ISO/IEC 14496-3, 1.6.2.1).
        specific: Bytes,
    },
    /// G.711.
    G711 {
        /// Companding law.
        law: Law,
        /// Samples per second; 8000 in the standard.
        sample_rate: u32,
        /// Channels.
        channels: u8,
    },
}

impl AudioConfig {
    /// Creates an AAC configuration from its bytes; `None` if they cannot be parsed.
    #[must_use]
    pub fn aac(specific: Bytes) -> Option<Self> {
        AudioSpecificConfig::parse(&specific).ok().map(|facts| Self::Aac { facts, specific })
    }

    /// Returns the codec name.
    #[must_use]
    pub fn codec_name(&self) -> &'static str {
        match self {
            Self::Aac { .. } => "AAC",
            Self::G711 { law: Law::A, .. } => "G.711 A-law",
            Self::G711 { law: Law::Mu, .. } => "G.711 \u{b5}-law",
        }
    }

    /// Returns the sampling rate in hertz.
    #[must_use]
    pub fn sample_rate(&self) -> u32 {
        match self {
            Self::Aac { facts, .. } => facts.sample_rate,
            Self::G711 { sample_rate, .. } => *sample_rate,
        }
    }

    /// Returns the number of channels; 0 if they are described in-band.
    #[must_use]
    pub fn channels(&self) -> u8 {
        match self {
            Self::Aac { facts, .. } => facts.channels,
            Self::G711 { channels, .. } => *channels,
        }
    }
}

/// Headers of all tracks of a feed. After a change each receiver needs them again.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct StreamHeaders {
    /// Video, once its parameter sets are known.
    pub video: Option<VideoConfig>,
    /// Audio, if there is any.
    pub audio: Option<AudioConfig>,
}
