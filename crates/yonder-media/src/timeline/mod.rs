//! Timeline of one source: maps the RTP time of each track to the feed's clock.
//!
//! It outlives camera sessions. Within a session a track's time is its unwrapped RTP time plus an offset; the offset is
//! chosen at the track's first unit, from sender reports where both tracks have trustworthy ones, else from the arrival
//! time. A new session, or a jump of the camera's clock, continues after the last unit, with a gap as long as on our
//! clock. Decoding times rise strictly.
//!
//! The feed's clock is ours, counted from the first unit. The camera's clock rate is estimated over minutes and
//! corrected completely; the remaining phase error is corrected by at most 500 ppm, or, beyond one second, by
//! re-anchoring at a keyframe.

mod decoded;
mod drift;
mod rate;
mod reorder;
mod report;
mod track;

use std::time::Duration;

use crate::ticks::TICKS_PER_SECOND;
use crate::unit::{PerTrack, Track};

use drift::Drift;
use track::TrackClock;

/// Frame duration assumed until the stream declares one: 25 frames a second.
const DEFAULT_FRAME_TICKS: i64 = TICKS_PER_SECOND / 25;
/// Bounds of the step back in time that reordering explains.
const MIN_STEP_BACK: i64 = TICKS_PER_SECOND / 5;
const MAX_STEP_BACK: i64 = 2 * TICKS_PER_SECOND;
/// Maximum advance ahead of the wall clock between two units; beyond it is a jump.
const MAX_RUN_AHEAD: i64 = TICKS_PER_SECOND;
/// Maximum disagreement of sender reports with arrival times; reports beyond it are ignored.
const MAX_REPORT_DISAGREEMENT: i64 = 5 * TICKS_PER_SECOND;
/// The same for reports that are not yet proven by several consistent ones.
const MAX_UNPROVEN_DISAGREEMENT: i64 = TICKS_PER_SECOND;
const PROVEN_REPORTS: u32 = 3;
/// Maximum correction of the audio offset per audio frame: half a millisecond, which is inaudible.
const MAX_CORRECTION_STEP: i64 = TICKS_PER_SECOND / 2_000;
/// Jumps of both tracks within this time are one jump of the camera's clock.
const SAME_JUMP: Duration = Duration::from_secs(2);

/// Timing parameters of a track.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct TrackTiming {
    /// RTP ticks in one second; zero is taken as 90 000.
    pub clock_rate: u32,
    /// Reorder depth in frames, if declared; `None` to detect it.
    pub reorder_frames: Option<u8>,
    /// Duration of a frame in ticks of 1/90 000 s, if known.
    pub frame_ticks: Option<i64>,
}

/// Timestamps of an access unit on the feed's clock.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Timestamps {
    /// Decoding time in ticks of 1/90 000 s.
    pub dts: i64,
    /// Presentation time in ticks of 1/90 000 s, never before `dts`.
    pub pts: i64,
}

/// Irregularity of the source's clock, for the log.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TimelineEvent {
    /// The clock of a track jumped; the track continues after its last unit.
    Jumped {
        /// The track.
        track: Track,
        /// RTP time minus its expected value, in ticks.
        ticks: i64,
    },
    /// The source had fallen behind our clock and was moved forward at a keyframe.
    Reanchored {
        /// Phase error in ticks.
        ticks: i64,
    },
}

/// Clock of one feed.
#[derive(Debug, Default)]
pub struct Timeline {
    tracks: PerTrack<TrackClock>,
    /// Origin of the session, or of its part after the last jump: on the feed's clock, and by arrival.
    origin: Option<(i64, Duration)>,
    /// Zero of the feed's clock: the arrival of the first unit, unless given.
    epoch: Option<Duration>,
    /// Latest time returned, over all tracks and sessions.
    newest: Option<i64>,
    drift: Drift,
    jumped_at: Option<Duration>,
    event: Option<TimelineEvent>,
}

impl Timeline {
    /// Creates a timeline whose clock is zero at `epoch`. [`Timeline::default`] begins at the first unit instead.
    #[must_use]
    pub fn new(epoch: Duration) -> Self {
        Self { epoch: Some(epoch), ..Self::default() }
    }

    /// Begins a camera session: its first unit continues after the last one.
    pub fn begin_session(&mut self) {
        self.origin = None;
        self.jumped_at = None;
        self.drift.begin_session();
        self.tracks.video.leave_session();
        self.tracks.audio.leave_session();
    }

