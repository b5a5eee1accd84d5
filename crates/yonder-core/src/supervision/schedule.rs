//! Retry schedule of failed connections.

use std::time::Duration;

use super::backoff::Backoff;
use super::policy::{FailureClass, History, RetryPolicy};

/// Intervals of slow retries; the last one repeats.
const SLOW_INTERVALS: [Duration; 4] = [
    Duration::from_secs(60),
    Duration::from_secs(5 * 60),
    Duration::from_secs(15 * 60),
    Duration::from_secs(30 * 60),
];
/// How long a target that has worked is retried at the normal pace: time for a recorder to boot or a platform to restart.
const GRACE: Duration = Duration::from_secs(5 * 60);
/// Typical time for a platform to notice a dropped broadcast; until then the key is busy.
const BUSY_EXPECTED: Duration = Duration::from_secs(2 * 60);
/// Maximum retry interval during that time.
const BUSY_INTERVAL: Duration = Duration::from_secs(5);
/// After this time a busy key is retried slowly: another publisher uses it.
const BUSY_GRACE: Duration = Duration::from_secs(10 * 60);
/// The next attempt.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct NextAttempt {
    pub(super) at: Duration,
    pub(super) policy: RetryPolicy,
}

/// Retry schedule of one feed or push.
#[derive(Debug, Clone)]
pub(super) struct RetrySchedule {
    backoff: Backoff,
    /// Class of the consecutive failures, and when they began.
    row: Option<(FailureClass, Duration)>,
    /// Number of consecutive failures.
    failures: u32,
    /// Number of slow retries among them.
    slow: usize,
}

impl RetrySchedule {
    pub(super) fn new(backoff: Backoff) -> Self {
        Self { backoff, row: None, failures: 0, slow: 0 }
    }

    /// Resets the schedule: the connection worked, or the configuration was changed.
    pub(super) fn reset(&mut self) {
        self.backoff.reset();
        self.forget_row();
    }

    /// Resets the backoff.
    pub(super) fn reset_backoff(&mut self) {
        self.backoff.reset();
    }

    /// Ends a run of failures of one class without resetting the backoff.
    pub(super) fn forget_row(&mut self) {
        self.row = None;
        self.failures = 0;
        self.slow = 0;
    }

    /// Schedules the attempt after a failure of `class` at `now`, with credentials not before `credentials_at`.
    pub(super) fn on_failed(
        &mut self,
        class: FailureClass,
        history: History,
        now: Duration,
        credentials_at: Duration,
    ) -> NextAttempt {
        if self.row.is_none_or(|(last, _)| last != class) {
            self.row = Some((class, now));
            self.failures = 0;
            self.slow = 0;
        }
        let since = self.row.map_or(now, |(_, since)| since);
        self.failures = self.failures.saturating_add(1);
        let lasted = now.saturating_sub(since);
        let has_worked = class.has_worked(history);
        let (delay, policy) = match class {
            FailureClass::Transient => (self.backoff.next_delay(), RetryPolicy::Retry),
            FailureClass::Busy if lasted < BUSY_EXPECTED => {
                (self.backoff.next_delay().min(BUSY_INTERVAL), RetryPolicy::Retry)
            }
            FailureClass::Busy if lasted < BUSY_GRACE => {
                (self.backoff.next_delay(), RetryPolicy::RetrySlowly)
            }
            FailureClass::Credentials => {
                let policy = if has_worked { RetryPolicy::RetrySlowly } else { RetryPolicy::Block };
                (credentials_at.saturating_sub(now), policy)
            }
            _ if has_worked && lasted < GRACE && class != FailureClass::Busy => {
                (self.backoff.next_delay(), RetryPolicy::Retry)
            }
            _ if !has_worked && self.failures < class.attempts_before_block() => {
                (self.backoff.next_delay(), RetryPolicy::Retry)
            }
            _ => {
                let policy = if has_worked { RetryPolicy::RetrySlowly } else { RetryPolicy::Block };
                (self.slow_delay(), policy)
            }
        };
        NextAttempt { at: now + delay, policy }
    }

