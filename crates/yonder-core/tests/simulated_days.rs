//! Feed and push supervisors together, through simulated days of random faults.
//!
//! A run is made from a seed; a failing one is named and can be repeated with `YONDER_SEED`.

#![expect(clippy::unwrap_used, reason = "a test ends where something unexpected happens")]

use std::time::Duration;

use yonder_core::{
    Cause, CauseCode, Decision, FeedMachine, FeedState, HoldMachine, PushMachine, PushState, Showing, Source,
};

const DAY: Duration = Duration::from_secs(86_400);
const HOLD_AFTER: Duration = Duration::from_secs(3);

/// Repeatable random numbers (xorshift64*).
struct Random(u64);

impl Random {
    fn next(&mut self, below: u64) -> u64 {
        self.0 ^= self.0 >> 12;
        self.0 ^= self.0 << 25;
        self.0 ^= self.0 >> 27;
        self.0.wrapping_mul(0x2545_f491_4f6c_dd1d) % below
    }

    /// A length of time that is usually short and sometimes long.
    fn span(&mut self, usual_s: u64) -> Duration {
        let stretch = if self.next(10) == 0 { 20 } else { 1 };
        Duration::from_millis(1 + self.next(usual_s * 1000 * stretch))
    }
}

/// The world outside: camera and platform that come and go.
struct World {
    now: Duration,
    random: Random,
    feed: FeedMachine,
    hold: HoldMachine,
    push: PushMachine,
    camera_until: (bool, Duration),
    platform_until: (bool, Duration),
    /// When a dial that is under way ends.
    feed_answer: Option<Duration>,
    push_answer: Option<Duration>,
    connected: bool,
    last_feed_failure: Option<Duration>,
    last_push_failure: Option<Duration>,
    /// Since when camera and platform are both there without a break.
    possible_since: Option<Duration>,
    longest_recovery: Duration,
    source: Source,
    /// Since when the push is connected without anything to send.
    silent_since: Option<Duration>,
    longest_silence: Duration,
    dials: u64,
}

impl World {
    fn new(seed: u64) -> Self {
        let mut random = Random(seed | 1);
        let (feed, push) = (FeedMachine::new(seed, Duration::ZERO), PushMachine::new(!seed, Duration::ZERO));
        Self {
            now: Duration::ZERO,
            camera_until: (true, random.span(600)),
            platform_until: (true, random.span(600)),
            random,
            feed,
            hold: HoldMachine::new(Some(HOLD_AFTER)),
            push,
            feed_answer: None,
            push_answer: None,
            connected: false,
            last_feed_failure: None,
            last_push_failure: None,
            possible_since: Some(Duration::ZERO),
            longest_recovery: Duration::ZERO,
            source: Source::Away,
            silent_since: None,
            longest_silence: Duration::ZERO,
            dials: 0,
        }
    }

    fn run(&mut self, until: Duration) {
        self.feed.want(true, self.now);
        self.push.want(true, self.now);
        while self.now < until {
            self.step();
        }
    }

    fn step(&mut self) {
        self.weather();
        self.feed_events();
        self.push_events();
        let feed_next = self.decide_feed();
        let flows = self.feed.state() == FeedState::Flowing;
        let cause = self.feed.cause().cloned();
        self.hold.on_feed(flows, None, self.now);
        let (source, hold_next) = match self.hold.decide(self.now) {
            Showing::Holding => (Source::Holding, None),
            Showing::FeedUntil(until) => (Source::Away, Some(until)),
            Showing::Feed if flows => (Source::Feed, None),
            Showing::Feed => (Source::Away, None),
        };
        self.source = source;
        self.push.on_source(source, cause.as_ref(), self.now);
        let push_next = self.decide_push();
        self.check();
        let next =
            [Some(self.camera_until.1), Some(self.platform_until.1), self.feed_answer, self.push_answer]
                .into_iter()
                .chain([feed_next, hold_next, push_next])
                .flatten()
                .filter(|at| *at > self.now)
                .min()
                .unwrap();
        self.now = next;
    }

    /// Camera and platform come and go.
    fn weather(&mut self) {
        if self.camera_until.1 <= self.now {
            let there = !self.camera_until.0;
            self.camera_until = (there, self.now + self.random.span(if there { 3_600 } else { 40 }));
            if !there && matches!(self.feed.state(), FeedState::Flowing | FeedState::Stalled) {
                self.fail_feed(CauseCode::FeedClosedByCamera);
            }
        }
        if self.platform_until.1 <= self.now {
            let there = !self.platform_until.0;
            self.platform_until = (there, self.now + self.random.span(if there { 3_600 } else { 40 }));
            if !there && self.connected {
                self.fail_push(CauseCode::PushClosedByPlatform);
            }
        }
        let possible = self.camera_until.0 && self.platform_until.0;
        self.possible_since = if possible { self.possible_since.or(Some(self.now)) } else { None };
    }

