//! Supervision of one feed.
//!
//! ```text
//!          want            flowing           silent
//!   Off ─────────▶ Dialing ───────▶ Flowing ◀──────▶ Stalled
//!                   ▲   │ failed       │ failed         │ failed
//!                   │   ▼              ▼                │
//!                   └─ Waiting ◀───────┴────────────────╯
//!                       Blocked  (a person is needed)
//! ```

use std::time::Duration;

use crate::cause::{Cause, CauseCode};

use super::backoff::Backoff;
use super::{Decision, Verdict, verdict};

/// Cameras come back suddenly and each second is visible.
const FIRST_DELAY: Duration = Duration::from_secs(1);
const MOST_DELAY: Duration = Duration::from_secs(5);
const JITTER_PERCENT: u32 = 10;
/// Between two knocks at the door of a camera that was not there.
pub const KNOCK_EVERY: Duration = Duration::from_millis(700);

/// State of a feed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FeedState {
    /// Not wanted.
    Off,
    /// Under way to the camera.
    Dialing,
    /// Pictures come.
    Flowing,
    /// Connected, no media.
    Stalled,
    /// Will dial again at this time.
    Waiting {
        /// When.
        until: Duration,
    },
    /// Needs a person.
    Blocked,
}

impl FeedState {
    /// The state's word.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Off => "off",
            Self::Dialing => "dialing",
            Self::Flowing => "flowing",
            Self::Stalled => "stalled",
            Self::Waiting { .. } => "waiting",
            Self::Blocked => "blocked",
        }
    }
}

/// The supervisor of one feed.
#[derive(Debug, Clone)]
pub struct FeedMachine {
    state: FeedState,
    since: Duration,
    cause: Option<Cause>,
    same_cause: u32,
    backoff: Backoff,
    flowed: bool,
    reconnects: u64,
    must_dial: bool,
}

impl FeedMachine {
    /// A feed that is off; `seed` makes the jitter.
    #[must_use]
    pub fn new(seed: u64, now: Duration) -> Self {
        Self {
            state: FeedState::Off,
            since: now,
            cause: None,
            same_cause: 0,
            backoff: Backoff::new(FIRST_DELAY, MOST_DELAY, JITTER_PERCENT, seed),
            flowed: false,
            reconnects: 0,
            must_dial: false,
        }
    }

    /// The state.
    #[must_use]
    pub fn state(&self) -> FeedState {
        self.state
    }

    /// When the state began.
    #[must_use]
    pub fn since(&self) -> Duration {
        self.since
    }

    /// Why the feed is not flowing.
    #[must_use]
    pub fn cause(&self) -> Option<&Cause> {
        self.cause.as_ref()
    }

    /// How often pictures came again after they had stopped.
    #[must_use]
    pub fn reconnects(&self) -> u64 {
        self.reconnects
    }

    /// The feed is wanted, or no longer. Wanting a blocked feed again tries it again.
    pub fn want(&mut self, wanted: bool, now: Duration) {
        if !wanted {
            self.flowed = false;
            self.cause = None;
            self.must_dial = false;
            self.enter(FeedState::Off, now);
        } else if matches!(self.state, FeedState::Off | FeedState::Blocked) {
            self.backoff.reset();
            self.same_cause = 0;
            self.cause = None;
            self.dial(now);
        }
    }

    /// Pictures come.
    pub fn on_flowing(&mut self, now: Duration) {
        if matches!(self.state, FeedState::Dialing | FeedState::Stalled) {
            if self.flowed && self.state == FeedState::Dialing {
                self.reconnects += 1;
            }
            self.flowed = true;
            self.cause = None;
            self.same_cause = 0;
            self.backoff.reset();
            self.enter(FeedState::Flowing, now);
        }
    }

    /// Nothing came for a while on an open connection; the engine gives up on it a little later.
    pub fn on_silent(&mut self, cause: Cause, now: Duration) {
        if self.state == FeedState::Flowing {
            self.cause = Some(cause);
            self.enter(FeedState::Stalled, now);
        }
    }

    /// Something keeps the dial from its end, but it is not given up yet.
    pub fn on_held_up(&mut self, cause: Cause) {
        if self.state == FeedState::Dialing {
            self.cause = Some(cause);
        }
    }

