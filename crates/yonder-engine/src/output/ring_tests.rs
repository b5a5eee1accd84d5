use bytes::Bytes;
use yonder_media::{AccessUnit, Payload, Track};

use super::*;

const FRAME: i64 = TICKS_PER_SECOND / 25;

/// A ring with its readers.
struct Bench {
    ring: Ring,
    readers: Vec<Cursor>,
}

impl Bench {
    fn new(readers: usize) -> Self {
        Self { ring: Ring::default(), readers: vec![Cursor::default(); readers] }
    }

    fn push(&mut self, frame: i64, keyframe: bool, bytes: usize) {
        let unit = AccessUnit {
            track: Track::Video,
            dts: frame * FRAME,
            pts: frame * FRAME,
            keyframe,
            payload: Payload::Nals(vec![Bytes::from(vec![1; bytes])]),
        };
        let times = Timestamps { dts: unit.dts, pts: unit.pts };
        let readers = &self.readers;
        let slowest = || readers.iter().filter_map(|reader| reader.position()).min();
        self.ring.push(Arc::new(Frame::new(unit, Arc::default())), times, slowest);
    }

    /// Adds frames of GOPs of one second.
    fn publish(&mut self, frames: std::ops::Range<i64>) {
        for frame in frames {
            self.push(frame, frame % 25 == 0, 100);
        }
    }

    fn read(&mut self, reader: usize) -> Option<Next> {
        self.ring.read(&mut self.readers[reader])
    }

    fn read_all(&mut self, reader: usize) -> (Vec<i64>, u64) {
        let (mut frames, mut skips) = (Vec::new(), 0);
        while let Some(Next { number, skipped }) = self.read(reader) {
            frames.push(self.ring.slot(number).unwrap().times.dts / FRAME);
            skips += skipped;
        }
        (frames, skips)
    }
}

#[test]
fn new_reader_begins_at_the_last_keyframe() {
    let mut bench = Bench::new(1);
    bench.publish(0..60);
    assert_eq!(bench.read_all(0), ((50..60).collect(), 0));
}

#[test]
fn nothing_is_read_before_a_keyframe() {
    let mut bench = Bench::new(1);
    bench.publish(3..10);
    assert_eq!(bench.read(0), None);
}

#[test]
fn reader_that_keeps_up_misses_nothing() {
    let mut bench = Bench::new(1);
    let mut seen = Vec::new();
    for second in 0..100 {
        bench.publish(second * 25..(second + 1) * 25);
        let (frames, skipped) = bench.read_all(0);
        seen.extend(frames);
        assert_eq!(skipped, 0);
    }
    assert_eq!(seen, (0..2_500).collect::<Vec<_>>());
}

#[test]
fn slow_reader_skips_to_the_last_keyframe_without_effect_on_others() {
    const SLOW: usize = 0;
    const QUICK: usize = 1;
    let mut bench = Bench::new(2);
    bench.publish(0..25);
    assert!(bench.read(SLOW).is_some());
    let mut quick_frames = bench.read_all(QUICK).0.len();
    for second in 1..10 {
        bench.publish(second * 25..(second + 1) * 25);
        quick_frames += bench.read_all(QUICK).0.len();
    }
    assert_eq!(quick_frames, 250);
    let (frames, skipped) = bench.read_all(SLOW);
    assert_eq!(frames, (225..250).collect::<Vec<_>>());
    assert_eq!(skipped, 224);
}

#[test]
fn reader_a_little_behind_catches_up_without_loss() {
    let mut bench = Bench::new(1);
    bench.publish(0..1);
    assert!(bench.read(0).is_some());
    bench.publish(1..70);
    assert_eq!(bench.read_all(0), ((1..70).collect(), 0));
}

#[test]
fn memory_is_bounded_by_time_and_by_bytes() {
    let mut bench = Bench::new(0);
    bench.publish(0..10_000);
    assert!(bench.ring.bytes() <= 100 * 25 * 5, "{}", bench.ring.bytes());
    // One endless GOP of large frames.
    let mut bench = Bench::new(0);
    for frame in 0..100 {
        bench.push(20_000 + frame, frame == 0, 1024 * 1024);
    }
    assert!(bench.ring.bytes() <= 33 * 1024 * 1024, "{}", bench.ring.bytes());
}

#[test]
fn units_that_every_reader_has_read_are_dropped_with_the_next_keyframe() {
    const QUICK: usize = 0;
    const SLOW: usize = 1;
    let mut bench = Bench::new(2);
    bench.publish(0..25);
    bench.read_all(QUICK);
    bench.read_all(SLOW);
    bench.publish(25..50);
    bench.read_all(QUICK);
    assert_eq!(bench.ring.bytes(), 25 * 100, "the slow reader needs the second GOP");
    bench.publish(50..75);
    assert_eq!(bench.ring.bytes(), 50 * 100);
    assert_eq!(bench.read_all(SLOW), ((25..75).collect(), 0));
    bench.publish(75..76);
    assert_eq!(bench.ring.bytes(), 26 * 100, "the quick reader has not read the third GOP");
    bench.readers.remove(QUICK);
    bench.publish(76..77);
    assert_eq!(bench.ring.bytes(), 2 * 100);
}
