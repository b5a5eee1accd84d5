//! Condition of a relay: level, begin, fault domain and recommended actions. Computed once, so that the API, the
//! command line, the console, alerts and reports agree.

use serde::{Deserialize, Serialize};

use crate::cause::{CauseCode, FaultDomain};
use crate::supervision::{DesiredState, FeedPhase, Phase, PushPhase};

/// Level of a condition, from good to bad.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum ConditionLevel {
    /// Switched off.
    #[default]
    Off,
    /// Everything runs as desired.
    Good,
    /// An operator has put the holding picture on all of its pushes.
    Holding,
    /// It is starting, and nothing has failed.
    Starting,
    /// Every broadcast runs, but not as desired: a push lags, or sends the holding picture because the feed is away.
    Degraded,
    /// A broadcast is down; it is retried.
    Down,
    /// A person is needed.
    Blocked,
}

impl ConditionLevel {
    /// All levels.
    pub const ALL: [Self; 7] =
        [Self::Off, Self::Good, Self::Holding, Self::Starting, Self::Degraded, Self::Down, Self::Blocked];

    /// Returns the name of the level.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Off => "off",
            Self::Good => "good",
            Self::Holding => "holding",
            Self::Starting => "starting",
            Self::Degraded => "degraded",
            Self::Down => "down",
            Self::Blocked => "blocked",
        }
    }

    /// Returns true for a level that an operator should check.
    #[must_use]
    pub fn needs_attention(self) -> bool {
        self >= Self::Degraded
    }
}

/// Action that an operator can take.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Action {
    /// Correct the feed's address, credentials or pinned certificate.
    EditFeed,
    /// Set the destination's stream key.
    Rekey,
    /// Correct the destination: its server, passphrase or certificate authority.
    EditDestination,
    /// Describe or repair an uplink.
    EditUplink,
    /// Retry now.
    Retry,
    /// Return from the holding picture to the feed.
    Resume,
}

/// Part of a relay: its feed, or one of its pushes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Part {
    /// Name of the feed or the destination.
    pub name: String,
    /// State.
    pub phase: Phase,
    /// When the state began, in milliseconds since 1970; `None` while off.
    pub since_ms: Option<i64>,
    /// When it went down, over all attempts.
    pub down_since_ms: Option<i64>,
    /// Connection attempts since it went down.
    pub attempts: u32,
    /// Cause of a state that is not the desired one, if known.
    pub cause: Option<PartCause>,
}

/// Cause of a part's state.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PartCause {
    /// Code.
    pub code: CauseCode,
    /// Fault domain.
    pub side: FaultDomain,
}

impl PartCause {
    /// Returns the cause with this code.
    #[must_use]
    pub fn new(code: CauseCode) -> Self {
        Self { code, side: code.side() }
    }
}

/// Condition of a relay.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Condition {
    /// Level.
    pub level: ConditionLevel,
    /// When it began, in milliseconds since 1970; `None` while off.
    pub since_ms: Option<i64>,
    /// Connection attempts since it went down.
    pub attempts: u32,
    /// Fault domain of the cause; `None` while everything runs as desired.
    pub side: Option<FaultDomain>,
    /// Code of the cause.
    pub code: Option<CauseCode>,
    /// Names of the affected feed and destinations, the feed first.
    pub about: Vec<String>,
    /// Recommended actions, the likeliest first.
    pub actions: Vec<Action>,
}

impl Part {
    /// Returns the level of the relay considering this part alone.
    fn level(&self, desired: DesiredState) -> ConditionLevel {
        let has_failed = self.cause.is_some() || self.down_since_ms.is_some();
        match self.phase {
            Phase::Feed(FeedPhase::Blocked) | Phase::Push(PushPhase::Blocked) => ConditionLevel::Blocked,
            Phase::Feed(FeedPhase::Flowing) | Phase::Push(PushPhase::Live) => ConditionLevel::Good,
            Phase::Push(PushPhase::Holding) if desired == DesiredState::Hold => ConditionLevel::Holding,
            Phase::Push(PushPhase::Holding | PushPhase::Lagging) => ConditionLevel::Degraded,
            // While the relay sends its holding picture, an absent feed does not end the broadcasts.
            Phase::Feed(_) if has_failed => ConditionLevel::Degraded,
            Phase::Push(_) if has_failed => ConditionLevel::Down,
            Phase::Feed(FeedPhase::Stalled) => ConditionLevel::Degraded,
            Phase::Feed(_) | Phase::Push(_) => ConditionLevel::Starting,
        }
    }

