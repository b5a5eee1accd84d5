//! A channel's figures and findings.

use std::time::Duration;

use super::finding::Finding;

/// Video parameters of the headers.
#[derive(Debug, Clone, PartialEq)]
pub struct VideoSeen {
    /// Codec's name.
    pub codec: &'static str,
    /// Profile.
    pub profile: &'static str,
    /// Samples.
    pub width: u32,
    /// Samples.
    pub height: u32,
}

/// Audio parameters of the headers.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SoundSeen {
    /// Codec's name.
    pub codec: &'static str,
    /// Samples per second.
    pub rate_hz: u32,
    /// Channels.
    pub channels: u8,
}

/// A channel's figures and findings.
#[derive(Debug, Clone, PartialEq)]
pub struct ChannelReport {
    /// A broadcast runs.
    pub live: bool,
    /// Broadcasts so far.
    pub broadcasts: u64,
    /// Pictures received in all broadcasts.
    pub pictures: u64,
    /// Frames of sound received in all broadcasts.
    pub sounds: u64,
    /// The picture by the stream's own headers.
    pub video: Option<VideoSeen>,
    /// The sound, where some came.
    pub sound: Option<SoundSeen>,
    /// How long the last broadcast has been running, or ran.
    pub span: Duration,
    /// Pictures per second of media time in the last broadcast.
    pub fps: Option<f64>,
    /// Mean rate of the last broadcast.
    pub kbps: u64,
    /// Mean rate of its picture.
    pub video_kbps: u64,
    /// Mean rate of its sound.
    pub sound_kbps: u64,
    /// Most kilobits in any one second of it.
    pub peak_kbps: u64,
    /// Longest keyframe interval of the last broadcast, in milliseconds.
    pub keyframe_ms: u64,
    /// Pictures came in another order than they are shown in.
    pub b_frames: bool,
    /// Largest distance between picture and sound, in milliseconds.
    pub skew_ms: u64,
    /// Longest time without anything coming.
    pub longest_stall: Duration,
    /// Findings in the last broadcast.
    pub findings: Vec<Finding>,
}

impl ChannelReport {
    /// Nothing was found wrong.
    #[must_use]
    pub fn is_good(&self) -> bool {
        self.findings.is_empty()
    }

    /// Size by the stream's own headers.
    #[must_use]
    pub fn size(&self) -> Option<(u32, u32)> {
        self.video.as_ref().map(|video| (video.width, video.height))
    }
}
