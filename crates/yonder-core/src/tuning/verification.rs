//! Verification of a change against what the camera reports and what it sends: some cameras round values, some accept a
//! change and ignore it, some need a restart.

use serde::{Deserialize, Serialize};

use crate::preflight::FeedFacts;

use super::{EncoderFormat, EncoderSettings, Setting};

/// Tolerance of a measured frame rate, in percent.
const FPS_PERCENT: f64 = 10.0;
/// Tolerance of a measured bit rate above the limit, in percent: variable rates exceed it for seconds.
const RATE_PERCENT: u64 = 20;
/// Tolerance of a measured keyframe interval, in seconds.
const KEYFRAME_S: f64 = 0.3;

/// Outcome of the change of a setting.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum SettingOutcome {
    /// The stream has the new value.
    Applied,
    /// The camera has chosen another value, which the stream has.
    Adjusted,
    /// The camera has stored the value, the stream still has the old one: it may need a restart.
    Pending,
    /// The camera has accepted the change and kept the old value.
    Ignored,
    /// The camera has stored the value, which could not be measured.
    Unmeasured,
}

impl SettingOutcome {
    /// Returns the name.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Applied => "applied",
            Self::Adjusted => "adjusted",
            Self::Pending => "pending",
            Self::Ignored => "ignored",
            Self::Unmeasured => "unmeasured",
        }
    }

    /// Returns true if the stream has the value that the camera reports.
    #[must_use]
    pub fn is_verified(self) -> bool {
        matches!(self, Self::Applied | Self::Adjusted)
    }
}

/// Verified setting, with values as texts with their units.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct VerifiedSetting {
    /// Setting.
    pub setting: Setting,
    /// Value before.
    pub before: String,
    /// Requested value.
    pub wanted: String,
    /// Value that the camera reports now.
    pub reported: String,
    /// Measured value; empty if it could not be measured.
    pub measured: String,
    /// Outcome.
    pub outcome: SettingOutcome,
}

/// Compares a change with what the camera reports afterwards and what it sends; `None` for `measured` if nothing was
/// received.
#[must_use]
pub fn verify(
    settings: &EncoderSettings,
    before: &EncoderFormat,
    reported: &EncoderFormat,
    measured: Option<&FeedFacts>,
) -> Vec<VerifiedSetting> {
    let wanted = before.with(settings);
    let measured = measured.map(measured_format);
    let changes = settings.changes(before).into_iter();
    let verified = changes.map(|change| {
        let setting = change.setting;
        let is_same = |a: &EncoderFormat, b: &EncoderFormat| a.text_of(setting) == b.text_of(setting);
        let sends = |format: &EncoderFormat| {
            measured.as_ref().and_then(|measured| matches(setting, format, measured))
        };
        let outcome = if is_same(reported, before) {
            SettingOutcome::Ignored
        } else {
            match sends(reported) {
                None => SettingOutcome::Unmeasured,
                Some(false) => SettingOutcome::Pending,
                Some(true) if is_same(reported, &wanted) => SettingOutcome::Applied,
                Some(true) => SettingOutcome::Adjusted,
            }
        };
        VerifiedSetting {
            setting,
            before: change.before,
            wanted: change.after,
            reported: reported.text_of(setting),
            measured: measured.as_ref().map_or_else(String::new, |measured| measured.text_of(setting)),
            outcome,
        }
    });
    verified.collect()
}

/// Returns the format of a measured stream.
fn measured_format(facts: &FeedFacts) -> EncoderFormat {
    let video = facts.video.as_ref();
    EncoderFormat {
        codec: video.map_or_else(String::new, |video| video.codec.clone()),
        width: video.map_or(0, |video| video.width),
        height: video.map_or(0, |video| video.height),
        fps: video.and_then(|video| video.fps),
        kbps: video.and_then(|video| video.kbps).and_then(|kbps| u32::try_from(kbps).ok()),
        keyframe_interval_s: video.and_then(|video| video.keyframe_s),
        audio: facts.audio.as_ref().map(|audio| audio.codec.clone()),
    }
}

