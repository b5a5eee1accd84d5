//! Statistics and findings of a channel.

use std::time::Duration;

use super::finding::Finding;

/// Video parameters from the headers.
#[derive(Debug, Clone, PartialEq)]
pub struct VideoHeaders {
    /// Codec name.
    pub codec: &'static str,
    /// Profile.
    pub profile: &'static str,
    /// Width in samples.
    pub width: u32,
    /// Height in samples.
    pub height: u32,
}

/// Audio parameters from the headers.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AudioHeaders {
    /// Codec name.
    pub codec: &'static str,
    /// Samples per second.
    pub rate_hz: u32,
    /// Channels.
    pub channels: u8,
}

/// Statistics and findings of a channel.
#[derive(Debug, Clone, PartialEq)]
pub struct ChannelReport {
    /// A broadcast is running.
    pub live: bool,
    /// Number of broadcasts.
    pub broadcasts: u64,
    /// Video frames received in all broadcasts.
    pub pictures: u64,
    /// Audio frames received in all broadcasts.
    pub audio_frames: u64,
    /// Video parameters of the stream's headers.
    pub video: Option<VideoHeaders>,
    /// Audio parameters, if there is audio.
    pub audio: Option<AudioHeaders>,
    /// Duration of the last broadcast.
    pub span: Duration,
    /// Frames per second of media time in the last broadcast.
    pub fps: Option<f64>,
    /// Mean bit rate of the last broadcast.
    pub kbps: u64,
    /// Mean video bit rate.
    pub video_kbps: u64,
    /// Mean audio bit rate.
    pub audio_kbps: u64,
    /// Maximum over any one second, in kilobits.
    pub peak_kbps: u64,
    /// Longest keyframe interval of the last broadcast, in milliseconds.
    pub keyframe_ms: u64,
    /// Frames are sent in another order than they are shown in.
    pub b_frames: bool,
    /// Largest offset between video and audio, in milliseconds.
    pub skew_ms: u64,
    /// Longest time without data.
    pub longest_stall: Duration,
    /// Findings in the last broadcast.
    pub findings: Vec<Finding>,
}

impl ChannelReport {
    /// Returns true if there are no findings.
    #[must_use]
    pub fn is_good(&self) -> bool {
        self.findings.is_empty()
    }

    /// Returns width and height from the stream's headers.
    #[must_use]
    pub fn size(&self) -> Option<(u32, u32)> {
        self.video.as_ref().map(|video| (video.width, video.height))
    }
}
