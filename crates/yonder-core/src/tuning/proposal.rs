//! Proposal of the settings that suit all destinations of a feed.

use serde::{Deserialize, Serialize};

use crate::platform::tolerance;
use crate::preflight::FeedFacts;
use crate::rendition::{Adapt, Requirements, choose};
use crate::{MeasuredAudio, MeasuredVideo};

use super::{CameraOptions, EncoderFormat, EncoderSettings, FrameSize, Setting, VideoOptions};

/// Keyframe interval above which a shorter one is proposed without a rule, in seconds.
const LONG_KEYFRAME_INTERVAL_S: f64 = 4.1;
/// Proposed keyframe interval without a rule, in seconds.
const KEYFRAME_INTERVAL_S: f64 = 2.0;
/// Share of a ceiling that is proposed, in percent: peaks stay below it.
const CEILING_PERCENT: u32 = 90;

/// Proposed settings.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Proposal {
    /// Settings to be changed.
    pub settings: EncoderSettings,
    /// Reasons for them.
    pub reasons: Vec<TuningReason>,
    /// Settings that a destination needs and the camera does not offer.
    pub missing: Vec<TuningReason>,
}

/// Reason for a setting.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct TuningReason {
    /// Setting.
    pub setting: Setting,
    /// Destination; `None` for a general recommendation.
    pub destination: Option<String>,
    /// Reason, in one sentence without its stop.
    pub reason: String,
}

/// Settings that destinations need, before they are fitted to what the camera offers.
#[derive(Debug, Default)]
struct Needs {
    codec: Option<String>,
    size: Option<FrameSize>,
    fps: Option<f64>,
    kbps: Option<u32>,
    keyframe_interval_s: Option<f64>,
    audio: Option<String>,
    reasons: Vec<TuningReason>,
}

