//! Grading of a received stream by the rules of a typical platform.
//!
//! A [`Grader`] observes one channel. Its input is independent of the container: headers, frames and the time, so stand-in
//! platforms and rehearsals grade alike over every protocol.

mod finding;
mod report;

use std::time::Duration;

use crate::ticks::{TICKS_PER_SECOND, to_millis, to_seconds};

pub use finding::{Finding, MediaKind};
pub use report::{AudioHeaders, ChannelReport, VideoHeaders};

/// Longest keyframe interval that grades as good, in ticks of 1/90 000 s.
const MAX_KEYFRAME: i64 = 4 * TICKS_PER_SECOND;
/// Longest gap in media time that grades as good.
const MAX_GAP: i64 = 3 * TICKS_PER_SECOND / 2;
/// Largest offset between video and audio that grades as good.
const MAX_SKEW: i64 = TICKS_PER_SECOND / 2;
/// Longest time without data that grades as good.
const MAX_STALL: Duration = Duration::from_millis(2_500);

/// Received video frame.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct FrameInfo {
    /// Decoding time in ticks of 1/90 000 s.
    pub dts: i64,
    /// Presentation time in the same ticks.
    pub pts: i64,
    /// Marked as a keyframe.
    pub keyframe: bool,
    /// Size in bytes, including the container's overhead.
    pub bytes: u64,
}

/// Grades one channel.
#[derive(Debug, Default)]
pub struct Grader {
    pictures: u64,
    audio_frames: u64,
    video: Option<VideoHeaders>,
    audio: Option<AudioHeaders>,
    broadcast: Broadcast,
}

/// Pair of values, for video and audio.
#[derive(Debug, Default)]
struct PerTrack<T> {
    picture: T,
    audio: T,
}

impl<T> PerTrack<T> {
    fn of(&mut self, half: MediaKind) -> &mut T {
        match half {
            MediaKind::Video => &mut self.picture,
            MediaKind::Audio => &mut self.audio,
        }
    }
}

/// Bytes of the current second, and the maximum of the seconds before.
#[derive(Debug, Clone, Copy, Default)]
struct PeakSecond {
    since: Duration,
    bytes: u64,
    max_before: u64,
}

impl PeakSecond {
    fn add(&mut self, bytes: u64, now: Duration) {
        if now.saturating_sub(self.since) >= Duration::from_secs(1) {
            *self = Self { since: now, bytes, max_before: self.peak() };
        } else {
            self.bytes += bytes;
        }
    }

    /// Returns the maximum number of bytes in a second.
    fn peak(&self) -> u64 {
        self.max_before.max(self.bytes)
    }
}

#[derive(Debug, Default)]
struct Broadcast {
    began: Option<Duration>,
    ended: Option<Duration>,
    headers: bool,
    pictures: u64,
    bytes: PerTrack<u64>,
    second: PeakSecond,
    first_dts: Option<i64>,
    last: PerTrack<Option<i64>>,
    keyframe_at: Option<i64>,
    keyframe_longest: i64,
    reorders: bool,
    skew: i64,
    came: Option<Duration>,
    longest_stall: Duration,
    findings: Vec<Finding>,
}

impl Grader {
    /// Begins a broadcast.
    pub fn begin(&mut self, now: Duration) {
        self.broadcast = Broadcast {
            began: Some(now),
            second: PeakSecond { since: now, ..PeakSecond::default() },
            ..Broadcast::default()
        };
    }

    /// Ends the broadcast.
    pub fn end(&mut self, now: Duration) {
        self.broadcast.ended = Some(now);
    }

    /// Adds video headers; `None` if they cannot be parsed.
    pub fn add_video_headers(&mut self, seen: Option<VideoHeaders>) {
        self.broadcast.headers = true;
        self.video = seen.or_else(|| self.video.take());
    }

    /// Adds audio headers.
    pub fn add_audio_headers(&mut self, seen: AudioHeaders) {
        self.audio = Some(seen);
    }

    /// Adds a video frame.
    pub fn add_frame(&mut self, picture: FrameInfo, now: Duration) {
        self.pictures += 1;
        self.broadcast.add_frame(picture);
        self.broadcast.add_bytes(MediaKind::Video, picture.bytes, now);
    }

    /// Adds an audio frame with its time in ticks of 1/90 000 s.
    pub fn add_audio(&mut self, pts: i64, bytes: u64, now: Duration) {
        self.audio_frames += 1;
        self.broadcast.add_time(MediaKind::Audio, pts, pts);
        self.broadcast.add_bytes(MediaKind::Audio, bytes, now);
    }

