//! Correction of the source's clocks: their rate, and the remaining phase error.
//!
//! Each track's lateness against our clock is reduced to its minimum over a window. The slope of these minima is the
//! rate ([`RateEstimator`]), which is corrected whole. The minimum itself is the phase, which is corrected by at most
//! [`MAX_PHASE_PPM`] so that nobody sees or hears it.

use std::time::Duration;

use crate::unit::{PerTrack, TICKS_PER_SECOND, Track};

use super::rate::RateEstimator;

/// Shortest time over which the smallest lateness is taken.
const WINDOW: Duration = Duration::from_secs(10);
/// Longest: a camera with few frames per second gets this long to deliver enough of them.
const MAX_WINDOW: Duration = Duration::from_secs(60);
/// Units of a window that is closed after [`WINDOW`] …
const MIN_UNITS: u32 = 20;
/// … and of one that is closed after [`MAX_WINDOW`].
const MIN_UNITS_SLOW: u32 = 3;
/// Phase error that is left alone: ten milliseconds.
const DEAD_BAND: i64 = TICKS_PER_SECOND / 100;
/// Phase error beyond which correction by slewing would take too long: the source is re-anchored.
pub(super) const MAX_PHASE: i64 = TICKS_PER_SECOND;
/// Largest correction of the phase, in parts per million of the time that passes.
pub(super) const MAX_PHASE_PPM: i64 = 500;
const MILLION: i64 = 1_000_000;
/// Windows in a row with a phase error above [`MAX_PHASE`] before the source is re-anchored.
const WINDOWS_TO_REANCHOR: u32 = 2;

/// Smallest lateness of one track within a window.
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

/// A correction that is applied little by little.
#[derive(Debug, Default)]
struct Slew {
    pending: i64,
}

impl Slew {
    /// Sets the error to correct. An error within the dead band is left alone until it has grown; once correction has
    /// begun it continues to zero.
    fn aim(&mut self, error: i64) {
        self.pending = if error.abs() > DEAD_BAND || self.pending != 0 { error } else { 0 };
    }

    fn step(&mut self, max: i64) -> i64 {
        let step = self.pending.clamp(-max, max);
        self.pending -= step;
        step
    }
}

/// Corrections of one track.
#[derive(Debug, Default)]
struct TrackDrift {
    window: LatenessWindow,
    rate: RateEstimator,
    phase: Slew,
    /// Sum of all corrections of the offset since the session began, in ticks: lateness plus this is uncorrected.
    applied: i64,
    /// Part of a tick that the rate correction has not applied yet, in millionths.
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

/// Both tracks' clocks against ours, and the audio's against the video's.
#[derive(Debug, Default)]
pub(super) struct Drift {
    tracks: PerTrack<TrackDrift>,
    window_began: Option<Duration>,
    stepped: Option<Duration>,
    /// By how much the audio's smallest lateness exceeds the video's when their offsets are right.
    audio_behind: Option<i64>,
    /// Windows in a row whose phase error was too large to slew.
    large_errors: u32,
    reanchor: Option<i64>,
}

impl Drift {
    /// Starts over with a new session. Rates are kept, and so is a phase correction under way.
    pub(super) fn begin_session(&mut self) {
        self.restart(Track::Video);
        self.restart(Track::Audio);
        self.window_began = None;
    }

    /// Restarts one track after a jump of its clock. The other one is measured further: a track that jumps again
    /// and again must not keep it from being corrected.
    pub(super) fn restart(&mut self, track: Track) {
        self.tracks.get_mut(track).restart();
        self.tracks.audio.phase = Slew::default();
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

    /// Notes a correction of a track's offset that was made elsewhere.
    pub(super) fn note_correction(&mut self, track: Track, ticks: i64) {
        self.tracks.get_mut(track).applied += ticks;
    }

    /// The phase error in ticks by which the source is to be re-anchored, once, at a keyframe.
    pub(super) fn take_reanchor(&mut self) -> Option<i64> {
        self.reanchor.take()
    }

    /// Advances to `now`, which is `now_ticks` on our clock. Returns the ticks by which each track's offset is to be
    /// moved. `audio_is_led` when sender reports place the audio already.
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
        // Nothing is sent before there is video.
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
                self.tracks.audio.phase = Slew::default();
                self.audio_behind = None;
            }
            (Some(audio), Some(behind)) => self.tracks.audio.phase.aim(audio - video - behind),
            (Some(audio), None) => self.audio_behind = Some(audio - video),
            (None, _) => {}
        }
    }
}