    /// The dial, or the connection, failed.
    pub fn on_failed(&mut self, cause: Cause, now: Duration) {
        if matches!(self.state, FeedState::Off | FeedState::Blocked) {
            return;
        }
        // A dial that was due has had its answer.
        self.must_dial = false;
        let repeated = self.cause.as_ref().is_some_and(|last| last.code == cause.code);
        self.same_cause = if repeated { self.same_cause.saturating_add(1) } else { 1 };
        let blocked = match verdict(cause.code) {
            Verdict::Retry => false,
            Verdict::BlockAfter(times) => self.same_cause >= times,
            Verdict::Block => true,
        };
        self.cause = Some(cause);
        if blocked {
            self.enter(FeedState::Blocked, now);
        } else {
            let until = now + self.backoff.next_delay();
            self.enter(FeedState::Waiting { until }, now);
        }
    }

    /// True while it is worth knocking (no more than a connection, at once closed again) every [`KNOCK_EVERY`]:
    /// the camera was not there, and the moment it is back it shall be dialled, however long the wait had grown.
    #[must_use]
    pub fn knocks(&self) -> bool {
        let absent = self.cause.as_ref().is_some_and(|cause| {
            matches!(
                cause.code,
                CauseCode::FeedConnectionRefused
                    | CauseCode::FeedUnreachable
                    | CauseCode::FeedNoAnswer
                    | CauseCode::FeedNameNotFound
            )
        });
        absent && matches!(self.state, FeedState::Waiting { .. })
    }

    /// Somebody opened: the camera is back.
    pub fn on_knock_answered(&mut self, now: Duration) {
        if self.knocks() {
            self.dial(now);
        }
    }

    /// What to do now. `Dial` is given once.
    pub fn decide(&mut self, now: Duration) -> Decision {
        if let FeedState::Waiting { until } = self.state {
            if now < until {
                return Decision::WaitUntil(until);
            }
            self.dial(now);
        }
        if std::mem::take(&mut self.must_dial) { Decision::Dial } else { Decision::Rest }
    }

    fn dial(&mut self, now: Duration) {
        self.must_dial = true;
        self.enter(FeedState::Dialing, now);
    }

