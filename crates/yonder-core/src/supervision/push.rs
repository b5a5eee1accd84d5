//! Supervision of one push.
//!
//! A push dials only while there is a picture to send, the feed's or the holding one: a platform should not see a
//! broadcast without. Once live it stays connected while there is none, for as long as the platform keeps the
//! connection.

use std::time::Duration;

use crate::cause::{Cause, CauseCode};

use super::backoff::Backoff;
use super::{Decision, Verdict, verdict};

/// Growing to half a minute, with jitter, so that nobody gets banned.
const FIRST_DELAY: Duration = Duration::from_secs(1);
const MOST_DELAY: Duration = Duration::from_secs(30);
const JITTER_PERCENT: u32 = 20;
/// A platform may take this long to notice that a broadcast has dropped; until then the key is busy.
const BUSY_PATIENCE: Duration = Duration::from_secs(120);
/// While the key is busy, delays stay short: the platform lets go at any moment.
const BUSY_DELAY: Duration = Duration::from_secs(5);
/// A broadcast that held this long was a success: the next failure starts from the shortest delay.
const STEADY: Duration = Duration::from_secs(10);

/// Failures in a row by the first way before the next one is tried.
const FIRST_WAY_FAILURES: u32 = 2;

/// Which of a destination's two servers.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum ServerRole {
    /// The usual one.
    #[default]
    Main,
    /// The one for when the main one cannot be used.
    Backup,
}

impl ServerRole {
    /// The role's word.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Main => "main",
            Self::Backup => "backup",
        }
    }
}

/// What there is to send.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Source {
    /// Nothing: the feed is away.
    #[default]
    Away,
    /// The feed.
    Feed,
    /// The holding picture.
    Holding,
}

/// State of a push.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PushState {
    /// Not wanted.
    Off,
    /// Under way to the platform.
    Dialing,
    /// The platform takes the picture.
    Live,
    /// The platform takes the holding picture.
    Holding,
    /// Live, but the backlog grows.
    Lagging,
    /// Will go on by itself: at a time, or when the feed flows.
    Waiting {
        /// When it dials again; `None` while it waits for something to send.
        until: Option<Duration>,
    },
    /// Needs a person.
    Blocked,
}

impl PushState {
    /// The state's word.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Off => "off",
            Self::Dialing => "dialing",
            Self::Live => "live",
            Self::Holding => "holding",
            Self::Lagging => "lagging",
            Self::Waiting { .. } => "waiting",
            Self::Blocked => "blocked",
        }
    }
}

/// The supervisor of one push.
#[derive(Debug, Clone)]
pub struct PushMachine {
    state: PushState,
    since: Duration,
    cause: Option<Cause>,
    same_cause: u32,
    backoff: Backoff,
    busy_since: Option<Duration>,
    live_since: Option<Duration>,
    was_live: bool,
    connected: bool,
    source: Source,
    reconnects: u64,
    /// How long a better way must be usable again before the push returns to it.
    settle: Duration,
    way: usize,
    failures_here: u32,
    /// Since when each way has been seen to be usable; as long as there are ways.
    usable_since: Vec<Option<Duration>>,
    /// The better way that it is leaving for.
    returns_to: Option<usize>,
}

impl PushMachine {
    /// A push that is off; `seed` makes the jitter.
    #[must_use]
    pub fn new(seed: u64, now: Duration) -> Self {
        Self {
            state: PushState::Off,
            since: now,
            cause: None,
            same_cause: 0,
            backoff: Backoff::new(FIRST_DELAY, MOST_DELAY, JITTER_PERCENT, seed),
            busy_since: None,
            live_since: None,
            was_live: false,
            connected: false,
            source: Source::Away,
            reconnects: 0,
            settle: Duration::ZERO,
            way: 0,
            failures_here: 0,
            usable_since: vec![None],
            returns_to: None,
        }
    }

    /// The same with so many ways to the platform (servers, and the uplinks that lead there), the best first. It
    /// returns to a better one once that has been usable for `settle`.
    #[must_use]
    pub fn with_ways(mut self, ways: usize, settle: Duration) -> Self {
        self.usable_since = vec![None; ways.max(1)];
        self.settle = settle;
        self
    }