    fn began_ms(&self) -> Option<i64> {
        self.down_since_ms.or(self.since_ms)
    }
}

impl Condition {
    /// Computes the condition of a relay.
    #[must_use]
    pub fn of(desired: DesiredState, feed: &Part, pushes: &[Part]) -> Self {
        if !desired.is_running() {
            return Self::default();
        }
        let parts = || std::iter::once(feed).chain(pushes);
        let level = match parts().map(|part| part.level(desired)).max().unwrap_or_default() {
            // A hold was requested, but the feed is still sent.
            ConditionLevel::Good if desired == DesiredState::Hold => ConditionLevel::Starting,
            ConditionLevel::Holding
                if pushes.iter().any(|push| push.phase != Phase::Push(PushPhase::Holding)) =>
            {
                ConditionLevel::Starting
            }
            level => level,
        };
        // Without a push that sends, an absent feed means that the relay is down.
        let sends = pushes.iter().any(|push| push.phase.is_up());
        let level = if level == ConditionLevel::Degraded && !sends { ConditionLevel::Down } else { level };
        if !level.needs_attention() {
            // The condition began when the last of its parts reached it.
            let since_ms = parts().filter_map(|part| part.since_ms).max();
            let actions = if desired == DesiredState::Hold { vec![Action::Resume] } else { Vec::new() };
            return Self { level, since_ms, actions, ..Self::default() };
        }
        let concerned: Vec<&Part> = parts().filter(|part| part.level(desired).needs_attention()).collect();
        // A blocked part comes first; then the feed, which the pushes wait for.
        let worst = concerned.iter().rev().max_by_key(|part| {
            (part.level(desired) == ConditionLevel::Blocked, matches!(part.phase, Phase::Feed(_)))
        });
        let cause =
            worst.and_then(|part| part.cause).or_else(|| concerned.iter().find_map(|part| part.cause));
        let mut actions: Vec<Action> = cause.and_then(|cause| action_of(cause.code)).into_iter().collect();
        if level == ConditionLevel::Blocked {
            actions.push(Action::Retry);
        }
        Self {
            level,
            since_ms: concerned.iter().filter_map(|part| part.began_ms()).min(),
            attempts: concerned.iter().map(|part| part.attempts).max().unwrap_or_default(),
            side: cause.map(|cause| cause.side),
            code: cause.map(|cause| cause.code),
            about: concerned.iter().map(|part| part.name.clone()).collect(),
            actions,
        }
    }
}

