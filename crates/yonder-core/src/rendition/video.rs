//! Choice of the video.

use std::fmt;

use yonder_address::Protocol;

use crate::MeasuredVideo;
use crate::platform::{VideoRules, tolerance};

use super::{Need, Requirements};

/// Codec of encoded video.
const CODEC: &str = "H.264";
/// Keyframe interval without a rule, in seconds.
const DEFAULT_KEYFRAME_INTERVAL_S: f64 = 2.0;
/// Bits per sample at which camera video has no visible artifacts, in thousandths.
const MILLIBITS_PER_SAMPLE: u64 = 90;
/// Minimum bit rate, in kilobits per second, unless a limit is lower.
const MIN_KBPS: u64 = 150;
/// Frame rate that is assumed if it was not measured.
const DEFAULT_FPS: f64 = 25.0;

/// Encoded video: H.264 without B-frames, at a constant bit rate.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct VideoRendition {
    /// Width in samples, even.
    pub width: u32,
    /// Height in lines, even.
    pub height: u32,
    /// One of this many frames is encoded.
    pub frame_divisor: u32,
    /// Frames per second.
    pub fps: f64,
    /// Bit rate in kilobits per second.
    pub kbps: u32,
    /// Keyframe interval in seconds.
    pub keyframe_interval_s: f64,
}

impl VideoRendition {
    /// Returns the facts of the video.
    pub(super) fn facts(self) -> MeasuredVideo {
        MeasuredVideo {
            codec: CODEC.to_owned(),
            width: self.width,
            height: self.height,
            fps: Some(self.fps),
            kbps: Some(self.kbps.into()),
            keyframe_s: Some(self.keyframe_interval_s),
            b_frames: Some(false),
            open_gop: false,
        }
    }
}

impl fmt::Display for VideoRendition {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { width, height, fps, kbps, keyframe_interval_s, .. } = self;
        let fps = (fps * 100.0).round() / 100.0;
        write!(
            f,
            "{CODEC}, {width}×{height}, {fps} frames/s, {kbps} kbit/s, keyframes every {keyframe_interval_s} s"
        )
    }
}

/// Returns the video for a destination, with the reasons; `None` if that of the feed is accepted, or the platform does
/// not accept H.264.
pub(super) fn choose(
    video: &MeasuredVideo,
    requirements: Requirements<'_>,
) -> (Option<VideoRendition>, Vec<Need>) {
    let none = VideoRules::default();
    let rules = requirements.rules.map_or(&none, |rules| &rules.video);
    let bounds = Bounds::of(rules, &requirements);
    let needs = needs(video, &requirements, rules, &bounds);
    let is_encodable = rules.codecs.is_empty() || rules.codecs.iter().any(|codec| codec == CODEC);
    if needs.is_empty() || !is_encodable {
        return (None, needs);
    }
    let (width, height) = fit(video.width, video.height, &bounds);
    let feed_fps = video.fps.unwrap_or(DEFAULT_FPS);
    let frame_divisor = divisor(feed_fps, bounds.max_fps);
    let fps = feed_fps / f64::from(frame_divisor);
    let recommended = requirements.rules.and_then(|rules| rules.recommended(height, fps));
    let estimated = estimated_kbps(width, height, fps);
    // A recommendation is for the highest frame rate that it covers.
    let default_kbps = recommended
        .map_or(estimated, |range| (estimated * 2).max(range.from_kbps.into()).min(range.to_kbps.into()));
    let kbps = default_kbps.max(MIN_KBPS).min(bounds.max_kbps.unwrap_or(u64::MAX));
    let rendition = VideoRendition {
        width,
        height,
        frame_divisor,
        fps,
        kbps: u32::try_from(kbps).unwrap_or(u32::MAX),
        keyframe_interval_s: keyframe_interval(rules),
    };
    (Some(rendition), needs)
}

/// Limits of the platform, of a person and of the uplink together.
struct Bounds {
    max_width: Option<u32>,
    max_lines: Option<u32>,
    max_fps: Option<f64>,
    max_kbps: Option<u64>,
}

