//! Transport clock of a program: assigns transmission times from the decoding times of both tracks.

use crate::unit::{PerTrack, Track};

/// Step of a track's decoding times, in ticks, beyond which it is a gap or a jump.
pub(super) const GAP: i64 = 90_000;
/// Maximum lead, in ticks, of one track over the other. Beyond it the clock follows the track behind, whose units would
/// otherwise arrive after their decoding times.
const MAX_SKEW: i64 = 27_000;
/// Frame duration assumed before the second unit of a track, in ticks.
const DEFAULT_DURATION: i64 = 3_000;
/// Maximum interval of clock references, in ticks: 40 ms (2.7.2 allows 100 ms, broadcast profiles 40 ms).
pub(super) const MAX_PCR_INTERVAL: i64 = 3_600;
/// Maximum interval of tables, in ticks. Receivers that interpolate between clock references see up to 20 ms more, and 100 ms
/// is the limit.
const MAX_TABLE_INTERVAL: i64 = 7_200;

/// Decoding times of one track.
#[derive(Debug, Clone, Copy)]
struct Pace {
    last: Option<i64>,
    /// Transport clock at the last unit.
    clock: i64,
    /// Duration of the last unit.
    duration: i64,
}

impl Default for Pace {
    fn default() -> Self {
        Self { last: None, clock: 0, duration: DEFAULT_DURATION }
    }
}

/// Transport clock, in ticks of 1/90 000 s. It never steps back.
///
/// It follows the track that is ahead. With reordered frames that is usually the audio, whose decoding times are presentation
/// times.
#[derive(Debug, Default)]
pub(super) struct TransportClock {
    now: Option<i64>,
    tracks: PerTrack<Pace>,
    /// Value of the last clock reference.
    pcr: Option<i64>,
    /// Clock at the last tables.
    tables: Option<i64>,
}

impl TransportClock {
    /// Moves the clock to a unit of `track`, and returns it. `duration` is that of the unit where it is known.
    pub(super) fn begin_unit(&mut self, track: Track, dts: i64, duration: Option<i64>) -> i64 {
        let pace = self.tracks.get_mut(track);
        let step = pace.last.replace(dts).map(|last| dts - last);
        if let Some(duration) = duration.or_else(|| step.filter(|step| (1..GAP).contains(step))) {
            pace.duration = duration;
        }
        let target = self.target();
        let clock = self.now.map_or(target, |now| now.max(target));
        self.now = Some(clock);
        self.tracks.get_mut(track).clock = clock;
        clock
    }

    /// Returns the decoding time that the clock follows: the newest of both tracks, at most [`MAX_SKEW`] ahead of the
    /// other one. A track that has stopped is ignored.
    fn target(&self) -> i64 {
        let PerTrack { video, audio } = &self.tracks;
        match (video.last, audio.last) {
            (Some(video), Some(audio)) => {
                let (oldest, newest) = (video.min(audio), video.max(audio));
                if newest - oldest < GAP { newest.min(oldest + MAX_SKEW) } else { newest }
            }
            (Some(only), None) | (None, Some(only)) => only,
            (None, None) => 0,
        }
    }

    /// Returns the time, up to `max` ticks, over which a unit of `track` that begins now may be spread without the
    /// clock running ahead of the units.
    pub(super) fn spread(&self, track: Track, max: i64) -> i64 {
        let spread = self.tracks.get(track).duration.min(max);
        let ahead = self.now.map_or(0, |now| now - self.target());
        (spread - ahead).max(0)
    }

    /// Advances the clock to `time`, if that is later.
    pub(super) fn advance(&mut self, time: i64) {
        self.now = Some(self.now.map_or(time, |now| now.max(time)));
    }

    /// Returns the time at which the next unit is expected, at most `max` ticks from now; `None` before the first unit.
    pub(super) fn next_unit(&self, max: i64) -> Option<i64> {
        let now = self.now?;
        let next = |pace: &Pace| pace.last.map_or(i64::MAX, |_| pace.clock + pace.duration);
        Some(next(&self.tracks.video).min(next(&self.tracks.audio)).min(now + max))
    }

