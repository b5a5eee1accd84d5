use bytes::Bytes;
use rstest::rstest;
use yonder_media::{Payload, TICKS_PER_SECOND};
use yonder_rtsp::CameraUrl;

use super::*;
use crate::clock::Clock;
use crate::hub::{Cursor, Taken};
use crate::spec::{FeedSpec, TransportChoice};

const FRAME: i64 = TICKS_PER_SECOND / 25;

/// A feed without a camera, and the output of a relay that sends it.
struct Bench {
    feed: Arc<Feed>,
    output: Arc<RelayOutput>,
    cursor: Cursor,
    times: Vec<i64>,
}

impl Bench {
    fn new() -> Self {
        let (url, _) = CameraUrl::parse("rtsp://192.0.2.7/main").unwrap();
        let spec = FeedSpec {
            name: "Summit".into(),
            url,
            credentials: None,
            transport: TransportChoice::Auto,
            pin: None,
            history: yonder_core::History::default(),
        };
        let feed = Feed::new(spec, Clock::default(), watch::Sender::new(0));
        let output =
            RelayOutput::new("relay", Arc::clone(&feed), HoldSpec::default(), watch::Sender::new(0), None);
        feed.attach(&output);
        Self { feed, output, cursor: Cursor::default(), times: Vec::new() }
    }

    fn frame(&mut self, dts: i64, keyframe: bool) {
        let payload = Payload::Nals(vec![Bytes::from_static(&[0x65, 1])]);
        let unit = AccessUnit { track: Track::Video, dts, pts: dts, keyframe, payload };
        self.feed.publish(Entry::new(unit, Arc::default()));
        self.read();
    }

    /// Puts a slate of the feed's own keyframe on the output, and plays `frames` of it.
    fn hold(&mut self, frames: i64) {
        let request = self.output.slate_request().unwrap();
        let gop = SlateGop::repeating(&request.keyframe, FRAME);
        let mut player = self.output.begin_slate(gop);
        for _ in 0..frames {
            let unit = player.next_unit();
            self.output.send_slate(unit, player.headers());
            self.read();
        }
    }

    fn read(&mut self) {
        while let Taken::Entry { entry, .. } = self.output.hub.take(&mut self.cursor) {
            self.times.push(entry.unit.dts);
        }
    }

    /// Decoding times on the output since the last call.
    fn sent(&mut self) -> Vec<i64> {
        std::mem::take(&mut self.times)
    }
}

#[rstest]
#[case::in_time(0)]
#[case::keyframe_350_ms_late(350)]
#[case::camera_clock_a_minute_slow(60_000)]
#[case::camera_clock_a_minute_fast(-60_000)]
fn feed_returns_from_the_slate_at_its_first_keyframe(#[case] late_ms: i64) {
    let mut bench = Bench::new();
    let begin = bench.feed.clock.ticks_now() - 50 * FRAME;
    for frame in 0..50 {
        bench.frame(begin + frame * FRAME, frame == 0);
    }
    bench.hold(100);
    let held = bench.sent();
    assert_eq!(held.len(), 150);
    // The slate is on the output while it is wanted, whatever the feed does.
    let now = begin + 150 * FRAME - late_ms * 90;
    bench.frame(now, true);
    assert_eq!(bench.sent(), [0_i64; 0]);
    bench.output.apply_hold_request();
    bench.frame(now + FRAME, false);
    assert_eq!(bench.sent(), [0_i64; 0], "a feed returns with a keyframe");
    bench.frame(now + 2 * FRAME, true);
    bench.frame(now + 3 * FRAME, false);
    let returned = bench.sent();
    assert_eq!(returned.len(), 2);
    assert!(bench.output.is_on_feed());
    let all = [held, returned].concat();
    let steps: Vec<i64> = all.windows(2).map(|two| two[1] - two[0]).collect();
    assert!(steps.iter().all(|step| (FRAME / 2..=2 * FRAME).contains(step)), "{steps:?}");
}

#[test]
fn holding_again_and_again_never_moves_time_back() {
    let mut bench = Bench::new();
    let begin = bench.feed.clock.ticks_now();
    let mut all = Vec::new();
    for round in 0..40 {
        let late = (round % 7) * 9_000 - 20_000;
        for frame in 0..25 {
            bench.frame(begin + (round * 50 + frame) * FRAME - late, frame == 0);
        }
        bench.hold(25);
        bench.output.apply_hold_request();
        all.extend(bench.sent());
    }
    assert!(all.windows(2).all(|two| two[1] > two[0]));
    assert_eq!(all.len(), 40 * 50);
}