/// Returns the settings that suit all destinations best, within what the camera offers.
#[must_use]
pub fn propose(
    present: &EncoderFormat,
    options: &CameraOptions,
    destinations: &[(&str, Requirements<'_>)],
) -> Proposal {
    let mut needs = Needs::default();
    for (destination, requirements) in destinations {
        needs.add(present, destination, *requirements);
    }
    if let Some(interval) = present.keyframe_interval_s
        && interval > LONG_KEYFRAME_INTERVAL_S
        && needs.keyframe_interval_s.is_none()
    {
        needs.keyframe_interval_s = Some(KEYFRAME_INTERVAL_S);
        let reason = format!("viewers wait up to {interval:.0} s for the first picture, also after a break");
        needs.reasons.push(TuningReason { setting: Setting::Keyframes, destination: None, reason });
    }
    needs.fit(present, options)
}

impl Needs {
    fn add(&mut self, present: &EncoderFormat, destination: &str, requirements: Requirements<'_>) {
        let choice = choose(&present.facts(), requirements, Adapt::All);
        let wanted = choice.rendition.video;
        for need in choice.solved.iter().chain(&choice.unsolved) {
            let setting = match need.check {
                "video-codec" => {
                    let rules = requirements.rules.map(|rules| &rules.video.codecs);
                    self.codec =
                        self.codec.take().or_else(|| rules.and_then(|codecs| codecs.first().cloned()));
                    Setting::Codec
                }
                "size" => {
                    let size = wanted.map(|video| FrameSize { width: video.width, height: video.height });
                    self.size = smaller(self.size, size, |size| size.height);
                    // A smaller picture needs less.
                    self.kbps = smaller(self.kbps, wanted.map(|video| video.kbps), |kbps| *kbps);
                    Setting::Size
                }
                "frame-rate" => {
                    self.fps =
                        [self.fps, wanted.map(|video| video.fps)].into_iter().flatten().reduce(f64::min);
                    Setting::FrameRate
                }
                "bit-rate" => {
                    self.kbps = smaller(self.kbps, wanted.map(|video| video.kbps), |kbps| *kbps);
                    Setting::BitRate
                }
                "keyframes" => {
                    self.need_keyframes(wanted.map(|video| video.keyframe_interval_s));
                    Setting::Keyframes
                }
                "audio-codec" => {
                    let rules = requirements.rules.map(|rules| &rules.audio.codecs);
                    let first = rules.and_then(|codecs| codecs.first().cloned());
                    self.audio = self.audio.take().or(first).or_else(|| Some("AAC".to_owned()));
                    Setting::Audio
                }
                _ => continue,
            };
            self.push(setting, destination, need.reason.clone());
        }
        self.add_rate(present, destination, requirements);
        self.add_short_keyframes(present, destination, requirements);
    }

    /// Adds a bit rate that the rules accept, but do not recommend: above the recommendation, or close to the ceiling.
    fn add_rate(&mut self, present: &EncoderFormat, destination: &str, requirements: Requirements<'_>) {
        let Some(rules) = requirements.rules else { return };
        let (lines, fps) =
            (self.size.map_or(present.height, |size| size.height), present.fps.unwrap_or(25.0));
        let recommended = rules.recommended(lines, fps).map(|range| range.to_kbps);
        let safe = rules.video.ceiling_kbps.map(|ceiling| ceiling / 100 * CEILING_PERCENT);
        let Some(max) = [recommended, safe].into_iter().flatten().min() else { return };
        let is_above = |kbps: Option<u32>| kbps.is_some_and(|kbps| kbps > max);
        if is_above(self.kbps) {
            self.kbps = Some(max);
        } else if self.kbps.is_none() && is_above(present.kbps) {
            self.kbps = Some(max);
            let reason = format!("up to {max} kbit/s are recommended for this size");
            self.push(Setting::BitRate, destination, reason);
        }
    }

    /// Adds keyframes that follow each other too quickly.
    fn add_short_keyframes(
        &mut self,
        present: &EncoderFormat,
        destination: &str,
        requirements: Requirements<'_>,
    ) {
        let min = requirements.rules.and_then(|rules| rules.video.min_keyframe_interval_s);
        if let (Some(min), Some(interval)) = (min, present.keyframe_interval_s)
            && interval < min - tolerance::KEYFRAME_INTERVAL_S
        {
            self.need_keyframes(Some(min.max(KEYFRAME_INTERVAL_S)));
            let reason =
                format!("keyframes are {interval:.1} s apart, the platform requires at least {min} s");
            self.push(Setting::Keyframes, destination, reason);
        }
    }

    fn need_keyframes(&mut self, interval_s: Option<f64>) {
        self.keyframe_interval_s =
            [self.keyframe_interval_s, interval_s].into_iter().flatten().reduce(f64::min);
    }

    fn push(&mut self, setting: Setting, destination: &str, reason: String) {
        self.reasons.push(TuningReason { setting, destination: Some(destination.to_owned()), reason });
    }

    /// Fits the needs to what the camera offers.
    fn fit(self, present: &EncoderFormat, options: &CameraOptions) -> Proposal {
        let is_offered = |codec: &String| options.video_of(codec).is_some();
        let codec = self.codec.clone().filter(is_offered);
        let video = options.video_of(codec.as_ref().unwrap_or(&present.codec));
        let none = VideoOptions::default();
        let video = video.unwrap_or(&none);
        let size = self.size.and_then(|size| video.best_size(size));
        let fps = self.fps.map(|fps| video.best_fps(fps));
        let clamped = |value: u32, bounds: Option<super::Bounds>| {
            bounds.map_or(value, |bounds| value.clamp(bounds.min, bounds.max.max(bounds.min)))
        };
        let after = EncoderFormat { keyframe_interval_s: self.keyframe_interval_s, ..present.clone() };
        let after = EncoderFormat { fps: fps.or(present.fps), ..after };
        let keyframes = after.keyframe_frames().map(|frames| clamped(frames, video.keyframe_frames));
        let interval = keyframes.zip(after.fps).map(|(frames, fps)| f64::from(frames) / fps);
        let settings = EncoderSettings {
            codec,
            size,
            fps,
            kbps: self.kbps.map(|kbps| clamped(kbps, video.kbps)),
            keyframe_interval_s: interval.or(self.keyframe_interval_s),
            audio: self.audio.clone().filter(|audio| options.audio.contains(audio)),
        };
        let settings = settings.without_unchanged(present);
        let changed: Vec<Setting> = settings.changes(present).iter().map(|change| change.setting).collect();
        let is_made = |reason: &TuningReason| changed.contains(&reason.setting);
        let (reasons, missing) = self.reasons.into_iter().partition(is_made);
        Proposal { settings, reasons, missing }
    }
}

/// Returns the smaller one of two values.
fn smaller<T: Copy>(known: Option<T>, new: Option<T>, key: impl Fn(&T) -> u32) -> Option<T> {
    [known, new].into_iter().flatten().min_by_key(|value| key(value))
}

impl VideoOptions {
    /// Returns the largest offered size within `max`, of the same shape if there is one; `max` itself if the camera does not
    /// state its sizes, and `None` if all of them are larger.
    fn best_size(&self, max: FrameSize) -> Option<FrameSize> {
        if self.sizes.is_empty() {
            return Some(max);
        }
        let fits = |size: &&FrameSize| size.width <= max.width && size.height <= max.height;
        let has_shape = |size: &&FrameSize| {
            let (a, b) = (
                u64::from(size.width) * u64::from(max.height),
                u64::from(max.width) * u64::from(size.height),
            );
            a.abs_diff(b) * 50 <= b
        };
        let area = |size: &&FrameSize| u64::from(size.width) * u64::from(size.height);
        let within = || self.sizes.iter().filter(fits);
        within().filter(has_shape).max_by_key(area).or_else(|| within().max_by_key(area)).copied()
    }

    /// Returns the highest offered frame rate up to `max`; the lowest one if all are higher.
    fn best_fps(&self, max: f64) -> f64 {
        if self.offers_fps(max) {
            return max;
        }
        let below = self.fps.iter().copied().filter(|fps| *fps <= max).reduce(f64::max);
        below.or_else(|| self.fps.iter().copied().reduce(f64::min)).unwrap_or(max)
    }
}

impl EncoderFormat {
    /// Returns the facts of a stream in this format.
    #[must_use]
    pub fn facts(&self) -> FeedFacts {
        let video = MeasuredVideo {
            codec: self.codec.clone(),
            width: self.width,
            height: self.height,
            fps: self.fps,
            kbps: self.kbps.map(u64::from),
            keyframe_s: self.keyframe_interval_s,
            b_frames: None,
            open_gop: false,
        };
        let audio = self.audio.as_ref().map(|codec| MeasuredAudio {
            codec: codec.clone(),
            rate_hz: if codec == "AAC" { 48_000 } else { 8_000 },
            channels: 1,
            kbps: None,
            is_decodable: true,
        });
        FeedFacts {
            name: String::new(),
            source: crate::SourceKind::Camera,
            cause: None,
            video: Some(video),
            audio,
        }
    }
}

#[cfg(test)]
mod tests {
    use yonder_address::Protocol;

    use super::super::change::tests::{format, options, size};
    use super::super::{Bounds, CameraOptions};
    use super::*;
    use crate::platform::{RecommendedRate, RuleSheet};
    use crate::rendition::Limit;

    fn rules() -> RuleSheet {
        let mut rules = RuleSheet::default();
        rules.video.codecs = vec!["H.264".into()];
        rules.video.max_lines = Some(720);
        rules.video.ceiling_kbps = Some(4_000);
        rules.video.max_keyframe_interval_s = Some(4.0);
        rules.video.recommended =
            vec![RecommendedRate { lines: 720, fps: 30, from_kbps: 1_500, to_kbps: 3_000 }];
        rules.audio.codecs = vec!["AAC".into()];
        rules
    }

    fn requirements(rules: &RuleSheet) -> Requirements<'_> {
        Requirements {
            protocol: Protocol::Rtmp,
            rules: Some(rules),
            limit: Limit::default(),
            available_kbps: None,
        }
    }

    #[test]
    fn settings_are_the_largest_that_the_platform_accepts() {
        let rules = rules();
        let present = EncoderFormat { codec: "H.265".into(), ..format() };
        let proposal = propose(&present, &options(), &[("Thistle Stage", requirements(&rules))]);
        let expected = EncoderSettings {
            codec: Some("H.264".into()),
            size: Some(size(1_280, 720)),
            fps: None,
            kbps: Some(3_000),
            keyframe_interval_s: Some(2.0),
            audio: Some("AAC".into()),
        };
        assert_eq!(proposal.settings, expected);
        assert!(proposal.missing.is_empty(), "{:?}", proposal.missing);
        assert!(proposal.reasons.iter().all(|reason| reason.destination.as_deref() == Some("Thistle Stage")));
        let after = present.with(&proposal.settings);
        assert!(propose(&after, &options(), &[("Thistle Stage", requirements(&rules))]).settings.is_empty());
    }

    #[test]
    fn strictest_destination_decides() {
        let (wide, narrow) = (rules(), RuleSheet { ..rules() });
        let mut narrow = narrow;
        narrow.video.ceiling_kbps = Some(1_000);
        narrow.video.max_fps = Some(15.0);
        let destinations = [("Bramble TV", requirements(&wide)), ("Marrow Hall", requirements(&narrow))];
        let proposal = propose(&format(), &options(), &destinations);
        assert_eq!((proposal.settings.kbps, proposal.settings.fps), (Some(900), Some(12.5)));
        // 2 s at 12.5 frames/s.
        assert_eq!(proposal.settings.keyframe_interval_s, Some(2.0));
    }

    #[test]
    fn what_is_not_offered_is_reported() {
        let rules = rules();
        let mut options = options();
        options.audio = vec!["G.711".into()];
        options.video.truncate(1);
        options.video[0].kbps = Some(Bounds { min: 5_000, max: 8_000 });
        options.video[0].sizes.truncate(1);
        let proposal = propose(&format(), &options, &[("Thistle Stage", requirements(&rules))]);
        assert_eq!(
            (proposal.settings.size, proposal.settings.audio.clone(), proposal.settings.kbps),
            (None, None, Some(5_000))
        );
        let missing: Vec<Setting> = proposal.missing.iter().map(|reason| reason.setting).collect();
        assert_eq!(missing, [Setting::Audio, Setting::Size]);
    }

    #[test]
    fn long_keyframe_interval_is_shortened_without_a_destination() {
        let proposal = propose(&format(), &CameraOptions::default(), &[]);
        let expected = EncoderSettings { keyframe_interval_s: Some(2.0), ..EncoderSettings::default() };
        assert_eq!((proposal.settings, proposal.reasons.len()), (expected, 1));
        let present = EncoderFormat { keyframe_interval_s: Some(2.0), ..format() };
        assert_eq!(propose(&present, &options(), &[]), Proposal::default());
    }
}