/// Returns true if a measured stream has the setting of a format; `None` if it was not measured.
fn matches(setting: Setting, format: &EncoderFormat, measured: &EncoderFormat) -> Option<bool> {
    match setting {
        Setting::Codec => Some(measured.codec == format.codec),
        Setting::Size => Some(measured.size() == format.size()),
        Setting::FrameRate => {
            let (fps, measured) = (format.fps?, measured.fps?);
            Some((fps - measured).abs() <= fps * FPS_PERCENT / 100.0)
        }
        // The rate is a maximum: quiet scenes need less.
        Setting::BitRate => {
            let (kbps, measured) = (u64::from(format.kbps?), u64::from(measured.kbps?));
            Some(measured <= kbps + kbps * RATE_PERCENT / 100)
        }
        Setting::Keyframes => {
            let (interval, measured) = (format.keyframe_interval_s?, measured.keyframe_interval_s?);
            Some((interval - measured).abs() <= KEYFRAME_S.max(interval / 10.0))
        }
        // "G.711" covers both of its laws.
        Setting::Audio => {
            let audio = format.audio.as_ref()?;
            Some(measured.audio.as_ref().is_some_and(|measured| measured.starts_with(audio.as_str())))
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::super::change::tests::format;
    use super::*;

    fn wanted() -> EncoderSettings {
        EncoderSettings {
            kbps: Some(3_000),
            keyframe_interval_s: Some(2.0),
            audio: Some("AAC".into()),
            ..EncoderSettings::default()
        }
    }

    fn outcomes(reported: &EncoderFormat, measured: Option<&FeedFacts>) -> Vec<SettingOutcome> {
        verify(&wanted(), &format(), reported, measured).iter().map(|verified| verified.outcome).collect()
    }

    #[rstest]
    #[case::applied(format().with(&wanted()), Some(format().with(&wanted())), SettingOutcome::Applied)]
    #[case::pending(format().with(&wanted()), Some(format()), SettingOutcome::Pending)]
    #[case::ignored(format(), Some(format()), SettingOutcome::Ignored)]
    #[case::unmeasured(format().with(&wanted()), None, SettingOutcome::Unmeasured)]
    fn outcomes_follow_report_and_measurement(
        #[case] reported: EncoderFormat,
        #[case] sent: Option<EncoderFormat>,
        #[case] expected: SettingOutcome,
    ) {
        let measured = sent.as_ref().map(EncoderFormat::facts);
        assert_eq!(outcomes(&reported, measured.as_ref()), [expected; 3]);
    }

    #[test]
    fn rounded_values_are_adjusted() {
        let rounded = EncoderFormat { kbps: Some(3_072), ..format().with(&wanted()) };
        let verified = verify(&wanted(), &format(), &rounded, Some(&rounded.facts()));
        assert_eq!(verified[0].outcome, SettingOutcome::Adjusted);
        assert_eq!(
            (verified[0].wanted.as_str(), verified[0].reported.as_str()),
            ("3000 kbit/s", "3072 kbit/s")
        );
        assert!(verified.iter().all(|setting| setting.outcome.is_verified()));
    }

    #[test]
    fn measured_values_have_tolerances() {
        let reported = format().with(&wanted());
        let sent = EncoderFormat { kbps: Some(3_500), keyframe_interval_s: Some(2.04), ..reported.clone() };
        assert_eq!(outcomes(&reported, Some(&sent.facts())), [SettingOutcome::Applied; 3]);
        let quiet = EncoderFormat { kbps: Some(400), ..reported.clone() };
        assert_eq!(outcomes(&reported, Some(&quiet.facts()))[0], SettingOutcome::Applied);
        // One keyframe in the measurement: the interval is unknown.
        let short = EncoderFormat { keyframe_interval_s: None, ..reported.clone() };
        assert_eq!(outcomes(&reported, Some(&short.facts()))[1], SettingOutcome::Unmeasured);
    }

    #[test]
    fn g711_of_either_law_is_g711() {
        let before = EncoderFormat { audio: Some("AAC".into()), ..format() };
        let settings = EncoderSettings { audio: Some("G.711".into()), ..EncoderSettings::default() };
        let reported = before.with(&settings);
        let mut facts = reported.facts();
        facts.audio.as_mut().unwrap().codec = "G.711 A-law".into();
        assert_eq!(verify(&settings, &before, &reported, Some(&facts))[0].outcome, SettingOutcome::Applied);
    }
}
