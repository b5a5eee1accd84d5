//! Tuning of a camera: the encoder settings that suit the destinations of a feed, within what the camera offers, and the
//! verification of a change. It is the cheapest adaptation, since nothing is encoded here.

mod change;
mod proposal;
mod verification;

use std::fmt;
use std::ops::RangeInclusive;

use serde::{Deserialize, Serialize};

pub use change::{EncoderSettings, Setting, SettingChange, TuningError};
pub use proposal::{Proposal, TuningReason, propose};
pub use verification::{SettingOutcome, VerifiedSetting, verify};

/// Format that a camera's encoder is configured for.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct EncoderFormat {
    /// Video codec: `H.264`, `H.265`, or the name that the camera uses.
    pub codec: String,
    /// Width in samples.
    pub width: u32,
    /// Height in lines.
    pub height: u32,
    /// Maximum frame rate.
    pub fps: Option<f64>,
    /// Maximum bit rate of the video, in kilobits per second.
    pub kbps: Option<u32>,
    /// Keyframe interval in seconds.
    pub keyframe_interval_s: Option<f64>,
    /// Audio codec: `AAC`, `G.711`, or the name that the camera uses; none without audio.
    pub audio: Option<String>,
}

/// Options of a camera for one video codec. An empty list or a missing range means that it does not say.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct VideoOptions {
    /// Codec.
    pub codec: String,
    /// Frame sizes.
    pub sizes: Vec<FrameSize>,
    /// Frame rates: all supported ones, or the lowest and the highest.
    pub fps: Vec<f64>,
    /// Bit rates in kilobits per second.
    pub kbps: Option<Bounds>,
    /// Keyframe intervals in frames.
    pub keyframe_frames: Option<Bounds>,
}

/// Options of a camera.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CameraOptions {
    /// Video, by codec.
    pub video: Vec<VideoOptions>,
    /// Audio codecs.
    pub audio: Vec<String>,
}

/// Frame size.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct FrameSize {
    /// Width in samples.
    pub width: u32,
    /// Height in lines.
    pub height: u32,
}

/// Inclusive range.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Bounds {
    /// Minimum.
    pub min: u32,
    /// Maximum.
    pub max: u32,
}

impl From<RangeInclusive<u32>> for Bounds {
    fn from(range: RangeInclusive<u32>) -> Self {
        Self { min: *range.start(), max: *range.end() }
    }
}

impl fmt::Display for FrameSize {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}×{}", self.width, self.height)
    }
}

impl EncoderFormat {
    /// Returns the frame size.
    #[must_use]
    pub fn size(&self) -> FrameSize {
        FrameSize { width: self.width, height: self.height }
    }

    /// Returns the text of a setting; empty if the camera does not state it.
    #[must_use]
    pub fn text_of(&self, setting: Setting) -> String {
        let two_digits = |value: f64| (value * 100.0).round() / 100.0;
        match setting {
            Setting::Codec => self.codec.clone(),
            Setting::Size => self.size().to_string(),
            Setting::FrameRate => {
                self.fps.map_or_else(String::new, |fps| format!("{} frames/s", two_digits(fps)))
            }
            Setting::BitRate => self.kbps.map_or_else(String::new, |kbps| format!("{kbps} kbit/s")),
            Setting::Keyframes => self
                .keyframe_interval_s
                .map_or_else(String::new, |interval| format!("every {} s", two_digits(interval))),
            Setting::Audio => self.audio.clone().unwrap_or_else(|| "none".to_owned()),
        }
    }

    /// Returns the format with settings applied.
    #[must_use]
    pub fn with(&self, settings: &EncoderSettings) -> Self {
        let size = settings.size.unwrap_or_else(|| self.size());
        Self {
            codec: settings.codec.clone().unwrap_or_else(|| self.codec.clone()),
            width: size.width,
            height: size.height,
            fps: settings.fps.or(self.fps),
            kbps: settings.kbps.or(self.kbps),
            keyframe_interval_s: settings.keyframe_interval_s.or(self.keyframe_interval_s),
            audio: settings.audio.clone().or_else(|| self.audio.clone()),
        }
    }
}

impl CameraOptions {
    /// Returns the options of a video codec.
    #[must_use]
    pub fn video_of(&self, codec: &str) -> Option<&VideoOptions> {
        self.video.iter().find(|options| options.codec == codec)
    }
}
