//! The timeline: each track's RTP time becomes the relay's one clock.
//!
//! It outlives camera sessions. Within a session a track's time is its RTP time, unwrapped, at a fixed offset;
//! the offset is chosen when the track first speaks, from sender reports where both tracks have them, else
//! from the moment of arrival. A new session, or a jump of the camera's time, is joined on after what went
//! before, with a gap as long as our clock saw. Decoding times rise strictly, whatever the camera does.
//!
//! The relay's clock is ours, counted from the first unit: where a camera's runs faster or slower, its tracks are
//! moved back in steps that nobody notices, so that the fortieth day is as the first minute.

mod drift;
mod reorder;
mod track;

use std::time::Duration;

use crate::unit::{TICKS_PER_SECOND, Track};

use drift::Drift;
use track::TrackClock;

/// Frame duration assumed until the stream declares one: 25 frames a second.
const DEFAULT_FRAME_TICKS: i64 = TICKS_PER_SECOND / 25;
/// Time may step back this far before it counts as a jump: reordered pictures do so by a few frames.
const MAX_STEP_BACK: i64 = 2 * TICKS_PER_SECOND;
/// Time may run ahead of the wall clock this far before it counts as a jump.
const MAX_RUN_AHEAD: i64 = 3 * TICKS_PER_SECOND;
/// Sender reports that disagree with arrival by more than this come from clocks that are not set.
const MAX_REPORT_DISAGREEMENT: i64 = 5 * TICKS_PER_SECOND;
/// Largest correction of the sound's offset per frame of sound: half a millisecond, which nobody hears.
const MAX_CORRECTION_STEP: i64 = TICKS_PER_SECOND / 2_000;

/// What the timeline must know of a track before it can stamp it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct TrackTiming {
    /// RTP ticks in one second; never zero (zero is taken as 90 000).
    pub clock_rate: u32,
    /// Reorder depth in frames where the stream declares it; `None` lets the timeline find out.
    pub reorder_frames: Option<u8>,
    /// Duration of one frame in ticks of 1/90 000 s, where known.
    pub frame_ticks: Option<i64>,
}

/// A place on the relay's clock.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Stamp {
    /// Decoding time in ticks of 1/90 000 s.
    pub dts: i64,
    /// Presentation time in ticks of 1/90 000 s, never before `dts`.
    pub pts: i64,
}

/// One feed's clock.
#[derive(Debug, Default)]
pub struct Timeline {
    video: TrackClock,
    audio: TrackClock,
    /// Where the session begins on the relay's clock, and when its first unit came.
    origin: Option<(i64, Duration)>,
    /// When the very first unit came.
    epoch: Option<Duration>,
    /// The latest time given out, over all tracks and sessions.
    newest: Option<i64>,
    drift: Drift,
}

impl Timeline {
    /// Starts a new camera session: the next unit joins on after everything before.
    pub fn begin_session(&mut self) {
        self.origin = None;
        self.drift.begin_session();
        self.video.leave_session();
        self.audio.leave_session();
    }

    /// Declares a track's clock. To be called before its first unit, and again when its headers change.
    pub fn configure(&mut self, track: Track, timing: TrackTiming) {
        let clock = self.track_mut(track);
        clock.rate = i64::from(if timing.clock_rate == 0 { 90_000 } else { timing.clock_rate });
        clock.frame_ticks = timing.frame_ticks.filter(|ticks| *ticks > 0).unwrap_or(DEFAULT_FRAME_TICKS);
        let depth = if track == Track::Audio { Some(0) } else { timing.reorder_frames };
        clock.reorder.declare(depth);
    }

    /// When the relay's clock began: the moment at which the first unit came.
    #[must_use]
    pub fn epoch(&self) -> Option<Duration> {
        self.epoch
    }

    /// Takes an RTCP sender report: `ntp` is the camera's 64-bit NTP time at which its RTP time was `rtp`.
    pub fn handle_sender_report(&mut self, track: Track, ntp: u64, rtp: u32) {
        self.track_mut(track).handle_report(ntp, rtp);
    }

    /// Stamps a unit of `track` whose RTP time is `rtp` and which arrived at `now`. Units of a track must come
    /// in decoding order.
    pub fn stamp(&mut self, track: Track, rtp: u32, now: Duration) -> Stamp {
        self.correct_drift(now);
        let ticks = self.track_mut(track).unwrap(rtp);
        if self.jumped(track, ticks, now) {
            self.track_mut(track).leave_session();
            self.drift.begin_session();
            // The reading itself is still good: it is the new start.
            let ticks = self.track_mut(track).unwrap(rtp);
            self.anchor(track, ticks, now);
            return self.place(track, ticks, now);
        }
        if self.track(track).offset.is_none() {
            self.anchor(track, ticks, now);
        } else if track == Track::Audio {
            self.correct_audio();
        }
        self.place(track, ticks, now)
    }

