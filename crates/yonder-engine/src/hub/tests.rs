use super::*;
use bytes::Bytes;
use yonder_media::{Payload, TICKS_PER_SECOND, Track};

const FRAME: i64 = TICKS_PER_SECOND / 25;

fn entry(frame: i64, keyframe: bool, bytes: usize) -> Arc<Entry> {
    let unit = AccessUnit {
        track: Track::Video,
        dts: frame * FRAME,
        pts: frame * FRAME,
        keyframe,
        payload: Payload::Nals(vec![Bytes::from(vec![1; bytes])]),
    };
    Arc::new(Entry::new(unit, Arc::default()))
}

/// Publishes frames of one second's groups.
fn publish(hub: &Hub, frames: std::ops::Range<i64>) {
    for frame in frames {
        hub.publish(entry(frame, frame % 25 == 0, 100));
    }
}

fn take_all(hub: &Hub, cursor: &mut Cursor) -> (Vec<i64>, u64) {
    let (mut frames, mut skips) = (Vec::new(), 0);
    while let Taken::Entry { entry, skipped, .. } = hub.take(cursor) {
        frames.push(entry.unit.dts / FRAME);
        skips += skipped;
    }
    (frames, skips)
}

/// Takes everything at once, and notes what it got.
#[derive(Debug)]
struct Prompt {
    hub: Arc<Hub>,
    state: Mutex<(Cursor, Vec<i64>)>,
}

impl Listener for Prompt {
    fn handle_published(&self) {
        let (cursor, seen) = &mut *self.state.lock().unwrap();
        seen.extend(take_all(&self.hub, cursor).0);
    }
}

#[test]
fn a_listener_takes_each_entry_as_it_is_published_until_nobody_holds_it() {
    let hub = Arc::new(Hub::default());
    publish(&hub, 0..3);
    let prompt = Arc::new(Prompt { hub: Arc::clone(&hub), state: Mutex::default() });
    let listener: Arc<dyn Listener> = Arc::clone(&prompt) as Arc<dyn Listener>;
    hub.listen(&listener);
    drop(listener);
    for frame in 3..6 {
        publish(&hub, frame..frame + 1);
        // What was there before comes with the first call.
        assert_eq!(prompt.state.lock().unwrap().1, (0..=frame).collect::<Vec<_>>());
    }
    let gone = Arc::downgrade(&prompt);
    drop(prompt);
    publish(&hub, 6..8);
    assert!(gone.upgrade().is_none());
    assert!(hub.listeners().is_empty());
}

#[test]
fn a_new_reader_begins_at_the_last_keyframe() {
    let hub = Hub::default();
    publish(&hub, 0..60);
    assert_eq!(take_all(&hub, &mut Cursor::default()), ((50..60).collect(), 0));
}

#[test]
fn nothing_is_given_out_before_a_keyframe() {
    let hub = Hub::default();
    publish(&hub, 3..10);
    assert!(matches!(hub.take(&mut Cursor::default()), Taken::Nothing));
}

#[test]
fn a_reader_that_keeps_up_misses_nothing() {
    let hub = Hub::default();
    let mut cursor = Cursor::default();
    let mut seen = Vec::new();
    for second in 0..100 {
        publish(&hub, second * 25..(second + 1) * 25);
        let (frames, skipped) = take_all(&hub, &mut cursor);
        seen.extend(frames);
        assert_eq!(skipped, 0);
    }
    assert_eq!(seen, (0..2_500).collect::<Vec<_>>());
}

#[test]
fn a_slow_reader_skips_to_the_last_keyframe_and_the_others_notice_nothing() {
    let hub = Hub::default();
    let (mut slow, mut quick) = (Cursor::default(), Cursor::default());
    publish(&hub, 0..25);
    assert!(matches!(hub.take(&mut slow), Taken::Entry { .. }));
    let mut quick_frames = take_all(&hub, &mut quick).0.len();
    for second in 1..10 {
        publish(&hub, second * 25..(second + 1) * 25);
        quick_frames += take_all(&hub, &mut quick).0.len();
    }
    assert_eq!(quick_frames, 250);
    let (frames, skipped) = take_all(&hub, &mut slow);
    assert_eq!(frames, (225..250).collect::<Vec<_>>());
    assert_eq!(skipped, 224);
}

#[test]
fn a_reader_a_little_behind_catches_up_without_loss() {
    let hub = Hub::default();
    let mut cursor = Cursor::default();
    publish(&hub, 0..1);
    assert!(matches!(hub.take(&mut cursor), Taken::Entry { .. }));
    publish(&hub, 1..70);
    assert_eq!(take_all(&hub, &mut cursor), ((1..70).collect(), 0));
}

#[test]
fn memory_is_bounded_by_time_and_by_bytes() {
    let hub = Hub::default();
    publish(&hub, 0..10_000);
    assert!(hub.bytes() <= 100 * 25 * 5, "{}", hub.bytes());
    // One endless group of large pictures.
    let hub = Hub::default();
    for frame in 0..100 {
        hub.publish(entry(20_000 + frame, frame == 0, 1024 * 1024));
    }
    assert!(hub.bytes() <= 33 * 1024 * 1024, "{}", hub.bytes());
}

#[test]
fn what_every_reader_has_taken_is_dropped_with_the_next_keyframe() {
    let hub = Hub::default();
    let (mut quick, mut slow) = (Cursor::default(), Cursor::default());
    publish(&hub, 0..25);
    take_all(&hub, &mut quick);
    take_all(&hub, &mut slow);
    publish(&hub, 25..50);
    take_all(&hub, &mut quick);
    // The slow one is still to take all of the second group.
    assert_eq!(hub.bytes(), 25 * 100);
    publish(&hub, 50..75);
    assert_eq!(hub.bytes(), 50 * 100);
    assert_eq!(take_all(&hub, &mut slow), ((25..75).collect(), 0));
    publish(&hub, 75..76);
    assert_eq!(hub.bytes(), 26 * 100, "the quick one has not taken the third group");
    // A reader that is gone wants nothing.
    drop(quick);
    publish(&hub, 76..77);
    assert_eq!(hub.bytes(), 2 * 100);
}