    /// The way that is in use, or will be dialled next; 0 is the best.
    #[must_use]
    pub fn way(&self) -> usize {
        self.way
    }

    /// The state.
    #[must_use]
    pub fn state(&self) -> PushState {
        self.state
    }

    /// When the state began.
    #[must_use]
    pub fn since(&self) -> Duration {
        self.since
    }

    /// Why the push is not live.
    #[must_use]
    pub fn cause(&self) -> Option<&Cause> {
        self.cause.as_ref()
    }

    /// Since when the broadcast has been running, while it is connected.
    #[must_use]
    pub fn live_since(&self) -> Option<Duration> {
        self.live_since.filter(|_| self.connected)
    }

    /// How often the push came live again after it had been.
    #[must_use]
    pub fn reconnects(&self) -> u64 {
        self.reconnects
    }

    /// The push is wanted, or no longer. Wanting a blocked push again tries it again.
    pub fn want(&mut self, wanted: bool, now: Duration) {
        if !wanted {
            self.cause = None;
            self.was_live = false;
            self.connected = false;
            self.use_way(0);
            self.enter(PushState::Off, now);
        } else if matches!(self.state, PushState::Off | PushState::Blocked) {
            self.backoff.reset();
            self.same_cause = 0;
            self.busy_since = None;
            self.cause = None;
            self.enter(PushState::Waiting { until: None }, now);
        }
    }

    /// What there is to send now, and why it is not the feed.
    pub fn on_source(&mut self, source: Source, cause: Option<&Cause>, now: Duration) {
        self.source = source;
        let waits = self.state == PushState::Waiting { until: None };
        let carries = matches!(self.state, PushState::Live | PushState::Lagging | PushState::Holding);
        if !waits && !carries {
            return;
        }
        match source {
            Source::Away => {
                self.cause = cause.cloned();
                self.enter(PushState::Waiting { until: None }, now);
            }
            _ if !self.connected => self.cause = None,
            Source::Feed if self.state == PushState::Lagging => {}
            Source::Feed => {
                self.cause = None;
                self.enter(PushState::Live, now);
            }
            Source::Holding => {
                self.cause = cause.cloned();
                self.enter(PushState::Holding, now);
            }
        }
    }

    /// The platform takes the picture.
    pub fn on_live(&mut self, now: Duration) {
        if self.state != PushState::Dialing {
            return;
        }
        self.reconnects += u64::from(self.was_live);
        self.was_live = true;
        self.connected = true;
        self.live_since = Some(now);
        self.failures_here = 0;
        self.busy_since = None;
        self.same_cause = 0;
        self.cause = None;
        self.enter(PushState::Live, now);
    }

    /// The backlog grows (with the cause), or is gone.
    pub fn on_backlog(&mut self, lagging: Option<Cause>, now: Duration) {
        match (self.state, lagging) {
            (PushState::Live, Some(cause)) => {
                self.cause = Some(cause);
                self.enter(PushState::Lagging, now);
            }
            (PushState::Lagging, None) => {
                self.cause = None;
                self.enter(PushState::Live, now);
            }
            _ => {}
        }
    }

    /// The dial, or the connection, failed.
    pub fn on_failed(&mut self, cause: Cause, now: Duration) {
        if matches!(self.state, PushState::Off | PushState::Blocked) {
            return;
        }
        self.connected = false;
        let moved_on = self.choose_way(cause.code);
        if self.live_since.take().is_some_and(|since| now.saturating_sub(since) >= STEADY) {
            self.backoff.reset();
        }
        let cause = self.judge_busy_key(cause, now);
        let repeated = self.cause.as_ref().is_some_and(|last| last.code == cause.code);
        self.same_cause = if repeated { self.same_cause.saturating_add(1) } else { 1 };
        let blocked = match verdict(cause.code) {
            Verdict::Retry => false,
            Verdict::BlockAfter(times) => self.same_cause >= times,
            Verdict::Block => true,
        };
        let busy = cause.code == CauseCode::PushKeyBusy;
        self.cause = Some(cause);
        if blocked {
            self.enter(PushState::Blocked, now);
        } else {
            // Another way is not made to wait for what this one did. Delays grow with each round of all ways.
            let delay = if moved_on { FIRST_DELAY } else { self.backoff.next_delay() };
            let until = now + if busy { delay.min(BUSY_DELAY) } else { delay };
            self.enter(PushState::Waiting { until: Some(until) }, now);
        }
    }

