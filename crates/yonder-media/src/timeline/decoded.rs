//! Timestamps of published streams: RTMP and MPEG transport streams have decoding and presentation times of all tracks on one
//! clock, so that neither reordering nor sender reports are needed.

use std::time::Duration;

use crate::ticks::TICKS_PER_SECOND;
use crate::unit::Track;

use super::{
    MAX_REPORT_DISAGREEMENT, MAX_RUN_AHEAD, MIN_STEP_BACK, SAME_JUMP, Timeline, TimelineEvent, Timestamps,
    ticks_between,
};

/// Difference of the tracks' offsets that corrections of the drift explain: ten milliseconds.
const MAX_DRIFT_APART: i64 = TICKS_PER_SECOND / 100;

impl Timeline {
    /// Returns the timestamps of a unit of `track` that arrived at `now` with its own decoding and presentation time, in
    /// unwrapped ticks of a clock that both tracks share. Units of a track must be passed in decoding order, and
    /// a timeline is used either with this function or with [`Timeline::stamp`].
    ///
    /// A step back by more than 0.2 s, or a step of more than a second ahead of the wall clock, is a jump: the stream continues
    /// after its last unit.
    pub fn stamp_decoded(
        &mut self,
        track: Track,
        dts: i64,
        pts: i64,
        keyframe: bool,
        now: Duration,
    ) -> Timestamps {
        self.correct_drift(now);
        self.align_audio();
        if let Some(jump) = self.decoded_jump(track, dts, now) {
            self.event = Some(TimelineEvent::Jumped { track, ticks: jump });
            // The other track may have jumped with the clock, and then has the offset after the jump.
            let follows = self.jumped_at.is_some_and(|at| now.saturating_sub(at) < SAME_JUMP);
            self.tracks.get_mut(track).leave_session();
            self.drift.restart(track);
            self.join_after_jump(track, now);
            self.anchor_decoded(track, dts, follows, now);
        } else if self.tracks.get(track).offset.is_none() {
            self.anchor_decoded(track, dts, true, now);
        } else if keyframe && track == Track::Video {
            self.reanchor();
        }
        self.place_decoded(track, dts, pts, now)
    }

    /// Moves the audio as the video was moved, if both are anchored to the same clock.
    fn align_audio(&mut self) {
        let (Some(video), Some(audio)) = (self.tracks.video.offset, self.tracks.audio.offset) else { return };
        if (video - audio).abs() < MAX_DRIFT_APART {
            self.tracks.audio.offset = Some(video);
        }
    }

    fn decoded_jump(&self, track: Track, dts: i64, now: Duration) -> Option<i64> {
        let clock = self.tracks.get(track);
        let (offset, (last, last_at)) = (clock.offset?, clock.last?);
        let step = dts + offset - last;
        let passed = ticks_between(last_at, now);
        (step < -MIN_STEP_BACK || step > passed + MAX_RUN_AHEAD).then(|| step - passed)
    }

    /// Chooses the offset of a track without one: with `follows` that of the other track, unless its times contradict the
    /// arrival.
    fn anchor_decoded(&mut self, track: Track, dts: i64, follows: bool, now: Duration) {
        let other = match track {
            Track::Video => &self.tracks.audio,
            Track::Audio => &self.tracks.video,
        };
        let shared = other.offset.filter(|_| follows);
        let arrival = self.arrival_position(now);
        let clock = self.tracks.get(track);
        let after_last = clock.last_dts.map_or(i64::MIN, |last| last + clock.frame_ticks);
        let offset = arrival.max(after_last) - dts;
        let shared = shared.filter(|shared| (shared - offset).abs() < MAX_REPORT_DISAGREEMENT);
        self.tracks.get_mut(track).offset = Some(shared.unwrap_or(offset));
    }

