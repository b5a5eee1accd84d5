//! Measurement of a stream frame by frame.

use std::time::Duration;

use crate::ticks::{TICKS_PER_SECOND, to_millis, to_seconds};

/// Maximum number of keyframe intervals: an hour of keyframes every second.
const MAX_INTERVALS: usize = 3_600;

/// Shortest, median and longest interval.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Intervals {
    /// Seconds.
    pub min_s: f64,
    /// Seconds.
    pub median_s: f64,
    /// Seconds.
    pub max_s: f64,
}

/// Measurements.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Measured {
    /// Media time that the frames span.
    pub span: Duration,
    /// Video frames.
    pub pictures: u64,
    /// Audio frames.
    pub audio_frames: u64,
    /// Frames per second.
    pub fps: Option<f64>,
    /// Video bit rate, in kilobits (1000 bits) per second.
    pub video_kbps: u64,
    /// Audio bit rate, in kilobits per second.
    pub audio_kbps: u64,
    /// Maximum bit rate of both over one second.
    pub peak_kbps: u64,
    /// Keyframe intervals; `None` before the second keyframe.
    pub keyframes: Option<Intervals>,
    /// Frames are sent in another order than they are shown in (B-frames).
    pub reordered: bool,
    /// Keyframes that are recovery points of an open GOP instead of IDR frames.
    pub recovery_points: u64,
}

/// Bytes of the second in progress.
#[derive(Debug, Clone, Copy, Default)]
struct Second {
    /// Number of the second since the first frame.
    number: i64,
    bytes: u64,
}

/// Measures one stream by its decoding times, so that bursts on arrival do not matter. Memory is bounded.
#[derive(Debug, Default)]
pub struct SurveyMeter {
    first: Option<i64>,
    last: i64,
    last_shown: Option<i64>,
    pictures: u64,
    audio_frames: u64,
    video_bytes: u64,
    audio_bytes: u64,
    last_picture_bytes: u64,
    second: Second,
    peak_bytes: u64,
    last_keyframe: Option<i64>,
    keyframes: Vec<i64>,
    reordered: bool,
    recovery_points: u64,
}

impl SurveyMeter {
    /// Adds a frame: decoding and presentation time in ticks of 1/90 000 s.
    pub fn add_frame(&mut self, dts: i64, pts: i64, bytes: usize, keyframe: bool) {
        let bytes = u64::try_from(bytes).unwrap_or_default();
        self.first.get_or_insert(dts);
        self.last = dts;
        self.pictures += 1;
        self.video_bytes += bytes;
        self.last_picture_bytes = bytes;
        self.reordered |= self.last_shown.is_some_and(|last| pts < last);
        self.last_shown = Some(pts);
        if keyframe
            && let Some(last) = self.last_keyframe.replace(dts)
            && self.keyframes.len() < MAX_INTERVALS
        {
            self.keyframes.push(dts - last);
        }
        self.count(dts, bytes);
    }

    /// Counts the last frame as a recovery point without IDR.
    pub fn add_recovery_point(&mut self) {
        self.recovery_points += 1;
    }

    /// Adds an audio frame.
    pub fn add_audio(&mut self, dts: i64, bytes: usize) {
        let bytes = u64::try_from(bytes).unwrap_or_default();
        // Audio before the first video frame does not count.
        if self.first.is_some() {
            self.audio_frames += 1;
            self.audio_bytes += bytes;
            self.count(dts, bytes);
        }
    }

    fn count(&mut self, dts: i64, bytes: u64) {
        let second = (dts - self.first.unwrap_or(dts)).div_euclid(TICKS_PER_SECOND);
        // Audio may lag behind the video: it counts to the current second.
        if second > self.second.number {
            self.peak_bytes = self.peak_bytes.max(self.second.bytes);
            self.second = Second { number: second, bytes: 0 };
        }
        self.second.bytes += bytes;
    }

    /// Returns the measurements so far.
    #[must_use]
    pub fn measured(&self) -> Measured {
        let ticks = self.first.map_or(0, |first| self.last - first).max(0);
        let span_s = to_seconds(ticks);
        // The last frame begins at the end of the span, so its bytes are left out.
        let video = self.video_bytes - self.last_picture_bytes;
        let kbps = |bytes: u64| -> u64 {
            let millis = to_millis(ticks);
            (bytes * 8).checked_div(millis).unwrap_or_default()
        };
        let intervals = u32::try_from(self.pictures.saturating_sub(1)).unwrap_or(u32::MAX);
        Measured {
            span: Duration::from_secs_f64(span_s),
            pictures: self.pictures,
            audio_frames: self.audio_frames,
            fps: (ticks > 0 && intervals >= 4).then(|| f64::from(intervals) / span_s),
            video_kbps: kbps(video),
            audio_kbps: kbps(self.audio_bytes),
            peak_kbps: (self.peak_bytes * 8 / 1000).max(kbps(video) + kbps(self.audio_bytes)),
            keyframes: self.intervals(),
            reordered: self.reordered,
            recovery_points: self.recovery_points,
        }
    }

    fn intervals(&self) -> Option<Intervals> {
        let mut sorted = self.keyframes.clone();
        sorted.sort_unstable();
        let (min, max) = (sorted.first()?, sorted.last()?);
        let median = sorted.get(sorted.len() / 2)?;
        Some(Intervals { min_s: to_seconds(*min), median_s: to_seconds(*median), max_s: to_seconds(*max) })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Ten seconds of 25 frames a second: a keyframe of 10 kB every two seconds, other frames of 2 kB.
    fn measured(order: impl Fn(i64) -> i64) -> Measured {
        let mut meter = SurveyMeter::default();
        for frame in 0..=250 {
            let key = frame % 50 == 0;
            meter.add_frame(frame * 3_600, order(frame) * 3_600, if key { 10_000 } else { 2_000 }, key);
            if frame % 2 == 0 {
                meter.add_audio(frame * 3_600, 500);
            }
        }
        meter.measured()
    }

    #[test]
    fn rates_and_intervals_are_those_of_the_stream() {
        let measured = measured(|frame| frame);
        assert_eq!(measured.span, Duration::from_secs(10));
        assert!((measured.fps.unwrap() - 25.0).abs() < 0.001);
        // 245 frames of 2 kB and 5 of 10 kB in ten seconds.
        assert_eq!((measured.video_kbps, measured.audio_kbps), (432, 50));
        let intervals = measured.keyframes.unwrap();
        assert_eq!((intervals.min_s, intervals.median_s, intervals.max_s), (2.0, 2.0, 2.0));
        assert!(!measured.reordered);
    }

    #[test]
    fn peak_second_contains_a_keyframe() {
        let measured = measured(|frame| frame);
        // 24 frames of 2 kB, one of 10 kB, and 13 of audio.
        assert_eq!(measured.peak_kbps, (58_000 + 13 * 500) * 8 / 1000);
    }

    #[test]
    fn reordered_frames_are_detected() {
        assert!(measured(|frame| frame + if frame % 3 == 1 { 2 } else { 0 }).reordered);
    }

    #[test]
    fn too_few_frames_yield_no_rates() {
        let mut meter = SurveyMeter::default();
        assert_eq!(meter.measured(), Measured::default());
        meter.add_audio(0, 10);
        meter.add_frame(0, 0, 100, true);
        let measured = meter.measured();
        assert_eq!((measured.fps, measured.video_kbps, measured.keyframes), (None, 0, None));
        assert_eq!((measured.pictures, measured.audio_frames), (1, 0));
    }
}