    /// Resets the audio track of a stream that no longer has audio.
    pub(super) fn remove_audio(&mut self) {
        self.tracks.audio = Pace::default();
    }

    /// Returns the time of the clock reference that is due before `until`, if there is one.
    pub(super) fn pcr_due_before(&self, until: i64) -> Option<i64> {
        let due = self.pcr? + MAX_PCR_INTERVAL;
        (due < until).then_some(due)
    }

    /// Returns the clock reference for a packet at `clock` that is followed by another one `step` ticks later; `None`
    /// if none is due. No value is used twice.
    pub(super) fn take_pcr(&mut self, clock: i64, step: i64, is_wanted: bool) -> Option<i64> {
        let Some(last) = self.pcr else { return self.set_pcr(clock) };
        let is_due = is_wanted || clock + step - last > MAX_PCR_INTERVAL;
        if clock > last && is_due { self.set_pcr(clock) } else { None }
    }

    fn set_pcr(&mut self, clock: i64) -> Option<i64> {
        self.pcr = Some(clock);
        self.pcr
    }

    /// Returns true if tables are due before the next clock reference after `clock`.
    pub(super) fn are_tables_due(&self, clock: i64) -> bool {
        self.tables.is_none_or(|at| clock + MAX_PCR_INTERVAL - at > MAX_TABLE_INTERVAL)
    }

    /// Records that tables were written at `clock`.
    pub(super) fn set_tables(&mut self, clock: i64) {
        self.tables = Some(clock);
    }

    /// Returns true if tables must be written before anything else.
    pub(super) fn are_tables_requested(&self) -> bool {
        self.tables.is_none()
    }

    /// Makes tables due at once.
    pub(super) fn request_tables(&mut self) {
        self.tables = None;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const FRAME: i64 = 3_600;
    const AUDIO: i64 = 1_920;

    #[test]
    fn clock_follows_the_track_that_is_ahead() {
        let mut clock = TransportClock::default();
        assert_eq!(clock.begin_unit(Track::Video, 0, None), 0);
        assert_eq!(clock.begin_unit(Track::Audio, 7_200, Some(AUDIO)), 7_200);
        assert_eq!(clock.begin_unit(Track::Video, FRAME, None), 7_200);
        assert_eq!(clock.next_unit(45_000), Some(7_200 + AUDIO));
        assert_eq!(clock.spread(Track::Video, FRAME), FRAME);
        clock.advance(7_200 + FRAME);
        assert_eq!(clock.spread(Track::Video, FRAME), 0);
    }

    #[test]
    fn clock_follows_the_track_behind_where_the_other_is_far_ahead() {
        let mut clock = TransportClock::default();
        clock.begin_unit(Track::Video, 0, None);
        assert_eq!(clock.begin_unit(Track::Audio, 60_000, Some(AUDIO)), MAX_SKEW);
        assert_eq!(clock.begin_unit(Track::Video, FRAME, None), FRAME + MAX_SKEW);
    }

    #[test]
    fn track_that_has_stopped_does_not_stop_the_clock() {
        let mut clock = TransportClock::default();
        clock.begin_unit(Track::Video, 0, None);
        let mut last = 0;
        for number in 0..100 {
            last = clock.begin_unit(Track::Audio, number * AUDIO, Some(AUDIO));
        }
        assert_eq!(last, 99 * AUDIO);
    }

    #[test]
    fn clock_references_rise_and_are_due_before_the_interval_ends() {
        let mut clock = TransportClock::default();
        assert_eq!(clock.take_pcr(100, 0, false), Some(100));
        assert_eq!(clock.take_pcr(100, 0, true), None);
        assert_eq!(clock.take_pcr(200, 0, false), None);
        assert_eq!(clock.take_pcr(200, 0, true), Some(200));
        assert_eq!(clock.take_pcr(3_700, 200, false), Some(3_700));
        assert_eq!(clock.pcr_due_before(7_300), None);
        assert_eq!(clock.pcr_due_before(7_301), Some(7_300));
    }
}
