//! Feed and push supervisors together, through simulated days of random faults.
//!
//! The invariant is the product's promise: what is wanted and possible is live within its stated time, with no hand touching
//! it. A run is made from a seed; a failing one is printed and replays with `YONDER_SEED`. `YONDER_SIMULATED_DAYS` and
//! `YONDER_SIMULATED_SEEDS` make the runs longer and more.

#![expect(clippy::unwrap_used, reason = "a test ends where something unexpected happens")]
#![expect(clippy::indexing_slicing, reason = "a test ends where something unexpected happens")]

mod faults;

use std::time::Duration;

use yonder_core::{
    Cause, CauseCode, Decision, FailureClass, FeedMachine, FeedState, HoldDecision, HoldMachine, PushMachine,
    PushState, Source,
};

use faults::{CameraFault, Random, ServerFault};

const DAY: Duration = Duration::from_secs(86_400);
const HOLD_AFTER: Duration = Duration::from_secs(3);
/// Main and backup server.
const SERVERS: usize = 2;
/// Interval at which better servers are probed.
const PROBE_INTERVAL: Duration = Duration::from_secs(15);
/// Beyond the time that a waiting feed or push states for its next attempt, what is possible is live within this: the
/// attempts on a server whose key is busy, and one round of both servers, at the largest normal delay of 30 s.
const MARGIN: Duration = Duration::from_secs(150);
/// Credentials are tried at most twice within this.
const CREDENTIAL_WINDOW: Duration = Duration::from_secs(15 * 60);

/// End of the present fault, when the next one is drawn.
struct Condition<T> {
    fault: T,
    until: Duration,
}

/// Camera and platform that come and go, and what supervises them.
struct World {
    now: Duration,
    random: Random,
    feed: FeedMachine,
    hold: HoldMachine,
    push: PushMachine,
    camera: Condition<CameraFault>,
    servers: [Condition<ServerFault>; SERVERS],
    /// Until when the platform takes our last broadcast for alive.
    busy_until: Duration,
    /// When a connection that is under way is answered.
    feed_answer: Option<Duration>,
    push_answer: Option<Duration>,
    next_feed_probe: Option<Duration>,
    next_server_probe: Duration,
    connected: bool,
    last_feed_failure: Option<Duration>,
    last_push_failure: Option<Duration>,
    /// Refusals of credentials, the latest last.
    camera_refusals: Vec<Duration>,
    key_refusals: [Vec<Duration>; SERVERS],
    /// Deadline for being live again; `None` while a fault makes that impossible.
    due: Option<Duration>,
    /// Servers that were ready when that was stated.
    ready: [bool; SERVERS],
    source: Source,
    /// Since when the push is connected without anything to send.
    silent_since: Option<Duration>,
    dials: u64,
    returns: Vec<Duration>,
    recoveries: u64,
}

impl World {
    fn new(seed: u64) -> Self {
        let random = Random::new(seed);
        let (feed, push) = (FeedMachine::new(seed, Duration::ZERO), PushMachine::new(!seed, Duration::ZERO));
        // Everything has worked once before the faults begin.
        let calm = Duration::from_secs(60);
        Self {
            now: Duration::ZERO,
            random,
            feed,
            hold: HoldMachine::new(Some(HOLD_AFTER)),
            push: push.with_routes(SERVERS, Duration::from_secs(120)),
            camera: Condition { fault: CameraFault::Ready, until: calm },
            servers: [0, 1].map(|_| Condition { fault: ServerFault::Ready, until: calm }),
            busy_until: Duration::ZERO,
            feed_answer: None,
            push_answer: None,
            next_feed_probe: None,
            next_server_probe: PROBE_INTERVAL,
            connected: false,
            last_feed_failure: None,
            last_push_failure: None,
            camera_refusals: Vec::new(),
            key_refusals: [Vec::new(), Vec::new()],
            due: None,
            ready: [false; SERVERS],
            source: Source::Away,
            silent_since: None,
            dials: 0,
            returns: Vec::new(),
            recoveries: 0,
        }
    }

    fn run(&mut self, until: Duration) {
        self.feed.set_enabled(true, self.now);
        self.push.set_enabled(true, self.now);
        while self.now < until {
            self.step();
        }
    }

    fn step(&mut self) {
        self.draw_faults();
        self.answer_feed();
        self.answer_push();
        self.probe_camera();
        let feed_next = self.decide_feed();
        let flows = self.feed.state() == FeedState::Flowing;
        let cause = self.feed.cause().cloned();
        self.hold.on_feed(flows, None, self.now);
        let (source, hold_next) = match self.hold.decide(self.now) {
            HoldDecision::Slate => (Source::Holding, None),
            HoldDecision::FeedUntil(until) => (Source::Away, Some(until)),
            HoldDecision::Feed if flows => (Source::Feed, None),
            HoldDecision::Feed => (Source::Away, None),
        };
        self.source = source;
        self.push.on_source(source, cause.as_ref(), self.now);
        self.probe_servers();
        let push_next = self.decide_push();
        self.check();
        let conditions = [
            self.camera.until,
            self.servers[0].until,
            self.servers[1].until,
            self.busy_until,
            self.next_server_probe,
        ];
        let next = conditions
            .into_iter()
            .chain([self.feed_answer, self.push_answer, self.next_feed_probe].into_iter().flatten())
            .chain([feed_next, hold_next, push_next].into_iter().flatten())
            .filter(|at| *at > self.now)
            .min();
        self.now = next.unwrap();
    }

