//! Settings of an encoder that are to be changed.

use std::fmt;

use serde::{Deserialize, Serialize};

use super::{CameraOptions, EncoderFormat, FrameSize, VideoOptions};

/// Tolerance of frame rates, in frames per second.
const FPS_TOLERANCE: f64 = 0.05;
/// Range of keyframe intervals, in seconds.
const KEYFRAME_INTERVAL_S: std::ops::RangeInclusive<f64> = 0.1..=60.0;

/// Settings of an encoder; what is `None` stays.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct EncoderSettings {
    /// Video codec.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub codec: Option<String>,
    /// Frame size.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub size: Option<FrameSize>,
    /// Maximum frame rate.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fps: Option<f64>,
    /// Maximum bit rate of the video, in kilobits per second.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kbps: Option<u32>,
    /// Keyframe interval in seconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub keyframe_interval_s: Option<f64>,
    /// Audio codec.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub audio: Option<String>,
}

/// Setting of an encoder.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Setting {
    /// Video codec.
    Codec,
    /// Frame size.
    Size,
    /// Frame rate.
    FrameRate,
    /// Bit rate of the video.
    BitRate,
    /// Keyframe interval.
    Keyframes,
    /// Audio codec.
    Audio,
}

impl Setting {
    /// All settings.
    pub const ALL: [Self; 6] =
        [Self::Codec, Self::Size, Self::FrameRate, Self::BitRate, Self::Keyframes, Self::Audio];

    /// Returns the name.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Codec => "codec",
            Self::Size => "size",
            Self::FrameRate => "frame-rate",
            Self::BitRate => "bit-rate",
            Self::Keyframes => "keyframes",
            Self::Audio => "audio",
        }
    }
}

impl Setting {
    /// Returns the setting that a check of the preflight concerns.
    #[must_use]
    pub fn of_check(check: &str) -> Option<Self> {
        Some(match check {
            "video-codec" => Self::Codec,
            "size" => Self::Size,
            "frame-rate" => Self::FrameRate,
            "bit-rate" => Self::BitRate,
            "keyframes" => Self::Keyframes,
            "audio-codec" => Self::Audio,
            _ => return None,
        })
    }

    /// Returns the setting that advice of a survey concerns.
    #[must_use]
    pub fn of_advice(code: &str) -> Option<Self> {
        Some(match code {
            "survey.h265" => Self::Codec,
            "survey.keyframe-far" | "survey.keyframe-near" => Self::Keyframes,
            "survey.g711" => Self::Audio,
            _ => return None,
        })
    }
}

impl fmt::Display for Setting {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.as_str().replace('-', " "))
    }
}

/// Change of one setting, as texts with their units.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SettingChange {
    /// Setting.
    pub setting: Setting,
    /// Value before; empty if the camera does not state it.
    pub before: String,
    /// Requested value.
    pub after: String,
}

/// Error for settings that a camera does not offer.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("the camera does not offer {setting} {wanted}; it offers {offered}")]
pub struct TuningError {
    /// Setting.
    pub setting: Setting,
    /// Requested value.
    pub wanted: String,
    /// Values that it offers.
    pub offered: String,
}

impl EncoderSettings {
    /// Returns true if nothing is to be changed.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }

    /// Returns true if a setting of the video is to be changed.
    #[must_use]
    pub fn changes_video(&self) -> bool {
        let Self { codec, size, fps, kbps, keyframe_interval_s, audio: _ } = self;
        codec.is_some() || size.is_some() || fps.is_some() || kbps.is_some() || keyframe_interval_s.is_some()
    }

    /// Returns the profiles whose streams change as well, of those that share the video encoder and the audio encoder.
    #[must_use]
    pub fn affected(&self, video: &[String], audio: &[String]) -> Vec<String> {
        let mut affected = if self.changes_video() { video.to_vec() } else { Vec::new() };
        if self.audio.is_some() {
            affected.extend_from_slice(audio);
        }
        affected.sort();
        affected.dedup();
        affected
    }

    /// Returns the settings that restore a format.
    #[must_use]
    pub fn of(format: &EncoderFormat) -> Self {
        Self {
            codec: Some(format.codec.clone()),
            size: Some(format.size()),
            fps: format.fps,
            kbps: format.kbps,
            keyframe_interval_s: format.keyframe_interval_s,
            audio: format.audio.clone(),
        }
    }

