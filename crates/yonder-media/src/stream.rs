//! Headers of a stream, which a receiver needs before the first access unit.

use bytes::Bytes;

use crate::aac::AudioSpecificConfig;
use crate::g711::Law;
use crate::{h264, h265};

/// `nal_unit_type` of filler data (table 7-1 of both standards).
const FILLER_H264: u8 = 12;
const FILLER_H265: u8 = 38;

/// Codec of a picture.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum VideoCodec {
    /// ITU-T H.264.
    H264,
    /// ITU-T H.265.
    H265,
}

impl VideoCodec {
    /// The name that people read.
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

    /// Returns true where decoding may start at an access unit with these NAL units.
    #[must_use]
    pub fn is_random_access(self, nals: &[Bytes]) -> bool {
        let nals = nals.iter().map(|nal| &nal[..]);
        match self {
            Self::H264 => h264::is_random_access(nals),
            Self::H265 => h265::is_random_access(nals),
        }
    }
}

/// Video parameters, in the same terms for every codec.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct PictureFacts {
    /// Codec.
    pub codec: VideoCodec,
    /// Profile name.
    pub profile: &'static str,
    /// Tier, where the codec has tiers.
    pub tier: Option<h265::Tier>,
    /// Level as it is written: 4.1 and the like.
    pub level: f64,
    /// Samples after cropping.
    pub width: u32,
    /// Samples after cropping.
    pub height: u32,
    /// Frames per second as numerator and denominator, where declared.
    pub frame_rate: Option<(u32, u32)>,
    /// How many pictures may precede one in decoding order and follow it on screen, where declared.
    pub reorder_frames: Option<u8>,
    /// Bits per luma sample.
    pub luma_bits: u8,
}

/// The description of a picture track.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum VideoConfig {
    /// H.264.
    H264(h264::Config),
    /// H.265.
    H265(h265::Config),
}

impl VideoConfig {
    /// Codec.
    #[must_use]
    pub fn codec(&self) -> VideoCodec {
        match self {
            Self::H264(_) => VideoCodec::H264,
            Self::H265(_) => VideoCodec::H265,
        }
    }

    /// The facts that every codec has.
    #[must_use]
    pub fn facts(&self) -> PictureFacts {
        match self {
            Self::H264(config) => PictureFacts {
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
            Self::H265(config) => PictureFacts {
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

    /// The decoder configuration record (ISO/IEC 14496-15, 5.3.3.1 and 8.3.3.1).
    #[must_use]
    pub fn record(&self) -> Bytes {
        match self {
            Self::H264(config) => config.record(),
            Self::H265(config) => config.record(),
        }
    }

    /// The parameter sets as NAL units, in the order in which a decoder wants them.
    pub fn parameter_sets(&self) -> impl Iterator<Item = &Bytes> {
        let (vps, sps, pps): (&[Bytes], _, _) = match self {
            Self::H264(config) => (&[], &config.sps, &config.pps),
            Self::H265(config) => (&config.vps, &config.sps, &config.pps),
        };
        vps.iter().chain(sps).chain(pps)
    }
}

/// The parameter sets of a picture track of either codec, as they come.
#[derive(Debug, Clone)]
pub enum ParameterSets {
    /// H.264.
    H264(h264::ParameterSets),
    /// H.265.
    H265(h265::ParameterSets),
}

impl ParameterSets {
    /// None known yet.
    #[must_use]
    pub fn new(codec: VideoCodec) -> Self {
        match codec {
            VideoCodec::H264 => Self::H264(h264::ParameterSets::default()),
            VideoCodec::H265 => Self::H265(h265::ParameterSets::default()),
        }
    }

    /// Takes a NAL unit if it is a parameter set. Returns true when it changed what is in force.
    pub fn take(&mut self, nal: &Bytes) -> bool {
        match self {
            Self::H264(sets) => sets.take(nal),
            Self::H265(sets) => sets.take(nal),
        }
    }

    /// Returns why the last sequence parameter set could not be read, if it could not.
    #[must_use]
    pub fn problem(&self) -> Option<h264::SpsError> {
        match self {
            Self::H264(sets) => sets.problem(),
            Self::H265(sets) => sets.problem(),
        }
    }

    /// The configuration, once every kind of set is known.
    #[must_use]
    pub fn config(&self) -> Option<VideoConfig> {
        match self {
            Self::H264(sets) => sets.config().map(VideoConfig::H264),
            Self::H265(sets) => sets.config().map(VideoConfig::H265),
        }
    }
}

/// The description of a sound track.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum AudioConfig {
    /// AAC.
    Aac {
        /// The facts of the configuration.
        facts: AudioSpecificConfig,
        /// The `AudioSpecificConfig` bytes (ISO/IEC 14496-3, 1.6.2.1).
        specific: Bytes,
    },
    /// G.711.
    G711 {
        /// Which of its two laws.
        law: Law,
        /// Samples per second; 8000 by the standard.
        sample_rate: u32,
        /// Channels.
        channels: u8,
    },
}

impl AudioConfig {
    /// AAC, from its configuration bytes; `None` where they cannot be read.
    #[must_use]
    pub fn aac(specific: Bytes) -> Option<Self> {
        AudioSpecificConfig::parse(&specific).ok().map(|facts| Self::Aac { facts, specific })
    }

    /// The codec's name.
    #[must_use]
    pub fn codec_name(&self) -> &'static str {
        match self {
            Self::Aac { .. } => "AAC",
            Self::G711 { law: Law::A, .. } => "G.711 A-law",
            Self::G711 { law: Law::Mu, .. } => "G.711 \u{b5}-law",
        }
    }

    /// Samples per second.
    #[must_use]
    pub fn sample_rate(&self) -> u32 {
        match self {
            Self::Aac { facts, .. } => facts.sample_rate,
            Self::G711 { sample_rate, .. } => *sample_rate,
        }
    }

    /// Channels; 0 when the stream describes them in-band.
    #[must_use]
    pub fn channels(&self) -> u8 {
        match self {
            Self::Aac { facts, .. } => facts.channels,
            Self::G711 { channels, .. } => *channels,
        }
    }
}

/// Headers of all tracks that a feed carries. A change of these is a splice: every receiver needs them again.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct StreamHeaders {
    /// The picture, once its parameter sets are known.
    pub video: Option<VideoConfig>,
    /// The sound, when there is any.
    pub audio: Option<AudioConfig>,
}
