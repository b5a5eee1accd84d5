//! Correction of the source's clocks: their rate, and the remaining phase error.
//!
//! Each track's lateness against our clock is reduced to its minimum over a window. The slope of these minima is the
//! rate error ([`RateEstimator`]), which is corrected completely. The minimum itself is the phase error, which is
//! corrected by at most [`MAX_PHASE_PPM`], below the threshold of perception.

use std::time::Duration;

use crate::ticks::TICKS_PER_SECOND;
use crate::unit::{PerTrack, Track};

use super::rate::RateEstimator;

/// Minimum duration of a window.
const WINDOW: Duration = Duration::from_secs(10);
/// Maximum duration of a window, for cameras with few frames per second.
const MAX_WINDOW: Duration = Duration::from_secs(60);
/// Units required to close a window after [`WINDOW`].
const MIN_UNITS: u32 = 20;
/// Units required to close a window after [`MAX_WINDOW`].
const MIN_UNITS_SLOW: u32 = 3;
/// Phase error that is not corrected: ten milliseconds.
const DEAD_BAND: i64 = TICKS_PER_SECOND / 100;
/// Phase error beyond which slewing would take too long: the source is re-anchored.
pub(super) const MAX_PHASE: i64 = TICKS_PER_SECOND;
/// Maximum slew rate, in parts per million.
pub(super) const MAX_PHASE_PPM: i64 = 500;
const MILLION: i64 = 1_000_000;
/// Consecutive windows with a phase error above [`MAX_PHASE`] before the source is re-anchored.
const WINDOWS_TO_REANCHOR: u32 = 2;

/// Minimum lateness of one track within a window.
#[derive(Debug, Default)]
struct LatenessWindow {
    minimum: Option<i64>,
    units: u32,
}

impl LatenessWindow {
    fn add(&mut self, lateness: i64) {
        self.minimum = Some(self.minimum.map_or(lateness, |minimum| minimum.min(lateness)));
        self.units = self.units.saturating_add(1);
    }
}

/// Slewing of a phase error.
#[derive(Debug, Default)]
struct SkewCorrector {
    pending: i64,
}

impl SkewCorrector {
    /// Sets the error to correct. An error within the dead band is ignored; a correction that has begun continues to zero.
    fn aim(&mut self, error: i64) {
        self.pending = if error.abs() > DEAD_BAND || self.pending != 0 { error } else { 0 };
    }

    fn step(&mut self, max: i64) -> i64 {
        let step = self.pending.clamp(-max, max);
        self.pending -= step;
        step
    }
}

/// Drift correction of one track.
#[derive(Debug, Default)]
struct TrackDrift {
    window: LatenessWindow,
    rate: RateEstimator,
    phase: SkewCorrector,
    /// Sum of all corrections of the offset since the session began, in ticks; lateness plus this is the uncorrected
    /// lateness.
    applied: i64,
    /// Fraction of a tick that the rate correction has not yet applied, in millionths.
    remainder: i64,
}

impl TrackDrift {
    /// Ends the window at `at` and returns its minimum.
    fn close(&mut self, at: i64, min_units: u32) -> Option<i64> {
        let window = std::mem::take(&mut self.window);
        let minimum = window.minimum.filter(|_| window.units >= min_units)?;
        self.rate.add(at, minimum.saturating_add(self.applied));
        Some(minimum)
    }

    fn rate_step(&mut self, elapsed: i64, ppm: i64) -> i64 {
        let millionths = elapsed.saturating_mul(ppm).saturating_add(self.remainder);
        self.remainder = millionths % MILLION;
        millionths / MILLION
    }

    fn restart(&mut self) {
        self.window = LatenessWindow::default();
        self.rate.restart();
        self.applied = 0;
    }
}

/// Drift of both tracks against our clock, and of the audio against the video.
#[derive(Debug, Default)]
pub(super) struct Drift {
    tracks: PerTrack<TrackDrift>,
    window_began: Option<Duration>,
    stepped: Option<Duration>,
    /// Difference between the audio's and the video's minimum lateness at correct offsets.
    audio_behind: Option<i64>,
    /// Consecutive windows with a phase error that is too large to slew.
    large_errors: u32,
    reanchor: Option<i64>,
}