    /// Returns the settings that differ from a format.
    #[must_use]
    pub fn without_unchanged(&self, format: &EncoderFormat) -> Self {
        let differs = |new: f64, old: Option<f64>| old.is_none_or(|old| (new - old).abs() > FPS_TOLERANCE);
        Self {
            codec: self.codec.clone().filter(|codec| *codec != format.codec),
            size: self.size.filter(|size| *size != format.size()),
            fps: self.fps.filter(|fps| differs(*fps, format.fps)),
            kbps: self.kbps.filter(|kbps| Some(*kbps) != format.kbps),
            keyframe_interval_s: self
                .keyframe_interval_s
                .filter(|interval| differs(*interval, format.keyframe_interval_s)),
            audio: self.audio.clone().filter(|audio| Some(audio) != format.audio.as_ref()),
        }
    }

    /// Returns the changes of a format.
    #[must_use]
    pub fn changes(&self, before: &EncoderFormat) -> Vec<SettingChange> {
        let changed = self.without_unchanged(before);
        let after = before.with(&changed);
        let is_changed = |setting: &Setting| match setting {
            Setting::Codec => changed.codec.is_some(),
            Setting::Size => changed.size.is_some(),
            Setting::FrameRate => changed.fps.is_some(),
            Setting::BitRate => changed.kbps.is_some(),
            Setting::Keyframes => changed.keyframe_interval_s.is_some(),
            Setting::Audio => changed.audio.is_some(),
        };
        let change = |setting: Setting| SettingChange {
            setting,
            before: before.text_of(setting),
            after: after.text_of(setting),
        };
        Setting::ALL.into_iter().filter(is_changed).map(change).collect()
    }

    /// Checks that a camera offers the settings. Options that it does not state are not checked.
    ///
    /// # Errors
    /// [`TuningError`] for the first setting that it does not offer.
    pub fn check(&self, present: &EncoderFormat, options: &CameraOptions) -> Result<(), TuningError> {
        let refuse = |setting, wanted: String, offered: String| TuningError { setting, wanted, offered };
        let codec = self.codec.as_ref().unwrap_or(&present.codec);
        let Some(video) = options.video_of(codec) else {
            let Some(wanted) = &self.codec else { return Ok(()) };
            let codecs: Vec<&str> = options.video.iter().map(|video| video.codec.as_str()).collect();
            return Err(refuse(Setting::Codec, wanted.clone(), listed(&codecs)));
        };
        if let Some(size) = self.size
            && !video.sizes.is_empty()
            && !video.sizes.contains(&size)
        {
            let sizes: Vec<String> = video.sizes.iter().map(ToString::to_string).collect();
            return Err(refuse(Setting::Size, size.to_string(), listed(&sizes)));
        }
        let after = present.with(self);
        if let Some(fps) = self.fps.filter(|fps| !video.offers_fps(*fps)) {
            let offered: Vec<String> = video.fps.iter().map(ToString::to_string).collect();
            let offered = offered.join(if video.fps.len() == 2 { " to " } else { ", " });
            return Err(refuse(Setting::FrameRate, format!("{fps} frames/s"), offered));
        }
        if let (Some(kbps), Some(bounds)) = (self.kbps, video.kbps)
            && !(bounds.min..=bounds.max).contains(&kbps)
        {
            let offered = format!("{} to {} kbit/s", bounds.min, bounds.max);
            return Err(refuse(Setting::BitRate, after.text_of(Setting::BitRate), offered));
        }
        if let Some(interval) = self.keyframe_interval_s {
            let wanted = after.text_of(Setting::Keyframes);
            if !KEYFRAME_INTERVAL_S.contains(&interval) {
                return Err(refuse(Setting::Keyframes, wanted, "0.1 to 60 s".to_owned()));
            }
            let frames = after.keyframe_frames();
            if let (Some(frames), Some(bounds)) = (frames, video.keyframe_frames)
                && !(bounds.min..=bounds.max).contains(&frames)
            {
                let offered = format!("{} to {} frames", bounds.min, bounds.max);
                return Err(refuse(Setting::Keyframes, format!("{wanted} ({frames} frames)"), offered));
            }
        }
        if let Some(audio) = self.audio.as_ref().filter(|audio| !options.audio.contains(audio)) {
            return Err(refuse(Setting::Audio, audio.clone(), listed(&options.audio)));
        }
        Ok(())
    }
}

fn listed<T: AsRef<str>>(values: &[T]) -> String {
    let values: Vec<&str> = values.iter().map(AsRef::as_ref).collect();
    if values.is_empty() { "none".to_owned() } else { values.join(", ") }
}

impl VideoOptions {
    /// Returns true if a frame rate is offered, or the camera does not state its rates.
    pub(super) fn offers_fps(&self, fps: f64) -> bool {
        match self.fps.as_slice() {
            [] => fps > 0.0,
            [min, max] => (*min - FPS_TOLERANCE..=*max + FPS_TOLERANCE).contains(&fps),
            rates => rates.iter().any(|rate| (rate - fps).abs() <= FPS_TOLERANCE),
        }
    }
}

