//! Parameters of the streams of a feed: as shown, and as checked by rules.

use serde::{Deserialize, Serialize};

/// Video parameters of a feed: declared by its headers, and measured.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct VideoInfo {
    /// Codec.
    pub codec: String,
    /// Profile.
    pub profile: String,
    /// Tier, if the codec has tiers.
    #[serde(default)]
    pub tier: Option<String>,
    /// Level.
    pub level: f64,
    /// Width in samples.
    pub width: u32,
    /// Height in samples.
    pub height: u32,
    /// Declared frame rate.
    #[serde(default)]
    pub declared_fps: Option<f64>,
    /// Measured frame rate.
    pub fps: Option<f64>,
    /// Measured bit rate of the feed.
    pub kbps: u64,
    /// Measured keyframe interval in seconds.
    pub keyframe_interval_s: Option<f64>,
}

impl VideoInfo {
    /// Returns it with all measurements rounded to hundredths.
    #[must_use]
    pub fn rounded(self) -> Self {
        let round = |value: f64| (value * 100.0).round() / 100.0;
        Self {
            level: round(self.level),
            declared_fps: self.declared_fps.map(round),
            fps: self.fps.map(round),
            keyframe_interval_s: self.keyframe_interval_s.map(round),
            ..self
        }
    }
}

/// Audio parameters of a feed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AudioInfo {
    /// Codec.
    pub codec: String,
    /// Sampling rate in hertz.
    pub rate_hz: u32,
    /// Channels.
    pub channels: u8,
    /// A rendition can decode it; true unless known otherwise.
    #[serde(skip, default = "is_true")]
    pub is_decodable: bool,
}

/// Video parameters that rules are checked against.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct MeasuredVideo {
    /// Codec name.
    pub codec: String,
    /// Width in samples.
    pub width: u32,
    /// Height in lines.
    pub height: u32,
    /// Frames per second.
    pub fps: Option<f64>,
    /// Kilobits per second.
    pub kbps: Option<u64>,
    /// Longest keyframe interval, in seconds.
    pub keyframe_s: Option<f64>,
    /// Frames are sent in another order than they are shown in; `None` if not measured.
    pub b_frames: Option<bool>,
    /// Keyframes are recovery points of an open GOP instead of IDR frames.
    pub open_gop: bool,
}

impl MeasuredVideo {
    /// Returns the parameters of a stream that was not measured.
    #[must_use]
    pub fn declared(codec: &str, width: u32, height: u32, fps: Option<f64>) -> Self {
        Self {
            codec: codec.to_owned(),
            width,
            height,
            fps,
            kbps: None,
            keyframe_s: None,
            b_frames: None,
            open_gop: false,
        }
    }
}

impl From<&VideoInfo> for MeasuredVideo {
    /// Frame rate, bit rate and keyframe interval are the measured ones, with the declared frame rate as a substitute.
    fn from(info: &VideoInfo) -> Self {
        let fps = info.fps.or(info.declared_fps);
        Self {
            kbps: Some(info.kbps),
            keyframe_s: info.keyframe_interval_s,
            ..Self::declared(&info.codec, info.width, info.height, fps)
        }
    }
}

/// Audio parameters that rules are checked against.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct MeasuredAudio {
    /// Codec name.
    pub codec: String,
    /// Sampling rate in hertz.
    pub rate_hz: u32,
    /// Channels.
    pub channels: u32,
    /// Kilobits per second, where measured.
    pub kbps: Option<u64>,
    /// A rendition can decode it; true unless known otherwise.
    #[serde(default = "is_true")]
    pub is_decodable: bool,
}

impl From<&AudioInfo> for MeasuredAudio {
    fn from(info: &AudioInfo) -> Self {
        Self {
            codec: info.codec.clone(),
            rate_hz: info.rate_hz,
            channels: info.channels.into(),
            kbps: None,
            is_decodable: info.is_decodable,
        }
    }
}

fn is_true() -> bool {
    true
}

#[cfg(test)]
mod tests {
    use super::*;

    fn info() -> VideoInfo {
        VideoInfo {
            codec: "H.264".into(),
            profile: "High".into(),
            tier: None,
            level: 4.1,
            width: 1_280,
            height: 720,
            declared_fps: Some(25.0),
            fps: None,
            kbps: 2_000,
            keyframe_interval_s: Some(1.999_9),
        }
    }

    #[test]
    fn declared_frame_rate_stands_for_a_missing_measurement() {
        assert_eq!(MeasuredVideo::from(&info()).fps, Some(25.0));
        assert_eq!(MeasuredVideo::from(&VideoInfo { fps: Some(24.9), ..info() }).fps, Some(24.9));
    }

    #[test]
    fn measurements_are_rounded_to_hundredths() {
        let rounded = VideoInfo { fps: Some(29.970_03), ..info() }.rounded();
        assert_eq!((rounded.fps, rounded.keyframe_interval_s, rounded.level), (Some(29.97), Some(2.0), 4.1));
    }

    #[test]
    fn audio_of_the_api_can_be_decoded_unless_known_otherwise() {
        let text = r#"{"codec":"AAC","rate_hz":48000,"channels":2}"#;
        let audio: AudioInfo = serde_json::from_str(text).unwrap();
        assert!(audio.is_decodable);
        assert_eq!(serde_json::to_string(&audio).unwrap(), text);
    }
}