    /// A way that cannot be used is left for the next; true when that is one not tried in this round. What a platform
    /// says of the key or the stream is true by all ways.
    fn choose_way(&mut self, code: CauseCode) -> bool {
        let ways = self.usable_since.len();
        if ways < 2 || !is_ways_fault(code) {
            return false;
        }
        self.failures_here = self.failures_here.saturating_add(1);
        // An uplink that is not there need not be tried twice.
        let patience =
            if self.way == 0 && code != CauseCode::PushUplinkAway { FIRST_WAY_FAILURES } else { 1 };
        if self.failures_here < patience {
            return false;
        }
        self.use_way((self.way + 1) % ways);
        self.way != 0
    }

    fn use_way(&mut self, way: usize) {
        if self.way != way {
            self.way = way;
            // The first one has failed already when all others have.
            self.failures_here = if way == 0 { FIRST_WAY_FAILURES - 1 } else { 0 };
        }
        self.usable_since.fill(None);
        self.returns_to = None;
    }

    /// A way was looked at while a worse one is in use. True when it is time to return to it: the owner then hangs up
    /// in order and tells [`PushMachine::on_returned`].
    pub fn on_way_seen(&mut self, way: usize, usable: bool, now: Duration) -> bool {
        if way >= self.way {
            return false;
        }
        let Some(since) = self.usable_since.get_mut(way) else { return false };
        if !usable {
            *since = None;
            return false;
        }
        let since = *since.get_or_insert(now);
        let settled = self.connected && now.saturating_sub(since) >= self.settle;
        if settled {
            self.returns_to = Some(way);
        }
        settled
    }

    /// The connection was ended in order, to dial anew at once: by the better way that has settled, or by the same.
    pub fn on_returned(&mut self, now: Duration) {
        if matches!(self.state, PushState::Off | PushState::Blocked) {
            return;
        }
        self.connected = false;
        self.backoff.reset();
        if let Some(way) = self.returns_to.take() {
            self.use_way(way);
        }
        self.enter(PushState::Waiting { until: Some(now) }, now);
    }

    /// A busy key is expected for two minutes; after that it is refused.
    fn judge_busy_key(&mut self, cause: Cause, now: Duration) -> Cause {
        if cause.code != CauseCode::PushKeyBusy {
            self.busy_since = None;
            return cause;
        }
        let since = *self.busy_since.get_or_insert(now);
        if now.saturating_sub(since) < BUSY_PATIENCE {
            return cause;
        }
        let message = format!("{} It has been so for two minutes.", cause.message);
        Cause::new(CauseCode::PushKeyRefused, message)
    }

    /// What to do now. `Dial` moves the machine to dialling.
    pub fn decide(&mut self, now: Duration) -> Decision {
        let PushState::Waiting { until } = self.state else { return Decision::Rest };
        if self.connected {
            return Decision::Rest;
        }
        match until {
            Some(until) if now < until => Decision::WaitUntil(until),
            _ if self.source != Source::Away => {
                self.enter(PushState::Dialing, now);
                Decision::Dial
            }
            _ => Decision::Rest,
        }
    }

    fn enter(&mut self, state: PushState, now: Duration) {
        if state != self.state {
            self.state = state;
            self.since = now;
        }
    }
}

