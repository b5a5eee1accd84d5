use bytes::Bytes;
use rstest::rstest;
use yonder_media::{AccessUnit, Payload, TICKS_PER_SECOND};

use std::task::Waker;

use yonder_address::read_pasted;

use super::*;
use crate::ids::PushId;
use crate::output::ring::{Cursor, Next};
use crate::spec::PushSpec;
use yonder_slate::SlateGop;

const FRAME: i64 = TICKS_PER_SECOND / 25;

/// Output of a relay without pushes, and a reader of its ring.
struct Bench {
    output: RelayOutput,
    clock: Clock,
    cursor: Cursor,
    times: Vec<i64>,
}

impl Bench {
    fn new() -> Self {
        let clock = Clock::default();
        let output = RelayOutput::new(
            OutputId(1),
            "relay",
            Rendition::default(),
            clock,
            HoldSpec::default(),
            (None, None),
        );
        Self { output, clock, cursor: Cursor::default(), times: Vec::new() }
    }

    fn frame(&mut self, dts: i64, keyframe: bool) {
        let payload = Payload::Nals(vec![Bytes::from_static(&[0x65, 1])]);
        let unit = AccessUnit { track: Track::Video, dts, pts: dts, keyframe, payload };
        let now = self.clock.now();
        self.output.handle_frame(&Arc::new(Frame::new(unit, Arc::default())), now);
        self.read();
    }

    /// Puts a slate of the feed's own keyframe on the output, and plays `frames` of it.
    fn hold(&mut self, frames: u32) {
        let now = self.clock.now();
        let request = self.output.slate_request(&mut FeedStats::default(), now).unwrap();
        let gop = SlateGop::repeating(&request.keyframe, FRAME);
        self.output.begin_slate(gop, None, now);
        for frame in 0..frames {
            self.output.play_slate(now + Duration::from_millis(40) * frame + Duration::from_millis(1));
            self.read();
        }
    }

    fn read(&mut self) {
        while let Some(Next { number, .. }) = self.output.ring.read(&mut self.cursor) {
            self.times.push(self.output.ring.slot(number).unwrap().times.dts);
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
    let begin = bench.clock.ticks_now() - 50 * FRAME;
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
    assert_eq!(bench.output.source, ActiveSource::Feed);
    let all = [held, returned].concat();
    let steps: Vec<i64> = all.windows(2).map(|two| two[1] - two[0]).collect();
    assert!(steps.iter().all(|step| (FRAME / 2..=2 * FRAME).contains(step)), "{steps:?}");
}

#[test]
fn repeated_holds_never_move_time_back() {
    let mut bench = Bench::new();
    let begin = bench.clock.ticks_now();
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

fn push_spec(at: usize) -> PushSpec {
    let pasted = read_pasted(Some("rtmp://192.0.2.9/live"), Some("bramble-summit-4711")).unwrap();
    PushSpec {
        destination: format!("to-{at}"),
        server: pasted.server,
        backup: None,
        failback_delay: Duration::from_secs(120),
        key: pasted.key,
        encryption: None,
        secret_lost: false,
        authority: None,
        uplinks: Vec::new(),
        refusals: Arc::default(),
        history: yonder_core::History::default(),
        adaptation: crate::spec::Adaptation::NONE,
    }
}

#[test]
fn pushes_give_way_after_the_deadline_and_each_has_its_turn() {
    const PUSHES: usize = 64;
    let mut output = Bench::new().output;
    let mut children = Children::new();
    for at in 0..PUSHES {
        let id = PushId(children.next_number());
        output.add_push(Push::new(id, output.clock, Arc::clone(&output.name), push_spec(at), None));
    }
    let mut task = Context::from_waker(Waker::noop());
    let mut context = OutputContext {
        task: &mut task,
        is_tick: false,
        stats: &mut FeedStats::default(),
        signal: &FeedSignal::default(),
        overload: None,
        children: &mut children,
    };
    // The deadline has passed: one push is polled at a time, and the next poll continues after it.
    let past = Instant::now();
    let mut firsts = Vec::new();
    for _ in 0..PUSHES {
        firsts.push(output.first_push);
        assert!(output.poll(&mut context, past), "others are still to be polled");
    }
    assert_eq!(firsts, (0..PUSHES).collect::<Vec<_>>());
    // With time enough all of them are polled at once.
    assert!(!output.poll(&mut context, past + Duration::from_secs(3_600)));
}
