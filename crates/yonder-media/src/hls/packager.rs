//! Packager: units of an output to segments.

use std::sync::Arc;

use bytes::Bytes;

use crate::fmp4::{self, TrackRun, fragment};
use crate::stream::{AudioConfig, StreamHeaders, VideoConfig};
use crate::ticks::{TICKS_PER_SECOND, from_millis, of_samples, to_millis};
use crate::timeline::Timestamps;
use crate::unit::{AccessUnit, Track};

use super::segment::{InitSection, Segment};

/// Longest distance of two video frames within a segment, in ticks. A longer one is a gap.
const MAX_FRAME_TICKS: i64 = TICKS_PER_SECOND;
/// Duration of a single frame of unknown duration, in ticks.
const DEFAULT_FRAME_TICKS: i64 = TICKS_PER_SECOND / 25;
/// Samples in an AAC frame (ISO/IEC 14496-3, 4.5.1.1).
const AAC_SAMPLES: i64 = 1_024;
/// Difference between the wall clock and the dates of segments beyond which the clock counts as stepped, in milliseconds.
const MAX_CLOCK_STEP_MS: i64 = 2_000;
/// Added to the output's times, in ticks: `tfdt` has no negative ones.
const TIME_BASE: i64 = 10 * TICKS_PER_SECOND;
/// Initialization sections that are remembered, so that a return to former headers names the former section.
const MAX_INITS: usize = 8;

/// Settings of a packager.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PackagerConfig {
    /// Number of the first segment and of the first initialization section.
    pub first_number: u64,
    /// Duration from which a segment ends at the next keyframe, in ticks.
    pub min_ticks: i64,
    /// Size from which a segment without a further keyframe is discarded, in bytes.
    pub max_bytes: usize,
}

/// Segment that is being written.
#[derive(Debug)]
struct OpenSegment {
    headers: Arc<StreamHeaders>,
    follows_gap: bool,
    begins_ms: i64,
    begin_dts: i64,
    frames: u32,
    video: TrackRun,
    /// Decoding time of the last video frame.
    video_dts: i64,
    audio: Option<TrackRun>,
    /// Decoding time of the last audio frame.
    audio_dts: i64,
}

impl OpenSegment {
    fn bytes(&self) -> usize {
        self.video.len() + self.audio.as_ref().map_or(0, TrackRun::len)
    }
}

/// Makes segments of units. Video that is not H.264 or H.265, and audio that is not AAC, is left out.
#[derive(Debug)]
pub struct Packager {
    config: PackagerConfig,
    next_number: u64,
    next_init: u64,
    /// Sequence number of fragments (8.8.5).
    fragments: u32,
    open: Option<OpenSegment>,
    /// Duration of the last video frame, in ticks.
    frame_ticks: i64,
    /// The next segment follows a gap.
    follows_gap: bool,
    inits: Vec<Arc<InitSection>>,
    /// Section of the last segment.
    last_init: Option<Arc<InitSection>>,
    /// Date of the end of the last segment, in ticks since 1970.
    next_date_ticks: Option<i64>,
    finished: Option<Segment>,
    /// Video frames that were discarded.
    discarded: u64,
}

impl Packager {
    /// Creates a packager. It begins at the first keyframe.
    #[must_use]
    pub fn new(config: PackagerConfig) -> Self {
        Self {
            config,
            next_number: config.first_number,
            next_init: config.first_number,
            fragments: 0,
            open: None,
            frame_ticks: DEFAULT_FRAME_TICKS,
            follows_gap: false,
            inits: Vec::new(),
            last_init: None,
            next_date_ticks: None,
            finished: None,
            discarded: 0,
        }
    }

    /// Handles a unit with its timestamps on the output. `wall_ms` returns the wall time of an output time, in milliseconds
    /// since 1970. Returns a segment when the unit ends one.
    pub fn handle_unit(
        &mut self,
        unit: &AccessUnit,
        times: Timestamps,
        headers: &Arc<StreamHeaders>,
        wall_ms: impl FnOnce(i64) -> i64,
    ) -> Option<Segment> {
        match unit.track {
            Track::Video => self.handle_video(unit, times, headers, wall_ms),
            Track::Audio => self.handle_audio(unit, times, headers),
        }
        self.finished.take()
    }

    /// Ends the open segment, and marks the next one as discontinuous: the times that follow are those of another output.
    pub fn cut(&mut self) -> Option<Segment> {
        self.close(None);
        self.follows_gap = true;
        self.finished.take()
    }

    /// Returns the video frames that were discarded with segments that were too large.
    #[must_use]
    pub fn discarded(&self) -> u64 {
        self.discarded
    }

    fn handle_video(
        &mut self,
        unit: &AccessUnit,
        times: Timestamps,
        headers: &Arc<StreamHeaders>,
        wall_ms: impl FnOnce(i64) -> i64,
    ) {
        let since_last = self.open.as_ref().map(|open| times.dts - open.video_dts);
        match since_last {
            Some(ticks) if !(1..=MAX_FRAME_TICKS).contains(&ticks) => self.finished = self.cut(),
            Some(_) if unit.keyframe && self.is_complete(times.dts, headers) => self.close(Some(times.dts)),
            Some(ticks) => self.set_video_duration(ticks),
            None => {}
        }
        if self.open.is_none() {
            if !unit.keyframe || headers.video.is_none() {
                return;
            }
            let Some(time) = fragment_time(times.dts) else { return };
            self.open = Some(OpenSegment {
                headers: Arc::clone(headers),
                follows_gap: std::mem::take(&mut self.follows_gap),
                begins_ms: wall_ms(times.pts),
                begin_dts: times.dts,
                frames: 0,
                video: TrackRun::new(Track::Video, time),
                video_dts: times.dts,
                audio: None,
                audio_dts: times.dts,
            });
        }
        self.write_video(unit, times);
    }