/// The server, or the way to it, is at fault: another may work.
fn is_ways_fault(code: CauseCode) -> bool {
    matches!(
        code,
        CauseCode::PushNameNotFound
            | CauseCode::PushUnreachable
            | CauseCode::PushUplinkAway
            | CauseCode::PushConnectionRefused
            | CauseCode::PushNoAnswer
            | CauseCode::PushTlsFailed
            | CauseCode::PushNotReady
            | CauseCode::PushClosedByPlatform
            | CauseCode::PushProtocol
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn s(seconds: u64) -> Duration {
        Duration::from_secs(seconds)
    }

    fn cause(code: CauseCode) -> Cause {
        Cause::new(code, "it happened.")
    }

    fn dialling() -> PushMachine {
        let mut machine = PushMachine::new(3, s(0));
        machine.want(true, s(0));
        machine.on_source(Source::Feed, None, s(0));
        assert_eq!(machine.decide(s(0)), Decision::Dial);
        machine
    }

    #[test]
    fn a_push_waits_for_its_feed_and_names_the_feeds_cause() {
        let mut machine = PushMachine::new(3, s(0));
        machine.want(true, s(0));
        let away = cause(CauseCode::FeedConnectionRefused);
        machine.on_source(Source::Away, Some(&away), s(1));
        assert_eq!((machine.state().word(), machine.decide(s(50))), ("waiting", Decision::Rest));
        assert_eq!(machine.cause(), Some(&away));
        machine.on_source(Source::Feed, None, s(60));
        assert_eq!(machine.decide(s(60)), Decision::Dial);
    }

    #[test]
    fn a_live_push_outlives_its_feeds_absence_without_a_dial() {
        let mut machine = dialling();
        machine.on_live(s(1));
        machine.on_source(Source::Away, Some(&cause(CauseCode::FeedStalled)), s(5));
        assert_eq!(machine.state(), PushState::Waiting { until: None });
        machine.on_source(Source::Feed, None, s(9));
        assert_eq!((machine.state(), machine.decide(s(9))), (PushState::Live, Decision::Rest));
        assert_eq!(machine.reconnects(), 0);
    }

    #[test]
    fn a_live_push_holds_and_returns_without_a_dial() {
        let mut machine = dialling();
        machine.on_live(s(1));
        let away = cause(CauseCode::FeedStalled);
        machine.on_source(Source::Holding, Some(&away), s(5));
        assert_eq!((machine.state(), machine.cause()), (PushState::Holding, Some(&away)));
        machine.on_backlog(Some(cause(CauseCode::PushTooSlow)), s(6));
        assert_eq!((machine.state(), machine.decide(s(6))), (PushState::Holding, Decision::Rest));
        machine.on_source(Source::Feed, None, s(9));
        assert_eq!((machine.state(), machine.cause(), machine.reconnects()), (PushState::Live, None, 0));
    }

    #[test]
    fn a_push_that_drops_while_it_holds_dials_again_with_the_holding_picture() {
        let mut machine = dialling();
        machine.on_live(s(1));
        machine.on_source(Source::Holding, None, s(5));
        let now = fail(&mut machine, CauseCode::PushClosedByPlatform, s(60));
        machine.on_live(now);
        machine.on_source(Source::Holding, None, now);
        assert_eq!((machine.state(), machine.reconnects()), (PushState::Holding, 1));
    }

    #[test]
    fn delays_grow_to_about_half_a_minute() {
        let mut machine = dialling();
        let mut now = s(0);
        let mut delays = Vec::new();
        for _ in 0..12 {
            machine.on_failed(cause(CauseCode::PushConnectionRefused), now);
            let Decision::WaitUntil(until) = machine.decide(now) else { panic!() };
            delays.push(until - now);
            now = until;
            assert_eq!(machine.decide(now), Decision::Dial);
        }
        assert!(delays[0] <= Duration::from_millis(1_200));
        assert!(delays[11] >= s(24) && delays[11] <= s(36));
    }

    #[test]
    fn a_refused_key_blocks_at_once_and_is_not_dialled_again() {
        let mut machine = dialling();
        machine.on_failed(cause(CauseCode::PushKeyRefused), s(1));
        assert_eq!((machine.state(), machine.decide(s(9_999))), (PushState::Blocked, Decision::Rest));
        machine.want(true, s(10_000));
        assert_eq!(machine.decide(s(10_000)), Decision::Dial);
    }

    #[test]
    fn a_busy_key_is_tried_for_two_minutes_and_then_refused() {
        let mut machine = dialling();
        machine.on_live(s(0));
        let mut now = s(100);
        while machine.state() != PushState::Blocked {
            machine.on_failed(cause(CauseCode::PushKeyBusy), now);
            if let Decision::WaitUntil(until) = machine.decide(now) {
                assert!(until - now <= BUSY_DELAY);
                now = until;
                machine.decide(now);
            }
            assert!(now < s(300));
        }
        assert!(now >= s(220));
        assert_eq!(machine.cause().map(|cause| cause.code), Some(CauseCode::PushKeyRefused));
    }

    #[rstest]
    #[case::after_a_steady_broadcast(60, 1_200)]
    #[case::after_a_flap(1, 2_400)]
    fn only_a_steady_broadcast_resets_the_delay(#[case] held: u64, #[case] most_ms: u64) {
        let mut machine = dialling();
        machine.on_failed(cause(CauseCode::PushNoAnswer), s(0));
        assert_eq!(machine.decide(s(5)), Decision::Dial);
        machine.on_live(s(5));
        machine.on_failed(cause(CauseCode::PushClosedByPlatform), s(5 + held));
        let Decision::WaitUntil(until) = machine.decide(s(5 + held)) else { panic!() };
        let delay = until - s(5 + held);
        assert!(
            delay <= Duration::from_millis(most_ms) && delay * 2 > Duration::from_millis(most_ms),
            "{delay:?}"
        );
    }

    fn fail(machine: &mut PushMachine, code: CauseCode, now: Duration) -> Duration {
        machine.on_failed(cause(code), now);
        let Decision::WaitUntil(until) = machine.decide(now) else { panic!("{:?}", machine.state()) };
        assert_eq!(machine.decide(until), Decision::Dial);
        until
    }

    fn on_backup() -> (PushMachine, Duration) {
        let mut machine = dialling().with_ways(2, s(120));
        let now = fail(&mut machine, CauseCode::PushNoAnswer, s(0));
        assert_eq!(machine.way(), 0);
        let now = fail(&mut machine, CauseCode::PushNoAnswer, now);
        assert_eq!(machine.way(), 1);
        machine.on_live(now);
        (machine, now)
    }

    #[test]
    fn the_backup_server_takes_over_after_two_failures_and_gives_back_once_the_main_one_is_settled() {
        let (mut machine, live) = on_backup();
        assert!(!machine.on_way_seen(0, true, live + s(10)));
        assert!(!machine.on_way_seen(0, false, live + s(60)));
        assert!(!machine.on_way_seen(0, true, live + s(70)));
        assert!(!machine.on_way_seen(0, true, live + s(189)));
        assert!(machine.on_way_seen(0, true, live + s(190)));
        machine.on_returned(live + s(190));
        assert_eq!((machine.way(), machine.decide(live + s(190))), (0, Decision::Dial));
    }

    #[test]
    fn the_two_servers_are_tried_in_turn_while_neither_works() {
        let (mut machine, mut now) = on_backup();
        let mut tried = Vec::new();
        for _ in 0..5 {
            now = fail(&mut machine, CauseCode::PushConnectionRefused, now);
            tried.push(machine.way());
        }
        assert_eq!(tried, [0, 1, 0, 1, 0]);
    }

    #[rstest]
    #[case(CauseCode::PushKeyBusy)]
    #[case(CauseCode::PushAppRefused)]
    fn what_is_true_of_both_servers_moves_no_push(#[case] code: CauseCode) {
        let mut machine = dialling().with_ways(2, s(120));
        let now = fail(&mut machine, code, s(0));
        fail(&mut machine, code, now);
        assert_eq!(machine.way(), 0);
    }

    #[test]
    fn without_a_backup_server_there_is_nothing_to_choose() {
        let mut machine = dialling();
        let mut now = s(0);
        for _ in 0..4 {
            now = fail(&mut machine, CauseCode::PushNoAnswer, now);
        }
        assert_eq!(machine.way(), 0);
        assert!(!machine.on_way_seen(0, true, now));
    }

    #[test]
    fn every_way_is_tried_in_turn_and_only_a_whole_round_makes_the_delays_grow() {
        let mut machine = dialling().with_ways(4, s(120));
        let (mut now, mut tried) = (s(0), Vec::new());
        for _ in 0..10 {
            let before = now;
            now = fail(&mut machine, CauseCode::PushNoAnswer, now);
            tried.push((machine.way(), (now - before) > Duration::from_millis(1_200)));
        }
        let ways: Vec<usize> = tried.iter().map(|(way, _)| *way).collect();
        assert_eq!(ways, [0, 1, 2, 3, 0, 1, 2, 3, 0, 1]);
        let long: Vec<usize> = tried.iter().filter(|(_, long)| *long).map(|(way, _)| *way).collect();
        assert_eq!(long, [0, 0]);
    }

    #[test]
    fn an_uplink_that_is_not_there_is_left_at_once() {
        let mut machine = dialling().with_ways(2, s(120));
        fail(&mut machine, CauseCode::PushUplinkAway, s(0));
        assert_eq!(machine.way(), 1);
    }

    #[test]
    fn a_push_returns_to_the_best_way_that_has_settled() {
        let mut machine = dialling().with_ways(3, s(60));
        let now = fail(&mut machine, CauseCode::PushUplinkAway, s(0));
        let now = fail(&mut machine, CauseCode::PushNoAnswer, now);
        machine.on_live(now);
        assert_eq!(machine.way(), 2);
        assert!(!machine.on_way_seen(1, true, now) && !machine.on_way_seen(2, true, now));
        assert!(!machine.on_way_seen(0, true, now + s(30)));
        assert!(machine.on_way_seen(1, true, now + s(60)));
        machine.on_returned(now + s(60));
        assert_eq!(machine.way(), 1);
    }

    #[test]
    fn a_planned_reconnect_stays_on_its_way() {
        let (mut machine, live) = on_backup();
        machine.on_returned(live + s(10));
        assert_eq!(machine.way(), 1);
    }

    #[test]
    fn a_growing_backlog_shows_and_passes() {
        let mut machine = dialling();
        machine.on_live(s(1));
        machine.on_backlog(Some(cause(CauseCode::PushTooSlow)), s(2));
        assert_eq!(machine.state(), PushState::Lagging);
        machine.on_backlog(None, s(3));
        assert_eq!((machine.state(), machine.cause()), (PushState::Live, None));
    }

    proptest! {
        #[test]
        fn blocked_and_unwanted_pushes_are_never_dialled(
            events in prop::collection::vec((0_u8..10, 0_u64..40_000), 1..300), seed: u64,
        ) {
            let mut machine = PushMachine::new(seed, Duration::ZERO);
            let mut now = Duration::ZERO;
            for (event, wait) in events {
                now += Duration::from_millis(wait);
                match event {
                    0 => machine.want(true, now),
                    1 => machine.want(false, now),
                    2 => machine.on_source(Source::Feed, None, now),
                    3 => machine.on_source(Source::Away, Some(&cause(CauseCode::FeedStalled)), now),
                    8 => machine.on_source(Source::Holding, Some(&cause(CauseCode::FeedStalled)), now),
                    4 => machine.on_live(now),
                    5 => machine.on_failed(cause(CauseCode::PushKeyBusy), now),
                    6 => machine.on_failed(cause(CauseCode::PushKeyRefused), now),
                    7 => machine.on_failed(cause(CauseCode::PushNoAnswer), now),
                    _ => machine.on_backlog(Some(cause(CauseCode::PushTooSlow)), now),
                }
                let before = machine.state();
                let decision = machine.decide(now);
                if matches!(before, PushState::Off | PushState::Blocked | PushState::Live | PushState::Holding) {
                    prop_assert_eq!(decision, Decision::Rest);
                }
                if decision == Decision::Dial {
                    prop_assert!(machine.source != Source::Away);
                }
                if machine.state() == PushState::Blocked {
                    prop_assert!(machine.cause().is_some());
                }
            }
        }
    }
}
