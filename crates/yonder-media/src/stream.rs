//! What a receiver must know before the first access unit: the headers of a stream.

use bytes::Bytes;

use crate::aac::AudioSpecificConfig;
use crate::h264::{self, Sps};

/// The description of an H.264 track.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct VideoConfig {
    /// The facts of the active sequence parameter set.
    pub facts: Sps,
    /// Sequence parameter sets as NAL units.
    pub sps: Vec<Bytes>,
    /// Picture parameter sets as NAL units.
    pub pps: Vec<Bytes>,
}

impl VideoConfig {
    /// The `AVCDecoderConfigurationRecord` of this track (ISO/IEC 14496-15, 5.3.3.1).
    #[must_use]
    pub fn record(&self) -> Bytes {
        h264::configuration_record(self)
    }
}

/// The description of an AAC track.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AudioConfig {
    /// The facts of the configuration.
    pub facts: AudioSpecificConfig,
    /// The `AudioSpecificConfig` bytes as the camera sent them (ISO/IEC 14496-3, 1.6.2.1).
    pub specific: Bytes,
}

/// Headers of all tracks that a feed carries. A change of these is a splice: every receiver needs them anew.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct StreamHeaders {
    /// The picture, once its parameter sets are known.
    pub video: Option<VideoConfig>,
    /// The sound, when there is any.
    pub audio: Option<AudioConfig>,
}