    /// Adds data that cannot be parsed.
    pub fn add_unreadable(&mut self, what: impl Into<String>) {
        self.broadcast.find(Finding::Unreadable(what.into()));
    }

    /// Returns the report up to `now`.
    #[must_use]
    pub fn report(&self, live: bool, broadcasts: u64, now: Duration) -> ChannelReport {
        let broadcast = &self.broadcast;
        let mut findings = broadcast.findings.clone();
        if self.pictures == 0 {
            findings.push(Finding::Empty);
        }
        let until = broadcast.ended.unwrap_or(now);
        let span = broadcast.began.map_or(Duration::ZERO, |began| until.saturating_sub(began));
        let PerTrack { picture: video, audio } = broadcast.bytes;
        let kbps = |bytes: u64| {
            let span = u64::try_from(span.as_millis()).unwrap_or(u64::MAX);
            (bytes * 8).checked_div(span).unwrap_or_default()
        };
        ChannelReport {
            live,
            broadcasts,
            pictures: self.pictures,
            audio_frames: self.audio_frames,
            video: self.video.clone(),
            audio: self.audio.clone().filter(|_| self.audio_frames > 0),
            span,
            fps: broadcast.fps(),
            kbps: kbps(video + audio),
            video_kbps: kbps(video),
            audio_kbps: kbps(audio),
            peak_kbps: broadcast.second.peak() * 8 / 1_000,
            keyframe_ms: to_millis(broadcast.keyframe_longest),
            b_frames: broadcast.reorders,
            skew_ms: to_millis(broadcast.skew),
            longest_stall: broadcast.longest_stall,
            findings,
        }
    }
}

impl Broadcast {
    /// Adds a finding; only the first of each kind is kept.
    fn find(&mut self, finding: Finding) {
        let kind = std::mem::discriminant(&finding);
        if !self.findings.iter().any(|known| std::mem::discriminant(known) == kind) {
            self.findings.push(finding);
        }
    }

    fn fps(&self) -> Option<f64> {
        let span = self.last.picture? - self.first_dts?;
        let intervals = u32::try_from(self.pictures.checked_sub(1)?).ok()?;
        (span > 0).then(|| f64::from(intervals) / to_seconds(span))
    }

    fn add_bytes(&mut self, half: MediaKind, bytes: u64, now: Duration) {
        *self.bytes.of(half) += bytes;
        self.second.add(bytes, now);
        if let Some(came) = self.came.replace(now) {
            let stall = now.saturating_sub(came);
            self.longest_stall = self.longest_stall.max(stall);
            if stall > MAX_STALL {
                self.find(Finding::Stalled(stall));
            }
        }
    }

    fn add_frame(&mut self, picture: FrameInfo) {
        let FrameInfo { dts, pts, keyframe, .. } = picture;
        if !self.headers {
            self.find(Finding::NoHeaders);
        }
        if self.keyframe_at.is_none() && !keyframe {
            self.find(Finding::FirstNotKeyframe);
        }
        self.pictures += 1;
        self.reorders |= pts != dts;
        self.first_dts.get_or_insert(dts);
        if keyframe && let Some(last) = self.keyframe_at.replace(dts) {
            let interval = dts - last;
            self.keyframe_longest = self.keyframe_longest.max(interval);
            if interval > MAX_KEYFRAME {
                self.find(Finding::KeyframesFarApart(to_millis(interval)));
            }
        }
        self.add_time(MediaKind::Video, dts, pts);
    }

    fn add_time(&mut self, half: MediaKind, time: i64, shown: i64) {
        if let Some(last) = self.last.of(half).replace(time) {
            let step = time - last;
            if step < 0 {
                self.find(Finding::TimeStepsBack(half));
            } else if step > MAX_GAP {
                self.find(Finding::Gap(half, to_millis(step)));
                // The other track probably has the same gap: forget its time until its next frame.
                *self.last.of(half.other()) = None;
            }
        }
        if let Some(other) = *self.last.of(half.other()) {
            // A reordered frame is shown later than it is decoded: audio may be aligned with either time.
            let skew = (time - other).abs().min((shown - other).abs());
            self.skew = self.skew.max(skew);
            if skew > MAX_SKEW {
                self.find(Finding::Skew(to_millis(skew)));
            }
        }
    }
}

#[cfg(test)]
mod tests;