/// Returns the recommended action for a cause; `None` if no setting corrects it.
#[must_use]
pub fn action_of(code: CauseCode) -> Option<Action> {
    match code {
        CauseCode::FeedWrongPassword
        | CauseCode::FeedSecretLost
        | CauseCode::FeedNoSuchStream
        | CauseCode::FeedNameNotFound
        | CauseCode::FeedTlsUntrusted
        | CauseCode::FeedTlsFailed
        | CauseCode::FeedTransportRefused
        | CauseCode::FeedCodecUnsupported => Some(Action::EditFeed),
        CauseCode::PushKeyRefused | CauseCode::PushKeyBusy | CauseCode::PushSecretLost => Some(Action::Rekey),
        CauseCode::PushNameNotFound
        | CauseCode::PushAppRefused
        | CauseCode::PushPassphraseRefused
        | CauseCode::PushTlsUntrusted
        | CauseCode::PushTlsFailed => Some(Action::EditDestination),
        CauseCode::PushUplinkAway => Some(Action::EditUplink),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn part(name: &str, phase: Phase, cause: Option<CauseCode>) -> Part {
        Part {
            name: name.into(),
            phase,
            since_ms: Some(5_000),
            down_since_ms: cause.map(|_| 1_000),
            attempts: if cause.is_some() { 7 } else { 0 },
            cause: cause.map(PartCause::new),
        }
    }

    fn feed(phase: FeedPhase, cause: Option<CauseCode>) -> Part {
        part("Cam", Phase::Feed(phase), cause)
    }

    fn push(phase: PushPhase, cause: Option<CauseCode>) -> Part {
        part("Bramble", Phase::Push(phase), cause)
    }

    const AWAY: Option<CauseCode> = Some(CauseCode::FeedNoAnswer);
    const KEY: Option<CauseCode> = Some(CauseCode::PushKeyRefused);

    #[rstest]
    #[case::all_well(feed(FeedPhase::Flowing, None), push(PushPhase::Live, None), ConditionLevel::Good)]
    #[case::first_dial(
        feed(FeedPhase::Dialing, None),
        push(PushPhase::Waiting, None),
        ConditionLevel::Starting
    )]
    #[case::dial_after_a_failure(
        feed(FeedPhase::Dialing, AWAY),
        push(PushPhase::Waiting, AWAY),
        ConditionLevel::Down
    )]
    #[case::feed_away_and_held(
        feed(FeedPhase::Waiting, AWAY),
        push(PushPhase::Holding, AWAY),
        ConditionLevel::Degraded
    )]
    #[case::feed_away_and_still_live(
        feed(FeedPhase::Stalled, AWAY),
        push(PushPhase::Live, None),
        ConditionLevel::Degraded
    )]
    #[case::lagging(
        feed(FeedPhase::Flowing, None),
        push(PushPhase::Lagging, Some(CauseCode::PushTooSlow)),
        ConditionLevel::Degraded
    )]
    #[case::key_refused(
        feed(FeedPhase::Flowing, None),
        push(PushPhase::Blocked, KEY),
        ConditionLevel::Blocked
    )]
    #[case::camera_blocked(
        feed(FeedPhase::Blocked, Some(CauseCode::FeedWrongPassword)),
        push(PushPhase::Waiting, None),
        ConditionLevel::Blocked
    )]
    fn worst_part_decides(#[case] feed: Part, #[case] push: Part, #[case] level: ConditionLevel) {
        assert_eq!(Condition::of(DesiredState::On, &feed, &[push]).level, level);
    }

    #[test]
    fn blocked_push_is_the_condition_although_the_feed_flows() {
        let pushes = [push(PushPhase::Live, None), push(PushPhase::Blocked, KEY)];
        let condition = Condition::of(DesiredState::On, &feed(FeedPhase::Flowing, None), &pushes);
        let expected = Condition {
            level: ConditionLevel::Blocked,
            since_ms: Some(1_000),
            attempts: 7,
            side: KEY.map(CauseCode::side),
            code: KEY,
            about: vec!["Bramble".into()],
            actions: vec![Action::Rekey, Action::Retry],
        };
        assert_eq!(condition, expected);
    }

    #[test]
    fn cause_is_that_of_the_feed_which_pushes_wait_for() {
        let pushes = [push(PushPhase::Waiting, KEY), push(PushPhase::Waiting, AWAY)];
        let condition = Condition::of(DesiredState::On, &feed(FeedPhase::Waiting, AWAY), &pushes);
        assert_eq!((condition.level, condition.code), (ConditionLevel::Down, AWAY));
        assert_eq!(condition.about.len(), 3);
    }

    #[test]
    fn hold_is_reported_once_every_push_holds() {
        let flowing = feed(FeedPhase::Flowing, None);
        let of = |pushes: &[Part]| Condition::of(DesiredState::Hold, &flowing, pushes);
        let (live, held) = (push(PushPhase::Live, None), push(PushPhase::Holding, None));
        assert_eq!(of(std::slice::from_ref(&live)).level, ConditionLevel::Starting);
        assert_eq!(of(&[live, held.clone()]).level, ConditionLevel::Starting);
        let condition = of(&[held.clone(), held]);
        assert_eq!((condition.level, condition.actions), (ConditionLevel::Holding, vec![Action::Resume]));
    }

    #[test]
    fn relay_that_is_off_has_no_condition() {
        let of = Condition::of(DesiredState::Off, &feed(FeedPhase::Off, None), &[push(PushPhase::Off, None)]);
        assert_eq!(of, Condition::default());
    }

    #[test]
    fn levels_are_ordered_and_named_as_in_the_api() {
        assert!(ConditionLevel::ALL.is_sorted());
        for level in ConditionLevel::ALL {
            assert_eq!(serde_json::to_value(level).unwrap(), level.as_str());
        }
    }
}