    fn draw_faults(&mut self) {
        if self.camera.until <= self.now {
            // A reboot is a row of faults.
            let is_over = self.camera.fault != CameraFault::Ready && self.random.below(3) > 0;
            let fault = if is_over { CameraFault::Ready } else { CameraFault::draw(&mut self.random) };
            let mean_s = if fault == CameraFault::Ready { 3_600 } else { 60 };
            self.camera = Condition { fault, until: self.now + self.random.span(mean_s) };
            if fault != CameraFault::Ready
                && matches!(self.feed.state(), FeedState::Flowing | FeedState::Stalled)
            {
                self.fail_feed(Cause::new(CauseCode::FeedClosedByCamera, "It closed."));
            }
        }
        for server in 0..SERVERS {
            if self.servers[server].until > self.now {
                continue;
            }
            let is_over = self.servers[server].fault != ServerFault::Ready && self.random.below(4) > 0;
            let fault = if is_over { ServerFault::Ready } else { ServerFault::draw(&mut self.random) };
            let mean_s = if fault == ServerFault::Ready { 3_600 } else { 90 };
            self.servers[server] = Condition { fault, until: self.now + self.random.span(mean_s) };
            if fault != ServerFault::Ready && self.connected && self.push.route() == server {
                self.fail_push(Cause::new(CauseCode::PushClosedByPlatform, "It closed."));
            }
        }
    }

    fn answer_feed(&mut self) {
        if self.feed_answer.is_none_or(|at| at > self.now) {
            return;
        }
        self.feed_answer = None;
        match self.camera.fault.answer(self.feed.history()) {
            None => {
                // The camera forgets failed sign-ins with a good one.
                self.camera_refusals.clear();
                self.feed.on_flowing(self.now);
            }
            Some(cause) => self.fail_feed(cause),
        }
    }

    fn answer_push(&mut self) {
        if self.push_answer.is_none_or(|at| at > self.now) {
            return;
        }
        self.push_answer = None;
        let history = self.push.history();
        let answer = match self.servers[self.push.route()].fault.answer(history) {
            None if self.now < self.busy_until => Some(ServerFault::busy(history)),
            answer => answer,
        };
        match answer {
            None => {
                self.connected = true;
                self.key_refusals[self.push.route()].clear();
                self.push.on_live(self.now);
                self.recoveries += 1;
            }
            Some(cause) => self.fail_push(cause),
        }
    }

    fn fail_feed(&mut self, cause: Cause) {
        self.last_feed_failure = Some(self.now);
        if FailureClass::of(cause.code) == FailureClass::Credentials {
            self.camera_refusals.push(self.now);
        }
        self.feed.on_failed(cause, self.now);
    }

    fn fail_push(&mut self, cause: Cause) {
        if std::mem::take(&mut self.connected) && self.random.below(3) == 0 {
            self.busy_until = self.now + self.random.span(60);
        }
        self.last_push_failure = Some(self.now);
        if FailureClass::of(cause.code) == FailureClass::Credentials {
            self.key_refusals[self.push.route()].push(self.now);
        }
        self.push.on_failed(cause, self.now);
    }

    fn probe_camera(&mut self) {
        if self.next_feed_probe.is_some_and(|at| at <= self.now) {
            self.next_feed_probe = None;
            if self.camera.fault.accepts_connections() {
                self.feed.on_probe_answered(self.now);
            }
        }
        if self.next_feed_probe.is_none() {
            self.next_feed_probe = self.feed.probe_interval(self.now).map(|interval| self.now + interval);
        }
    }

    fn probe_servers(&mut self) {
        if self.next_server_probe > self.now {
            return;
        }
        self.next_server_probe = self.now + PROBE_INTERVAL;
        for server in 0..self.push.route() {
            if self.push.record_probe(server, self.servers[server].fault.is_reachable(), self.now) {
                self.connected = false;
                self.returns.push(self.now);
                self.push.on_returned(self.now);
                return;
            }
        }
    }

    fn decide_feed(&mut self) -> Option<Duration> {
        match self.feed.decide(self.now) {
            Decision::Dial => {
                self.dials += 1;
                self.feed_answer = Some(self.now + Duration::from_millis(1 + self.random.below(400)));
                None
            }
            Decision::WaitUntil(until) => Some(until),
            Decision::Idle => None,
        }
    }