    /// Returns true if the keyframe at `dts` begins the next segment.
    fn is_complete(&self, dts: i64, headers: &Arc<StreamHeaders>) -> bool {
        self.open.as_ref().is_some_and(|open| {
            let is_same = Arc::ptr_eq(&open.headers, headers) || open.headers == *headers;
            !is_same || dts - open.begin_dts >= self.config.min_ticks
        })
    }

    /// Sets the duration of the last video frame of the open segment.
    fn set_video_duration(&mut self, ticks: i64) {
        self.frame_ticks = ticks;
        if let Some(open) = &mut self.open {
            open.video.set_last_duration(to_u32(ticks));
        }
    }

    /// Writes a video frame to the open segment. A segment that becomes too large is discarded.
    fn write_video(&mut self, unit: &AccessUnit, times: Timestamps) {
        let Some(open) = &mut self.open else { return };
        let Some(codec) = open.headers.video.as_ref().map(VideoConfig::codec) else { return };
        open.video.push(unit, codec, to_u32(times.pts - times.dts));
        open.video_dts = times.dts;
        open.frames += 1;
        if open.bytes() > self.config.max_bytes {
            self.discarded += u64::from(open.frames);
            self.open = None;
            self.follows_gap = true;
        }
    }

    /// Writes an audio frame to the open segment. Audio with other headers than those of the segment is left out up to the
    /// next keyframe.
    fn handle_audio(&mut self, unit: &AccessUnit, times: Timestamps, headers: &Arc<StreamHeaders>) {
        let Some(open) = self.open.as_mut().filter(|open| open.headers.audio == headers.audio) else {
            return;
        };
        let Some(config @ AudioConfig::Aac { .. }) = &headers.audio else { return };
        let (Some(video), Some(time)) = (&open.headers.video, fragment_time(times.dts)) else { return };
        let codec = video.codec();
        match &mut open.audio {
            Some(run) => run.set_last_duration(to_u32(times.dts - open.audio_dts)),
            None => open.audio = Some(TrackRun::new(Track::Audio, time)),
        }
        if let Some(run) = &mut open.audio {
            run.push(unit, codec, 0);
            // Right for the last frame of the segment.
            run.set_last_duration(to_u32(of_samples(AAC_SAMPLES, config.sample_rate())));
        }
        open.audio_dts = times.dts;
    }

    /// Ends the open segment. Its last frame lasts until `next`, or as long as the frame before it.
    fn close(&mut self, next: Option<i64>) {
        let Some(video_dts) = self.open.as_ref().map(|open| open.video_dts) else { return };
        self.set_video_duration(next.map_or(self.frame_ticks, |next| next - video_dts));
        let Some(open) = self.open.take() else { return };
        // Players wait for audio that the initialization section announces.
        let audio = open.headers.audio.clone().filter(|_| open.audio.is_some());
        let headers = StreamHeaders { video: open.headers.video.clone(), audio };
        let Some(init) = self.init(&headers) else { return };
        let has_changed = self.last_init.as_ref().is_some_and(|last| *last != init);
        self.last_init = Some(Arc::clone(&init));
        let is_discontinuous = open.follows_gap || has_changed;
        let ticks = open.video.ticks();
        let begins_ms = self.date(open.begins_ms, is_discontinuous);
        self.next_date_ticks = Some(from_millis(begins_ms).saturating_add(ticks));
        self.fragments = self.fragments.wrapping_add(1);
        self.finished = Some(Segment {
            number: self.next_number,
            begins_ms,
            ticks,
            frames: open.frames,
            is_discontinuous,
            init,
            pieces: fragment(self.fragments, [Some(open.video), open.audio].into_iter().flatten()),
        });
        self.next_number += 1;
    }

    /// Returns the date of a segment: after the one before it, unless the wall clock was stepped.
    fn date(&self, wall_ms: i64, is_discontinuous: bool) -> i64 {
        let expected = self.next_date_ticks.filter(|_| !is_discontinuous).map(to_millis);
        expected.filter(|expected| (wall_ms - expected).abs() <= MAX_CLOCK_STEP_MS).unwrap_or(wall_ms)
    }

    /// Returns the initialization section of these headers.
    fn init(&mut self, headers: &StreamHeaders) -> Option<Arc<InitSection>> {
        let bytes: Bytes = fmp4::initialisation(headers)?;
        if let Some(known) = self.inits.iter().find(|init| init.bytes == bytes) {
            return Some(Arc::clone(known));
        }
        let facts = headers.video.as_ref()?.facts();
        let init = Arc::new(InitSection {
            number: self.next_init,
            bytes,
            codecs: fmp4::codecs(headers)?.replace(' ', ""),
            width: facts.width,
            height: facts.height,
        });
        self.next_init += 1;
        if self.inits.len() >= MAX_INITS {
            self.inits.remove(0);
        }
        self.inits.push(Arc::clone(&init));
        Some(init)
    }
}

/// Returns a decoding time as in `tfdt`; `None` for one long before the clock's zero.
fn fragment_time(dts: i64) -> Option<u64> {
    u64::try_from(dts.saturating_add(TIME_BASE)).ok()
}

fn to_u32(ticks: i64) -> u32 {
    u32::try_from(ticks).unwrap_or_default()
}