    fn enter(&mut self, state: FeedState, now: Duration) {
        if state != self.state {
            self.state = state;
            self.since = now;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn s(seconds: u64) -> Duration {
        Duration::from_secs(seconds)
    }

    fn wanted() -> FeedMachine {
        let mut machine = FeedMachine::new(1, s(0));
        machine.want(true, s(0));
        assert_eq!(machine.decide(s(0)), Decision::Dial);
        machine
    }

    fn cause(code: CauseCode) -> Cause {
        Cause::new(code, "it happened")
    }

    #[test]
    fn a_wanted_feed_is_dialled_once_and_flows() {
        let mut machine = wanted();
        assert_eq!(machine.decide(s(0)), Decision::Rest);
        machine.on_flowing(s(1));
        assert_eq!((machine.state(), machine.since()), (FeedState::Flowing, s(1)));
        assert_eq!(machine.cause(), None);
    }

    #[rstest]
    #[case::refused(CauseCode::FeedConnectionRefused, true)]
    #[case::no_way(CauseCode::FeedUnreachable, true)]
    #[case::there_but_hangs_up(CauseCode::FeedClosedByCamera, false)]
    #[case::there_but_full(CauseCode::FeedTooManyViewers, false)]
    fn only_an_absent_camera_is_knocked_for(#[case] code: CauseCode, #[case] knocks: bool) {
        let mut machine = wanted();
        for _ in 0..4 {
            machine.on_failed(cause(code), s(1));
            machine.decide(s(100));
        }
        machine.on_failed(cause(code), s(100));
        assert_eq!(machine.knocks(), knocks);
        machine.on_knock_answered(s(101));
        let expected = if knocks { Decision::Dial } else { machine.decide(s(101)) };
        assert!(!knocks || machine.state() == FeedState::Dialing);
        assert_eq!(machine.decide(s(101)), expected);
    }

    #[test]
    fn a_failed_feed_waits_about_a_second_and_never_more_than_about_five() {
        let mut machine = wanted();
        let mut now = s(0);
        for attempt in 0..20 {
            machine.on_failed(cause(CauseCode::FeedConnectionRefused), now);
            let Decision::WaitUntil(until) = machine.decide(now) else { panic!() };
            let delay = until - now;
            if attempt == 0 {
                assert!(delay >= Duration::from_millis(900) && delay <= Duration::from_millis(1_100));
            }
            assert!(delay <= Duration::from_millis(5_500), "{delay:?}");
            now = until;
            assert_eq!(machine.decide(now), Decision::Dial);
        }
    }

    #[test]
    fn the_cause_stays_visible_while_dialling_again_and_goes_when_pictures_come() {
        let mut machine = wanted();
        machine.on_failed(cause(CauseCode::FeedNoAnswer), s(1));
        assert_eq!(machine.decide(s(10)), Decision::Dial);
        assert!(machine.cause().is_some());
        machine.on_flowing(s(11));
        assert_eq!(machine.cause(), None);
    }

    #[rstest]
    #[case(CauseCode::FeedWrongPassword, 2)]
    #[case(CauseCode::FeedNoSuchStream, 3)]
    #[case(CauseCode::FeedCodecUnsupported, 1)]
    fn what_needs_a_person_blocks_after_its_number_of_tries(#[case] code: CauseCode, #[case] tries: u32) {
        let mut machine = wanted();
        let mut now = s(0);
        for attempt in 1..=tries {
            machine.on_failed(cause(code), now);
            assert_eq!(machine.state() == FeedState::Blocked, attempt == tries);
            now += s(10);
            machine.decide(now);
        }
        assert_eq!(machine.decide(s(100_000)), Decision::Rest);
        machine.want(true, s(100_001));
        assert_eq!(machine.decide(s(100_001)), Decision::Dial);
    }

    #[test]
    fn reconnects_count_returns_not_first_pictures() {
        let mut machine = wanted();
        machine.on_flowing(s(1));
        machine.on_failed(cause(CauseCode::FeedClosedByCamera), s(2));
        assert_eq!(machine.decide(s(10)), Decision::Dial);
        machine.on_flowing(s(11));
        assert_eq!(machine.reconnects(), 1);
    }

    #[test]
    fn silence_shows_as_stalled_and_ends_when_media_returns() {
        let mut machine = wanted();
        machine.on_flowing(s(1));
        machine.on_silent(cause(CauseCode::FeedStalled), s(3));
        assert_eq!(machine.state(), FeedState::Stalled);
        machine.on_flowing(s(4));
        assert_eq!((machine.state(), machine.reconnects()), (FeedState::Flowing, 0));
    }

    #[test]
    fn a_feed_switched_off_ignores_late_failures() {
        let mut machine = wanted();
        machine.want(false, s(1));
        machine.on_failed(cause(CauseCode::FeedNoAnswer), s(2));
        assert_eq!((machine.state(), machine.decide(s(99))), (FeedState::Off, Decision::Rest));
    }

    proptest! {
        /// Whatever happens: no dial comes sooner than 0.9 s after a failure, and every state but off,
        /// flowing and blocked-by-choice has a way forward.
        #[test]
        fn dials_keep_their_distance_under_any_events(
            events in prop::collection::vec((0_u8..6, 0_u64..3_000), 1..300), seed: u64,
        ) {
            let mut machine = FeedMachine::new(seed, Duration::ZERO);
            let mut now = Duration::ZERO;
            let mut failed_at: Option<Duration> = None;
            machine.want(true, now);
            for (event, wait) in events {
                now += Duration::from_millis(wait);
                match event {
                    0 => machine.on_flowing(now),
                    1 => machine.on_silent(cause(CauseCode::FeedStalled), now),
                    2 | 3 => {
                        machine.on_failed(cause(CauseCode::FeedNoAnswer), now);
                        failed_at = Some(now);
                    }
                    4 => machine.on_failed(cause(CauseCode::FeedWrongPassword), now),
                    _ => {}
                }
                match machine.decide(now) {
                    Decision::Dial => {
                        if let Some(failed) = failed_at.take() {
                            prop_assert!(now - failed >= Duration::from_millis(900));
                        }
                    }
                    Decision::WaitUntil(until) => prop_assert!(until > now),
                    Decision::Rest => {}
                }
                prop_assert_eq!(matches!(machine.state(), FeedState::Waiting { .. } | FeedState::Blocked), machine.cause().is_some()
                    && !matches!(machine.state(), FeedState::Dialing | FeedState::Stalled));
            }
        }
    }
}