    fn place_decoded(&mut self, track: Track, dts: i64, pts: i64, now: Duration) -> Timestamps {
        let clock = self.tracks.get_mut(track);
        let wanted = dts + clock.offset.unwrap_or_default();
        let dts_out = clock.last_dts.map_or(wanted, |last| wanted.max(last + 1));
        let pts_out = (wanted + (pts - dts)).max(dts_out);
        clock.last_dts = Some(dts_out);
        clock.last = Some((wanted, now));
        self.newest = Some(self.newest.map_or(pts_out, |newest| newest.max(pts_out)));
        self.drift.add(track, self.ticks_at(now) - wanted);
        Timestamps { dts: dts_out, pts: pts_out }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::timeline::TrackTiming;
    use rstest::rstest;

    const FRAME: i64 = 3_600;

    fn ms(ms: i64) -> Duration {
        Duration::from_millis(ms.try_into().unwrap())
    }

    fn timeline() -> Timeline {
        let mut timeline = Timeline::default();
        let timing = TrackTiming { clock_rate: 90_000, reorder_frames: None, frame_ticks: Some(FRAME) };
        timeline.configure(Track::Video, timing);
        timeline.configure(Track::Audio, TrackTiming { frame_ticks: Some(1_920), ..timing });
        timeline
    }

    #[test]
    fn both_tracks_keep_their_distance_and_frames_their_composition_offset() {
        let mut timeline = timeline();
        let start = 7_000_000;
        let video = timeline.stamp_decoded(Track::Video, start, start + 2 * FRAME, true, ms(0));
        assert_eq!(video, Timestamps { dts: 0, pts: 2 * FRAME });
        // Audio that arrives late is still placed by its own time.
        let audio = timeline.stamp_decoded(Track::Audio, start + 900, start + 900, true, ms(80));
        assert_eq!(audio, Timestamps { dts: 900, pts: 900 });
        let next = timeline.stamp_decoded(Track::Video, start + FRAME, start + FRAME, false, ms(80));
        assert_eq!(next, Timestamps { dts: FRAME, pts: FRAME });
    }

    #[rstest]
    #[case::ahead(10 * TICKS_PER_SECOND)]
    #[case::back(-10 * TICKS_PER_SECOND)]
    #[case::to_another_clock(1 << 40)]
    fn jump_of_the_clock_leaves_no_gap(#[case] jump: i64) {
        let mut timeline = timeline();
        let mut last = [0, 0];
        for at in 0..100 {
            let shift = if at < 50 { 0 } else { jump };
            let now = ms(at * 40);
            let dts = at * FRAME + shift;
            let video = timeline.stamp_decoded(Track::Video, dts, dts, at % 25 == 0, now);
            let audio = timeline.stamp_decoded(Track::Audio, dts + 100, dts + 100, true, now);
            if at > 0 {
                assert_eq!([video.dts - last[0], audio.dts - last[1]], [FRAME, FRAME], "frame {at}");
            }
            last = [video.dts, audio.dts];
        }
    }

    #[test]
    fn jump_of_the_audio_alone_does_not_move_the_video() {
        let mut timeline = timeline();
        let mut last = 0;
        for at in 0..100 {
            let shift = if at < 50 { 0 } else { 60 * TICKS_PER_SECOND };
            let now = ms(at * 40);
            let video = timeline.stamp_decoded(Track::Video, at * FRAME, at * FRAME, at % 25 == 0, now);
            let audio =
                timeline.stamp_decoded(Track::Audio, at * FRAME + shift, at * FRAME + shift, true, now);
            assert!(at == 0 || video.dts - last == FRAME, "frame {at}");
            assert!((audio.dts - video.dts).abs() <= FRAME, "frame {at}");
            last = video.dts;
        }
    }

    #[test]
    fn new_session_continues_after_the_time_that_passed() {
        let mut timeline = timeline();
        timeline.stamp_decoded(Track::Video, 0, 0, true, ms(0));
        timeline.begin_session();
        let after = timeline.stamp_decoded(Track::Video, 123, 123, true, ms(2_000));
        assert_eq!(after.dts, 2 * TICKS_PER_SECOND);
    }

    #[test]
    fn drift_of_the_encoder_moves_both_tracks_alike() {
        let mut timeline = timeline();
        // Ten minutes of an encoder that is 200 ppm fast.
        for at in 0..15_000_i64 {
            let now = Duration::from_micros((at * 40_000 - at * 8).try_into().unwrap());
            let video = timeline.stamp_decoded(Track::Video, at * FRAME, at * FRAME, at % 50 == 0, now);
            let audio = timeline.stamp_decoded(Track::Audio, at * FRAME, at * FRAME, true, now);
            assert!((video.dts - audio.dts).abs() <= 2, "frame {at}: {video:?} {audio:?}");
            assert!(
                (ticks_between(Duration::ZERO, now) - video.dts).abs() < TICKS_PER_SECOND / 10,
                "frame {at}"
            );
        }
    }
}