impl Bounds {
    fn of(rules: &VideoRules, requirements: &Requirements<'_>) -> Self {
        let limit = &requirements.limit;
        let rates = [rules.ceiling_kbps, limit.kbps, requirements.available_kbps];
        Self {
            max_width: rules.max_width,
            max_lines: [rules.max_lines, limit.lines].into_iter().flatten().min(),
            max_fps: [rules.max_fps, limit.fps].into_iter().flatten().reduce(f64::min),
            max_kbps: rates.into_iter().flatten().min().map(u64::from),
        }
    }
}

fn needs(
    video: &MeasuredVideo,
    requirements: &Requirements<'_>,
    rules: &VideoRules,
    bounds: &Bounds,
) -> Vec<Need> {
    let mut needs = Vec::new();
    let mut add = |check, reason: String| needs.push(Need { check, reason });
    if !rules.codecs.is_empty() && !rules.codecs.contains(&video.codec) {
        let accepted = rules.codecs.join(" or ");
        add("video-codec", format!("the platform accepts {accepted}, not {}", video.codec));
    }
    let is_too_wide = bounds.max_width.is_some_and(|max| video.width > max);
    let is_too_high = bounds.max_lines.is_some_and(|max| video.height > max);
    if is_too_wide || is_too_high {
        add("size", format!("{}×{} exceeds the maximum size", video.width, video.height));
    }
    if let (Some(fps), Some(max)) = (video.fps, bounds.max_fps)
        && fps > max + tolerance::FPS
    {
        add("frame-rate", format!("{fps:.1} frames/s exceed {max} frames/s"));
    }
    if let (Some(kbps), Some(max)) = (video.kbps, bounds.max_kbps)
        && tolerance::exceeds_ceiling(kbps, max)
    {
        add("bit-rate", format!("{kbps} kbit/s exceed {max} kbit/s"));
    }
    if let (Some(interval), Some(max)) = (video.keyframe_s, rules.max_keyframe_interval_s)
        && interval > max + tolerance::KEYFRAME_INTERVAL_S
    {
        add(
            "keyframes",
            format!("keyframes are {interval:.1} s apart, the platform requires at most {max} s"),
        );
    }
    if rules.b_frames == Some(false) && video.b_frames == Some(true) {
        add("b-frames", "the platform accepts no B-frames, and the feed has some".to_owned());
    }
    if video.open_gop && requirements.protocol != Protocol::Srt && requirements.rules.is_some() {
        add("open-gop", "the feed has recovery points instead of IDR frames".to_owned());
    }
    needs
}

/// Scales a size down to fit the bounds, keeping its aspect ratio up to one sample. Sides are even, as 4:2:0 requires.
fn fit(width: u32, height: u32, bounds: &Bounds) -> (u32, u32) {
    let (full_width, full_height) = (u64::from(width.max(2)), u64::from(height.max(2)));
    let max_width = bounds.max_width.map_or(full_width, u64::from).min(full_width);
    let max_height = bounds.max_lines.map_or(full_height, u64::from).min(full_height);
    // The side that is scaled more decides.
    let (width, height) = if full_width * max_height <= max_width * full_height {
        (full_width * max_height / full_height, max_height)
    } else {
        (max_width, full_height * max_width / full_width)
    };
    let even = |side: u64| u32::try_from(side & !1).unwrap_or(u32::MAX).max(2);
    (even(width), even(height))
}

/// Returns the smallest divisor that brings `fps` down to `max`: frames are dropped evenly.
fn divisor(fps: f64, max: Option<f64>) -> u32 {
    let Some(max) = max else { return 1 };
    (1..=64).find(|divisor| fps / f64::from(*divisor) <= max + tolerance::FPS).unwrap_or(64)
}

fn estimated_kbps(width: u32, height: u32, fps: f64) -> u64 {
    #[expect(
        clippy::as_conversions,
        clippy::cast_possible_truncation,
        clippy::cast_sign_loss,
        reason = "a frame rate is small and positive"
    )]
    let fps = fps.round().max(1.0) as u64;
    u64::from(width) * u64::from(height) * fps * MILLIBITS_PER_SAMPLE / 1_000_000
}

fn keyframe_interval(rules: &VideoRules) -> f64 {
    let max = rules.max_keyframe_interval_s.unwrap_or(DEFAULT_KEYFRAME_INTERVAL_S);
    max.min(DEFAULT_KEYFRAME_INTERVAL_S).max(rules.min_keyframe_interval_s.unwrap_or(0.0))
}