impl EncoderFormat {
    /// Returns the keyframe interval in frames, at least one; `None` without an interval or a frame rate.
    #[must_use]
    pub fn keyframe_frames(&self) -> Option<u32> {
        let frames = self.keyframe_interval_s? * self.fps?;
        // A positive number of frames, so the conversion through text is exact.
        format!("{:.0}", frames.max(1.0)).parse().ok()
    }
}

#[cfg(test)]
pub(super) mod tests {
    use rstest::rstest;

    use super::super::{Bounds, FrameSize};
    use super::*;

    pub(in crate::tuning) fn format() -> EncoderFormat {
        EncoderFormat {
            codec: "H.264".into(),
            width: 1_920,
            height: 1_080,
            fps: Some(25.0),
            kbps: Some(8_000),
            keyframe_interval_s: Some(10.0),
            audio: Some("G.711".into()),
        }
    }

    pub(in crate::tuning) fn options() -> CameraOptions {
        let video = |codec: &str| VideoOptions {
            codec: codec.into(),
            sizes: vec![size(1_920, 1_080), size(1_280, 720), size(640, 360), size(704, 576)],
            fps: vec![25.0, 12.5, 5.0],
            kbps: Some(Bounds { min: 256, max: 8_192 }),
            keyframe_frames: Some(Bounds { min: 1, max: 300 }),
        };
        CameraOptions {
            video: vec![video("H.264"), video("H.265")],
            audio: vec!["G.711".into(), "AAC".into()],
        }
    }

    pub(in crate::tuning) fn size(width: u32, height: u32) -> FrameSize {
        FrameSize { width, height }
    }

    #[test]
    fn only_differences_are_changed() {
        let settings = EncoderSettings {
            codec: Some("H.264".into()),
            kbps: Some(3_000),
            keyframe_interval_s: Some(2.0),
            fps: Some(25.0),
            ..EncoderSettings::default()
        };
        let changes = settings.changes(&format());
        let texts: Vec<_> = changes
            .iter()
            .map(|change| (change.setting.as_str(), change.before.as_str(), change.after.as_str()))
            .collect();
        let expected = [("bit-rate", "8000 kbit/s", "3000 kbit/s"), ("keyframes", "every 10 s", "every 2 s")];
        assert_eq!(texts, expected);
        assert!(EncoderSettings::of(&format()).changes(&format()).is_empty());
    }

    #[rstest]
    #[case::codec(EncoderSettings { codec: Some("AV1".into()), ..EncoderSettings::default() }, Setting::Codec, "H.264, H.265")]
    #[case::size(EncoderSettings { size: Some(size(800, 600)), ..EncoderSettings::default() }, Setting::Size, "1280×720")]
    #[case::fps(EncoderSettings { fps: Some(30.0), ..EncoderSettings::default() }, Setting::FrameRate, "25, 12.5, 5")]
    #[case::kbps(EncoderSettings { kbps: Some(100), ..EncoderSettings::default() }, Setting::BitRate, "256 to 8192 kbit/s")]
    #[case::keyframes(EncoderSettings { keyframe_interval_s: Some(20.0), ..EncoderSettings::default() }, Setting::Keyframes, "1 to 300 frames")]
    #[case::range(EncoderSettings { keyframe_interval_s: Some(-1.0), ..EncoderSettings::default() }, Setting::Keyframes, "0.1 to 60 s")]
    #[case::audio(EncoderSettings { audio: Some("Opus".into()), ..EncoderSettings::default() }, Setting::Audio, "G.711, AAC")]
    fn settings_that_are_not_offered_are_refused(
        #[case] settings: EncoderSettings,
        #[case] setting: Setting,
        #[case] offered: &str,
    ) {
        let error = settings.check(&format(), &options()).unwrap_err();
        assert_eq!(error.setting, setting);
        assert!(error.offered.contains(offered), "{error}");
    }

    #[test]
    fn settings_of_a_camera_that_states_no_options_are_not_refused() {
        let silent = VideoOptions { codec: "H.264".into(), ..VideoOptions::default() };
        let options = CameraOptions { video: vec![silent], audio: Vec::new() };
        let settings = EncoderSettings {
            size: Some(size(800, 600)),
            fps: Some(30.0),
            kbps: Some(100),
            keyframe_interval_s: Some(2.0),
            ..EncoderSettings::default()
        };
        assert_eq!(settings.check(&format(), &options), Ok(()));
        assert_eq!(EncoderSettings::default().check(&format(), &CameraOptions::default()), Ok(()));
    }
}