    fn feed_events(&mut self) {
        if self.feed_answer.is_some_and(|at| at <= self.now) {
            self.feed_answer = None;
            if self.camera_until.0 {
                self.feed.on_flowing(self.now);
            } else {
                self.fail_feed(CauseCode::FeedConnectionRefused);
            }
        }
    }

    fn push_events(&mut self) {
        if self.push_answer.is_some_and(|at| at <= self.now) {
            self.push_answer = None;
            if self.platform_until.0 {
                self.connected = true;
                self.push.on_live(self.now);
            } else {
                self.fail_push(CauseCode::PushConnectionRefused);
            }
        }
    }

    fn fail_feed(&mut self, code: CauseCode) {
        self.last_feed_failure = Some(self.now);
        self.feed.on_failed(Cause::new(code, "It failed."), self.now);
    }

    fn fail_push(&mut self, code: CauseCode) {
        self.connected = false;
        self.last_push_failure = Some(self.now);
        self.push.on_failed(Cause::new(code, "It failed."), self.now);
    }

    fn decide_feed(&mut self) -> Option<Duration> {
        match self.feed.decide(self.now) {
            Decision::Dial => {
                self.dials += 1;
                if let Some(failed) = self.last_feed_failure {
                    assert!(self.now - failed >= Duration::from_millis(900), "the camera was hammered");
                }
                self.feed_answer = Some(self.now + Duration::from_millis(1 + self.random.next(400)));
                None
            }
            Decision::WaitUntil(until) => Some(until),
            Decision::Rest => None,
        }
    }

    fn decide_push(&mut self) -> Option<Duration> {
        match self.push.decide(self.now) {
            Decision::Dial => {
                self.dials += 1;
                assert_ne!(self.source, Source::Away, "a platform was dialled without a picture");
                if let Some(failed) = self.last_push_failure {
                    assert!(self.now - failed >= Duration::from_millis(800), "the platform was hammered");
                }
                self.push_answer = Some(self.now + Duration::from_millis(1 + self.random.next(400)));
                None
            }
            Decision::WaitUntil(until) => Some(until),
            Decision::Rest => None,
        }
    }

    fn check(&mut self) {
        assert_ne!(self.feed.state(), FeedState::Blocked, "nothing here needs a person");
        assert_ne!(self.push.state(), PushState::Blocked, "nothing here needs a person");
        if matches!(self.feed.state(), FeedState::Waiting { .. }) {
            assert!(self.feed.cause().is_some(), "a feed waits without a cause");
        }
        let is_silent = self.connected && self.source == Source::Away;
        self.silent_since = if is_silent { self.silent_since.or(Some(self.now)) } else { None };
        if let Some(since) = self.silent_since {
            self.longest_silence = self.longest_silence.max(self.now - since);
            assert!(self.longest_silence <= HOLD_AFTER, "a broadcast ran without a picture");
        }
        if self.connected && self.source == Source::Holding {
            assert_eq!(self.push.state(), PushState::Holding);
        }
        if let (Some(since), PushState::Live) = (self.possible_since, self.push.state()) {
            self.longest_recovery = self.longest_recovery.max(self.push.since().saturating_sub(since));
        }
        // What is wanted and possible runs, after the longest delay of each side and their dials.
        if let Some(since) = self.possible_since
            && self.now.saturating_sub(since) > Duration::from_secs(45)
        {
            assert_eq!(self.push.state(), PushState::Live, "possible since {since:?}, now {:?}", self.now);
        }
    }
}

/// Runs one seed and names it when it fails.
fn run(seed: u64, days: u32) -> World {
    let mut world = World::new(seed);
    let outcome = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| world.run(DAY * days)));
    if let Err(panic) = outcome {
        let said = panic.downcast_ref::<String>().cloned().unwrap_or_default();
        panic!("seed {seed} failed after {:?}: {said}", world.now);
    }
    world
}

#[test]
fn thirty_days_of_faults_end_live_each_time_and_nobody_is_hammered() {
    let world = run(42, 30);
    assert!(world.dials > 500, "{} dials", world.dials);
    assert!(world.longest_recovery < Duration::from_secs(45), "{:?}", world.longest_recovery);
    assert!(world.feed.reconnects() > 100 && world.push.reconnects() > 100);
}

#[test]
fn thousands_of_seeds_keep_the_same_promises() {
    let only = std::env::var("YONDER_SEED").ok().and_then(|seed| seed.parse().ok());
    let seeds = only.map_or(1..2_000_u64, |seed: u64| seed..seed + 1);
    for seed in seeds {
        run(seed, 1);
    }
}