    /// Sets a track's clock. Must be called before its first unit, and after a change of its headers.
    pub fn configure(&mut self, track: Track, timing: TrackTiming) {
        let clock = self.tracks.get_mut(track);
        clock.rate = i64::from(if timing.clock_rate == 0 { 90_000 } else { timing.clock_rate });
        clock.frame_ticks = timing.frame_ticks.filter(|ticks| *ticks > 0).unwrap_or(DEFAULT_FRAME_TICKS);
        let depth = if track == Track::Audio { Some(0) } else { timing.reorder_frames };
        clock.reorder.declare(depth);
    }

    /// Returns the last irregularity, once.
    pub fn poll_event(&mut self) -> Option<TimelineEvent> {
        self.event.take()
    }

    /// Handles an RTCP sender report that arrived at `now`: at the camera's 64-bit NTP time `ntp`, its RTP time was
    /// `rtp`. An NTP time of zero is ignored (RFC 3550, 6.4.1).
    pub fn handle_sender_report(&mut self, track: Track, ntp: u64, rtp: u32, now: Duration) {
        self.tracks.get_mut(track).handle_report(ntp, rtp, now);
    }

    /// Returns the timestamps of a unit of `track` with RTP time `rtp` that arrived at `now`. Units of a track must be
    /// passed in decoding order.
    pub fn stamp(&mut self, track: Track, rtp: u32, keyframe: bool, now: Duration) -> Timestamps {
        self.correct_drift(now);
        let mut ticks = self.tracks.get_mut(track).unwrap(rtp);
        if let Some(jump) = self.jump(track, ticks, now) {
            self.event = Some(TimelineEvent::Jumped { track, ticks: jump });
            self.tracks.get_mut(track).leave_session();
            self.drift.restart(track);
            // After a jump, this time is the new start.
            ticks = self.tracks.get_mut(track).unwrap(rtp);
            self.join_after_jump(track, now);
            self.anchor(track, ticks, now);
        } else if self.tracks.get(track).offset.is_none() {
            self.anchor(track, ticks, now);
        } else if track == Track::Audio {
            self.correct_audio(now);
        } else if keyframe {
            self.reanchor();
        }
        self.place(track, ticks, now)
    }

    /// Returns the size of a jump of the camera's clock, if there is one: a step back beyond reordering, or a step
    /// ahead of the wall clock. Time that stands still is not a jump: a congested network delays frames and then
    /// delivers them at once.
    fn jump(&self, track: Track, ticks: i64, now: Duration) -> Option<i64> {
        let clock = self.tracks.get(track);
        let (offset, (last_pts, last_at)) = (clock.offset?, clock.last?);
        let step = ticks + offset - last_pts;
        let passed = ticks_between(last_at, now);
        let is_jump = step < -clock.max_reorder_ticks() || step > passed + MAX_RUN_AHEAD;
        is_jump.then(|| step - passed)
    }

    /// Moves the origin to the jump, unless the other track has already done so for the same jump.
    fn join_after_jump(&mut self, track: Track, now: Duration) {
        if self.jumped_at.is_some_and(|at| now.saturating_sub(at) < SAME_JUMP) {
            return;
        }
        self.jumped_at = Some(now);
        let clock = self.tracks.get(track);
        let after_last = clock.last_dts.map_or(0, |last| last + clock.frame_ticks);
        self.origin = Some((self.ticks_at(now).max(after_last), now));
    }

    fn ticks_at(&self, now: Duration) -> i64 {
        self.epoch.map_or(0, |epoch| ticks_between(epoch, now))
    }

    /// Returns the position of a unit that arrives at `now`, counted from the origin of the session, which is chosen if there is
    /// none.
    fn arrival_position(&mut self, now: Duration) -> i64 {
        self.epoch.get_or_insert(now);
        // At least one frame after the last one, even after a short absence.
        let soonest = self.newest.map_or(0, |newest| newest + DEFAULT_FRAME_TICKS);
        let start = self.ticks_at(now).max(soonest);
        let (origin, origin_at) = *self.origin.get_or_insert((start, now));
        origin + ticks_between(origin_at, now)
    }