    fn decide_push(&mut self) -> Option<Duration> {
        match self.push.decide(self.now) {
            Decision::Dial => {
                self.dials += 1;
                assert_ne!(self.source, Source::Away, "a platform was connected to without video");
                if let Some(failed) = self.last_push_failure {
                    assert!(self.now - failed >= Duration::from_millis(800), "the platform was hammered");
                }
                self.push_answer = Some(self.now + Duration::from_millis(1 + self.random.below(400)));
                None
            }
            Decision::WaitUntil(until) => Some(until),
            Decision::Idle => None,
        }
    }

    fn check(&mut self) {
        assert!(!matches!(self.feed.state(), FeedState::Blocked { .. }), "nothing here needs a person");
        assert!(!matches!(self.push.state(), PushState::Blocked { .. }), "nothing here needs a person");
        if matches!(self.feed.state(), FeedState::Waiting { .. }) {
            assert!(self.feed.cause().is_some(), "a feed waits without a cause");
        }
        let [main, backup] = &mut self.key_refusals;
        for refusals in [&mut self.camera_refusals, main, backup] {
            if let [.., first, _, last] = refusals[..] {
                assert!(last - first >= CREDENTIAL_WINDOW, "three tries of credentials from {first:?}");
            }
            let old = refusals.len().saturating_sub(3);
            refusals.drain(..old);
        }
        let is_silent = self.connected && self.source == Source::Away;
        self.silent_since = if is_silent { self.silent_since.or(Some(self.now)) } else { None };
        if let Some(since) = self.silent_since {
            assert!(self.now - since <= HOLD_AFTER, "a broadcast ran without video");
        }
        if self.connected && self.source == Source::Holding {
            assert_eq!(self.push.state(), PushState::Holding);
        }
        self.check_promise();
    }

    /// Checks that everything wanted and possible is live within its stated time.
    fn check_promise(&mut self) {
        let is_possible = self.camera.fault == CameraFault::Ready
            && self.servers.iter().any(|server| server.fault == ServerFault::Ready)
            && self.now >= self.busy_until;
        if !is_possible {
            self.due = None;
            return;
        }
        let ready_now = [0, 1].map(|server| self.servers[server].fault == ServerFault::Ready);
        if (0..SERVERS).any(|server| self.ready[server] && !ready_now[server]) {
            // Less is possible than was when the time was stated.
            self.due = None;
        }
        self.ready = ready_now;
        // A server that refused the key is not tried for a while, also after it has come to its senses.
        let rationed_until =
            |server: usize| self.key_refusals[server].last().map(|at| *at + CREDENTIAL_WINDOW);
        let ready = (0..SERVERS).filter(|server| self.servers[*server].fault == ServerFault::Ready);
        let first_ready = ready.map(|server| rationed_until(server).unwrap_or_default()).min();
        let stated = [self.feed.state().retry_at(), self.push.state().retry_at(), first_ready];
        let stated = stated.into_iter().flatten().max().unwrap_or(self.now).max(self.now);
        // An attempt under way states its time when it fails.
        let is_dialing = self.feed.state() == FeedState::Dialing || self.push.state() == PushState::Dialing;
        if self.due.is_none() && is_dialing {
            return;
        }
        let due = *self.due.get_or_insert(stated + MARGIN);
        if self.push.state() == PushState::Live {
            // A later fault on the server in use starts a new promise.
            self.due = None;
        } else {
            assert!(
                self.now <= due,
                "possible but not live: feed {:?}, push {:?}",
                self.feed.state(),
                self.push.state()
            );
        }
    }
}

/// Runs one seed and prints it when it fails.
fn run(seed: u64, days: u32) -> World {
    let mut world = World::new(seed);
    let outcome = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| world.run(DAY * days)));
    if let Err(panic) = outcome {
        let message = panic.downcast_ref::<String>().cloned().unwrap_or_default();
        let (camera, servers) = (world.camera.fault, world.servers.map(|server| server.fault));
        panic!(
            "YONDER_SEED={seed} fails after {:?} (camera {camera:?}, servers {servers:?}): {message}",
            world.now
        );
    }
    world
}

fn number_from(variable: &str) -> Option<u64> {
    std::env::var(variable).ok().and_then(|text| text.parse().ok())
}

#[test]
fn thirty_days_of_faults_end_live_each_time() {
    let world = run(42, 30);
    assert!(world.dials > 500, "{} connections", world.dials);
    assert!(world.feed.reconnects() > 100 && world.push.reconnects() > 100);
    assert!(world.recoveries > 200 && !world.returns.is_empty());
}

#[test]
fn every_seed_recovers_in_time() {
    let seeds = match number_from("YONDER_SEED") {
        Some(only) => only..only + 1,
        None => 1..number_from("YONDER_SIMULATED_SEEDS").unwrap_or(1_000) + 1,
    };
    let days = u32::try_from(number_from("YONDER_SIMULATED_DAYS").unwrap_or(2)).unwrap();
    for seed in seeds {
        run(seed, days);
    }
}