    fn slow_delay(&mut self) -> Duration {
        let [.., last] = SLOW_INTERVALS;
        let delay = SLOW_INTERVALS.get(self.slow).copied().unwrap_or(last);
        self.slow = self.slow.saturating_add(1);
        delay
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::cause::CauseCode;
    use rstest::rstest;

    fn s(seconds: u64) -> Duration {
        Duration::from_secs(seconds)
    }

    fn schedule() -> RetrySchedule {
        RetrySchedule::new(Backoff::new(s(1), s(30), 0, 1))
    }

    fn on_failed(
        schedule: &mut RetrySchedule,
        code: CauseCode,
        history: History,
        now: Duration,
    ) -> NextAttempt {
        schedule.on_failed(FailureClass::of(code), history, now, now + s(900))
    }

    /// Fails every attempt with `code` for `span`; returns the times of the attempts and the last policy.
    fn attempts(code: CauseCode, history: History, span: Duration) -> (Vec<u64>, RetryPolicy) {
        let (mut schedule, mut now, mut times) = (schedule(), s(0), Vec::new());
        let mut policy = RetryPolicy::Retry;
        while now < span {
            times.push(now.as_secs());
            let next = on_failed(&mut schedule, code, history, now);
            (now, policy) = (next.at, next.policy);
        }
        (times, policy)
    }

    #[rstest]
    #[case::wrong_path(CauseCode::FeedNoSuchStream, 3)]
    #[case::wrong_application(CauseCode::PushAppRefused, 3)]
    #[case::untrusted(CauseCode::PushTlsUntrusted, 1)]
    #[case::codec(CauseCode::PushCodecRefused, 1)]
    #[case::wrong_password(CauseCode::FeedWrongPassword, 1)]
    #[case::wrong_key(CauseCode::PushKeyRefused, 1)]
    fn unproven_configuration_blocks_after_its_attempts(#[case] code: CauseCode, #[case] attempts: u32) {
        let mut schedule = schedule();
        for attempt in 1..=attempts + 2 {
            let next = on_failed(&mut schedule, code, History::default(), s(u64::from(attempt)));
            assert_eq!(next.policy == RetryPolicy::Block, attempt >= attempts, "attempt {attempt}");
        }
    }

    #[rstest]
    #[case(CauseCode::FeedNoSuchStream)]
    #[case(CauseCode::FeedWrongPassword)]
    #[case(CauseCode::FeedTlsUntrusted)]
    #[case(CauseCode::FeedCodecUnsupported)]
    #[case(CauseCode::PushAppRefused)]
    #[case(CauseCode::PushKeyRefused)]
    #[case(CauseCode::PushKeyBusy)]
    #[case(CauseCode::PushTlsUntrusted)]
    #[case(CauseCode::PushCodecRefused)]
    fn proven_configuration_is_never_blocked(#[case] code: CauseCode) {
        let (mut schedule, mut now) = (schedule(), s(0));
        for _ in 0..200 {
            let next = on_failed(&mut schedule, code, History::PROVEN, now);
            assert_ne!(next.policy, RetryPolicy::Block);
            assert!(next.at - now <= s(1_800), "retried after {:?}", next.at - now);
            now = next.at;
        }
    }

    #[test]
    fn blocked_address_is_retried_after_1_5_15_and_then_every_30_minutes() {
        let (times, policy) = attempts(CauseCode::PushTlsUntrusted, History::default(), s(2 * 3_600));
        let minutes: Vec<u64> = times.iter().map(|time| time / 60).collect();
        assert_eq!((minutes, policy), (vec![0, 1, 6, 21, 51, 81, 111], RetryPolicy::Block));
    }

    #[test]
    fn proven_path_is_retried_at_the_normal_pace_for_five_minutes() {
        let (times, policy) = attempts(CauseCode::PushAppRefused, History::PROVEN, s(300));
        assert!(times.windows(2).all(|two| two[1] - two[0] <= 30), "{times:?}");
        assert_eq!(policy, RetryPolicy::Retry);
        let (_, policy) = attempts(CauseCode::PushAppRefused, History::PROVEN, s(1_000));
        assert_eq!(policy, RetryPolicy::RetrySlowly);
    }

    #[test]
    fn busy_key_is_retried_every_5_seconds_for_2_minutes_then_less_often() {
        let (times, _) = attempts(CauseCode::PushKeyBusy, History::PROVEN, s(3_600));
        assert!(times.windows(2).take_while(|two| two[1] < 120).all(|two| two[1] - two[0] <= 5), "{times:?}");
        let later: Vec<u64> =
            times.windows(2).filter(|two| two[0] > 1_200).map(|two| two[1] - two[0]).collect();
        assert!(later.iter().all(|delay| *delay >= 300), "{later:?}");
    }
}