impl Drift {
    /// Restarts for a new session. Rates and a phase correction in progress are kept.
    pub(super) fn begin_session(&mut self) {
        self.restart(Track::Video);
        self.restart(Track::Audio);
        self.window_began = None;
    }

    /// Restarts one track after a jump of its clock. The other one is not affected, so that repeated jumps of one track
    /// do not keep the other from being corrected.
    pub(super) fn restart(&mut self, track: Track) {
        self.tracks.get_mut(track).restart();
        self.tracks.audio.phase = SkewCorrector::default();
        self.audio_behind = None;
        if track == Track::Video {
            self.large_errors = 0;
            self.reanchor = None;
        }
    }

    /// Adds the lateness of a unit against our clock, in ticks.
    pub(super) fn add(&mut self, track: Track, lateness: i64) {
        self.tracks.get_mut(track).window.add(lateness);
    }

    /// Records a correction of a track's offset that was made elsewhere.
    pub(super) fn note_correction(&mut self, track: Track, ticks: i64) {
        self.tracks.get_mut(track).applied += ticks;
    }

    /// Returns the phase error in ticks by which the source must be re-anchored at a keyframe, once.
    pub(super) fn take_reanchor(&mut self) -> Option<i64> {
        self.reanchor.take()
    }

    /// Advances to `now`, which is `now_ticks` on our clock. Returns the ticks by which each track's offset must be moved.
    /// `audio_is_led` if sender reports place the audio.
    pub(super) fn handle_time(&mut self, now: Duration, now_ticks: i64, audio_is_led: bool) -> PerTrack<i64> {
        let began = *self.window_began.get_or_insert(now);
        let age = now.saturating_sub(began);
        let is_full = self.tracks.video.window.units >= MIN_UNITS;
        if age >= WINDOW && (is_full || age >= MAX_WINDOW) {
            self.window_began = Some(now);
            self.close_window(now_ticks, if is_full { MIN_UNITS } else { MIN_UNITS_SLOW }, audio_is_led);
        }
        let since = *self.stepped.get_or_insert(now);
        let elapsed = super::ticks_between(since, now);
        let max = elapsed * MAX_PHASE_PPM / MILLION;
        if max == 0 {
            return PerTrack::default();
        }
        self.stepped = Some(now);
        let PerTrack { video, audio } = &mut self.tracks;
        let phase = video.phase.step(max);
        let video_ppm = video.rate.ppm().unwrap_or_default();
        let video_step = video.rate_step(elapsed, video_ppm) + phase;
        let audio_ppm = audio.rate.ppm().unwrap_or(video_ppm);
        let audio_step = audio.rate_step(elapsed, audio_ppm) + phase + audio.phase.step(max);
        video.applied += video_step;
        audio.applied += audio_step;
        PerTrack { video: video_step, audio: audio_step }
    }

    fn close_window(&mut self, at: i64, min_units: u32, audio_is_led: bool) {
        let video = self.tracks.video.close(at, min_units);
        let audio = self.tracks.audio.close(at, min_units);
        // Before the first video frame nothing is sent.
        let Some(video) = video else { return };
        if video > MAX_PHASE {
            self.large_errors += 1;
            self.reanchor = (self.large_errors >= WINDOWS_TO_REANCHOR).then_some(video);
        } else {
            self.large_errors = 0;
        }
        self.tracks.video.phase.aim(video);
        match (audio, self.audio_behind) {
            _ if audio_is_led => {
                self.tracks.audio.phase = SkewCorrector::default();
                self.audio_behind = None;
            }
            (Some(audio), Some(behind)) => self.tracks.audio.phase.aim(audio - video - behind),
            (Some(audio), None) => self.audio_behind = Some(audio - video),
            (None, _) => {}
        }
    }
}
