use bytes::Bytes;
use proptest::prelude::*;
use rstest::rstest;

use super::*;
use crate::unit::Payload;

const FRAME: i64 = 3_600;

fn unit(track: Track, dts: i64, keyframe: bool) -> AccessUnit {
    AccessUnit { track, dts, pts: dts, keyframe, payload: Payload::Frame(Bytes::new()) }
}

fn key(dts: i64) -> AccessUnit {
    unit(Track::Video, dts, true)
}

/// Places `frames` frames of video from `dts` on, as they arrive; returns the output times.
fn run(splice: &mut Splice, dts: i64, frames: i64, lateness: i64) -> Vec<i64> {
    (0..frames)
        .filter_map(|frame| {
            let dts = dts + frame * FRAME;
            let placed = splice.place(&unit(Track::Video, dts, frame == 0), dts + lateness);
            placed.map(|times| times.dts)
        })
        .collect()
}

#[test]
fn first_source_keeps_its_own_timestamps() {
    let mut splice = Splice::default();
    assert_eq!(splice.place(&unit(Track::Video, 100, false), 100), None);
    assert_eq!(splice.place(&unit(Track::Audio, 150, true), 150), None);
    assert_eq!(run(&mut splice, 90_000, 3, 0), [90_000, 93_600, 97_200]);
}

#[rstest]
#[case::in_time(0)]
#[case::a_little_late(20_000)]
#[case::half_a_second_late(45_000)]
#[case::a_minute_late(60 * TICKS_PER_SECOND)]
fn late_source_is_placed_one_frame_after_the_last(#[case] lateness: i64) {
    let mut splice = Splice::default();
    let end = *run(&mut splice, 0, 100, 0).last().unwrap();
    splice.cut();
    let now = end + FRAME;
    let times = splice.place(&key(now - lateness), now).unwrap();
    assert_eq!(times.dts, end + FRAME);
}

#[rstest]
#[case::half_a_second(45_000)]
#[case::five_minutes(300 * TICKS_PER_SECOND)]
fn source_ahead_of_the_clock_leaves_no_gap(#[case] ahead: i64) {
    let mut splice = Splice::default();
    let end = *run(&mut splice, 0, 100, 0).last().unwrap();
    splice.cut();
    let now = end + FRAME;
    assert_eq!(splice.place(&key(now + ahead), now).unwrap().dts, now);
}

#[test]
fn absence_without_a_slate_stays_visible_as_a_gap() {
    let mut splice = Splice::default();
    let end = *run(&mut splice, 0, 100, 0).last().unwrap();
    splice.cut();
    let now = end + 10 * TICKS_PER_SECOND;
    assert_eq!(splice.place(&key(now), now).unwrap().dts, now);
}

#[rstest]
#[case::late(40_000)]
#[case::ahead(-40_000)]
fn offset_decays_to_zero_by_half_a_millisecond_a_second(#[case] offset: i64) {
    let mut splice = Splice::default();
    run(&mut splice, 0, 2, 0);
    splice.cut();
    let begin = 2 * FRAME - offset;
    let mut last = splice.place(&key(begin), 2 * FRAME).unwrap().dts;
    for frame in 1..30_000 {
        let dts = begin + frame * FRAME;
        let placed = splice.place(&unit(Track::Video, dts, false), dts + offset).unwrap().dts;
        assert!((placed - last - FRAME).abs() <= FRAME * DECAY_PPM / MILLION + 1, "frame {frame}");
        last = placed;
    }
    assert_eq!(splice.offset(begin + 30_000 * FRAME), 0);
}

#[test]
fn audio_and_video_share_the_offset_and_overlapping_audio_is_cut_off() {
    let mut splice = Splice::default();
    run(&mut splice, 0, 10, 0);
    assert_eq!(
        splice.place(&unit(Track::Audio, 9 * FRAME + 10, true), 9 * FRAME).unwrap().dts,
        9 * FRAME + 10
    );
    splice.cut();
    let begin = 2 * FRAME;
    let video = splice.place(&key(begin), 10 * FRAME).unwrap().dts;
    let offset = video - begin;
    assert_eq!(splice.place(&unit(Track::Audio, begin - FRAME, true), 10 * FRAME), None);
    let audio = splice.place(&unit(Track::Audio, begin + 5, true), 10 * FRAME).unwrap().dts;
    assert_eq!(audio - (begin + 5), offset);
}

#[test]
fn composition_times_survive_the_offset() {
    let mut splice = Splice::default();
    run(&mut splice, 0, 10, 0);
    splice.cut();
    let mut reordered = key(0);
    reordered.pts = 2 * FRAME;
    let times = splice.place(&reordered, 0).unwrap();
    assert_eq!(times.pts - times.dts, 2 * FRAME);
}

#[derive(Debug, Clone)]
enum Event {
    Cut { source_shift: i64 },
    Frames { count: u8, keyframe_every: u8 },
    Audio,
    Absence { ticks: i64 },
}

fn events() -> impl Strategy<Value = Vec<Event>> {
    let shift = prop_oneof![-90_000_i64..90_000, -90_000_000_000_i64..90_000_000_000];
    let event = prop_oneof![
        shift.prop_map(|source_shift| Event::Cut { source_shift }),
        (1_u8..60, 1_u8..30).prop_map(|(count, keyframe_every)| Event::Frames { count, keyframe_every }),
        Just(Event::Audio),
        (0_i64..900_000).prop_map(|ticks| Event::Absence { ticks }),
    ];
    prop::collection::vec(event, 1..200)
}

proptest! {
    /// From any state the first keyframe after a cut is on the output; times rise; a change of source leaves no gap
    /// beyond the absence of frames itself, and frames do not collapse.
    #[test]
    fn every_source_is_placed_at_its_first_keyframe(events in events()) {
        let mut splice = Splice::default();
        let (mut now, mut shift) = (0_i64, 0_i64);
        let mut last = PerTrack::<Option<i64>>::default();
        let mut last_now = 0_i64;
        let mut steps = (FRAME, FRAME);
        let mut is_cut = false;
        for event in events {
            match event {
                Event::Cut { source_shift } => {
                    splice.cut();
                    shift = source_shift;
                    is_cut = true;
                }
                Event::Absence { ticks } => now += ticks,
                Event::Audio => {
                    if let Some(times) = splice.place(&unit(Track::Audio, now + shift, true), now) {
                        prop_assert!(last.audio.is_none_or(|last| times.dts > last));
                        last.audio = Some(times.dts);
                    }
                }
                Event::Frames { count, keyframe_every } => {
                    for frame in 0..count {
                        now += FRAME;
                        let keyframe = frame % keyframe_every == 0;
                        let placed = splice.place(&unit(Track::Video, now + shift, keyframe), now);
                        if keyframe {
                            prop_assert!(placed.is_some(), "a keyframe was refused");
                        }
                        let Some(times) = placed else { continue };
                        if let Some(last) = last.video {
                            prop_assert!(times.dts > last);
                            let passed = now - last_now;
                            let step = times.dts - last;
                            let frame = steps.0.min(steps.1).max(FRAME);
                            // The offset of half a part in a thousand decays meanwhile.
                            let max = passed.max(frame) + passed / 1_000 + 1;
                            prop_assert!(step <= max, "a gap of {step} where {passed} passed");
                            steps = (steps.1, step);
                            prop_assert!(!is_cut || step >= FRAME / 4 || step >= passed / 2, "a collapse to {step}");
                        }
                        (last.video, last_now, is_cut) = (Some(times.dts), now, false);
                    }
                }
            }
        }
    }
}