    /// Chooses the offset of a track without one.
    fn anchor(&mut self, track: Track, ticks: i64, now: Duration) {
        let clock = self.tracks.get(track);
        let lead = clock.reorder.lead() * clock.frame_ticks;
        let after_last = clock.last_dts.map_or(i64::MIN, |last| last + clock.frame_ticks + lead);
        let by_arrival = (self.arrival_position(now) + lead).max(after_last);
        let mut offset = by_arrival - ticks;
        if let Some(reported) = self.offset_by_reports(track, now)
            && (reported - offset).abs() < self.max_disagreement()
        {
            offset = reported.max(after_last.saturating_sub(ticks));
        }
        self.tracks.get_mut(track).offset = Some(offset);
    }

    /// Returns the maximum disagreement of sender reports with arrival times.
    fn max_disagreement(&self) -> i64 {
        let PerTrack { video, audio } = &self.tracks;
        let proven = video.reports().consistent().min(audio.reports().consistent()) >= PROVEN_REPORTS;
        if proven { MAX_REPORT_DISAGREEMENT } else { MAX_UNPROVEN_DISAGREEMENT }
    }

    /// Returns the offset that aligns `track` with the other one by the camera's sender reports.
    fn offset_by_reports(&self, track: Track, now: Duration) -> Option<i64> {
        let other = match track {
            Track::Video => &self.tracks.audio,
            Track::Audio => &self.tracks.video,
        };
        let theirs = other.reports().fresh(now)?;
        let own = self.tracks.get(track).reports().fresh(now)?;
        let relay_minus_ntp = other.offset? + theirs.rtp - theirs.ntp;
        Some(relay_minus_ntp + own.ntp - own.rtp)
    }

    /// Moves the audio towards the position from the reports, in inaudible steps. The video is the reference.
    fn correct_audio(&mut self, now: Duration) {
        let max = self.max_disagreement();
        let Some(wanted) = self.offset_by_reports(Track::Audio, now) else { return };
        let Some(offset) = self.tracks.audio.offset.as_mut() else { return };
        let error = wanted - *offset;
        if error.abs() < max {
            let step = error.clamp(-MAX_CORRECTION_STEP, MAX_CORRECTION_STEP);
            *offset += step;
            self.drift.note_correction(Track::Audio, step);
        }
    }

    /// Moves both tracks by a phase error that is too large to slew.
    fn reanchor(&mut self) {
        let Some(ticks) = self.drift.take_reanchor() else { return };
        for clock in [&mut self.tracks.video, &mut self.tracks.audio] {
            if let Some(offset) = clock.offset.as_mut() {
                *offset += ticks;
            }
            if let Some((pts, _)) = clock.last.as_mut() {
                *pts += ticks;
            }
        }
        self.drift.begin_session();
        self.event = Some(TimelineEvent::Reanchored { ticks });
    }

    /// Moves the tracks towards our clock.
    fn correct_drift(&mut self, now: Duration) {
        let audio_is_led = self.offset_by_reports(Track::Audio, now).is_some();
        let steps = self.drift.handle_time(now, self.ticks_at(now), audio_is_led);
        for track in [Track::Video, Track::Audio] {
            if let Some(offset) = self.tracks.get_mut(track).offset.as_mut() {
                *offset += steps.get(track);
            }
        }
    }

    fn place(&mut self, track: Track, ticks: i64, now: Duration) -> Timestamps {
        let clock = self.tracks.get_mut(track);
        let wanted_pts = ticks + clock.offset.unwrap_or_default();
        let frame_ticks = clock.frame_ticks;
        let wanted_dts = clock.reorder.decode_time(wanted_pts, frame_ticks);
        let dts = clock.last_dts.map_or(wanted_dts, |last| wanted_dts.max(last + 1));
        let pts = wanted_pts.max(dts);
        clock.last_dts = Some(dts);
        clock.last = Some((wanted_pts, now));
        self.newest = Some(self.newest.map_or(pts, |newest| newest.max(pts)));
        self.drift.add(track, self.ticks_at(now) - wanted_dts);
        Timestamps { dts, pts }
    }
}

/// Returns the ticks from `from` to `to`; zero if `to` is earlier.
fn ticks_between(from: Duration, to: Duration) -> i64 {
    let micros = to.saturating_sub(from).as_micros();
    i64::try_from(micros * 9 / 100).unwrap_or(i64::MAX / 4)
}

#[cfg(test)]
mod tests;