    fn track(&self, track: Track) -> &TrackClock {
        match track {
            Track::Video => &self.video,
            Track::Audio => &self.audio,
        }
    }

    fn track_mut(&mut self, track: Track) -> &mut TrackClock {
        match track {
            Track::Video => &mut self.video,
            Track::Audio => &mut self.audio,
        }
    }

    /// A step back beyond any reordering, or a run ahead of the wall clock, is the camera changing its mind.
    /// Time that stands still is not: a congested network delays frames and then delivers them all.
    fn jumped(&self, track: Track, ticks: i64, now: Duration) -> bool {
        let clock = self.track(track);
        let (Some(offset), Some((last_pts, last_at))) = (clock.offset, clock.last) else { return false };
        let step = ticks + offset - last_pts;
        step < -MAX_STEP_BACK || step > ticks_between(last_at, now) + MAX_RUN_AHEAD
    }

    /// Chooses the offset of a track that has none.
    fn anchor(&mut self, track: Track, ticks: i64, now: Duration) {
        let lead = self.track(track).reorder.lead() * self.track(track).frame_ticks;
        let epoch = *self.epoch.get_or_insert(now);
        // At least one frame after the last, however short the absence was.
        let soonest = self.newest.map_or(0, |newest| newest + DEFAULT_FRAME_TICKS);
        let (origin, origin_at) =
            *self.origin.get_or_insert_with(|| (ticks_between(epoch, now).max(soonest), now));
        let by_arrival = origin + ticks_between(origin_at, now) + lead;
        let after_last = self.track(track).last.map_or(by_arrival, |(last, _)| by_arrival.max(last + 1));
        let mut offset = after_last - ticks;
        if let Some(reported) = self.offset_by_reports(track)
            && (reported - offset).abs() < MAX_REPORT_DISAGREEMENT
        {
            offset = reported;
        }
        self.track_mut(track).offset = Some(offset);
    }

    /// The offset that puts `track` in step with the other one, by the camera's own sender reports.
    fn offset_by_reports(&self, track: Track) -> Option<i64> {
        let other = match track {
            Track::Video => &self.audio,
            Track::Audio => &self.video,
        };
        let (other_ntp, other_ticks) = other.report_in_ticks()?;
        let (ntp, ticks) = self.track(track).report_in_ticks()?;
        let relay_minus_ntp = other.offset? + other_ticks - other_ntp;
        Some(relay_minus_ntp + ntp - ticks)
    }

    /// The picture leads; the sound is moved towards it in steps too small to hear.
    fn correct_audio(&mut self) {
        let Some(wanted) = self.offset_by_reports(Track::Audio) else { return };
        let Some(offset) = self.audio.offset.as_mut() else { return };
        let error = wanted - *offset;
        if error.abs() < MAX_REPORT_DISAGREEMENT {
            *offset += error.clamp(-MAX_CORRECTION_STEP, MAX_CORRECTION_STEP);
        }
    }

    /// Moves the tracks towards our clock.
    fn correct_drift(&mut self, now: Duration) {
        let sound_is_led = self.offset_by_reports(Track::Audio).is_some();
        let (both, sound) = self.drift.handle_time(now, sound_is_led);
        if let Some(offset) = self.video.offset.as_mut() {
            *offset += both;
        }
        if let Some(offset) = self.audio.offset.as_mut() {
            *offset += both + sound;
        }
    }

    fn place(&mut self, track: Track, ticks: i64, now: Duration) -> Stamp {
        let clock = self.track_mut(track);
        let wanted_pts = ticks + clock.offset.unwrap_or_default();
        let frame_ticks = clock.frame_ticks;
        let wanted_dts = clock.reorder.decode_time(wanted_pts, frame_ticks);
        let dts = clock.last_dts.map_or(wanted_dts, |last| wanted_dts.max(last + 1));
        let pts = wanted_pts.max(dts);
        clock.last_dts = Some(dts);
        clock.last = Some((wanted_pts, now));
        self.newest = Some(self.newest.map_or(pts, |newest| newest.max(pts)));
        let lateness = self.epoch.map_or(0, |epoch| ticks_between(epoch, now)) - wanted_dts;
        match track {
            Track::Video => self.drift.video.add(lateness),
            Track::Audio => self.drift.audio.add(lateness),
        }
        Stamp { dts, pts }
    }
}

/// Ticks from `from` to `to`; zero when `to` is earlier.
fn ticks_between(from: Duration, to: Duration) -> i64 {
    let micros = to.saturating_sub(from).as_micros();
    i64::try_from(micros * 9 / 100).unwrap_or(i64::MAX / 4)
}

#[cfg(test)]
mod tests;
