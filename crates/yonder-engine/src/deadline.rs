//! Deadline timer of a task that waits for sockets as well.
//!
//! Whenever a timer is set to a time before all others, the runtime wakes itself through a file descriptor: a write,
//! and one more wait, for each deadline. So a periodic deadline is set one period ahead, in a second timer.

use std::pin::Pin;
use std::task::{Context, Poll};
use std::time::Duration;

use tokio::time::{Sleep, sleep_until};

use crate::clock::Clock;

/// Maximum interval of deadlines that count as periodic, if two successive intervals are equal.
const MAX_PERIOD: Duration = Duration::from_millis(20);

/// Timer for changing deadlines.
#[derive(Debug)]
pub(crate) struct DeadlineTimer {
    clock: Clock,
    /// Two timers with their times. For periodic deadlines one has the next deadline, the other the one after it.
    timers: [(Duration, Pin<Box<Sleep>>); 2],
    deadline: Duration,
    /// Interval between the last two deadlines.
    interval: Duration,
}

impl DeadlineTimer {
    /// Creates a timer that is due now. Must be called within a tokio runtime.
    pub(crate) fn new(clock: Clock) -> Self {
        let now = clock.now();
        let timer = || (now, Box::pin(sleep_until(clock.instant(now))));
        Self { clock, timers: [timer(), timer()], deadline: now, interval: Duration::ZERO }
    }

    /// Ready once `deadline` has passed. Otherwise the task is woken then, or earlier if a predicted deadline does not occur.
    pub(crate) fn poll_deadline(&mut self, deadline: Duration, task: &mut Context<'_>) -> Poll<()> {
        let expected = self.set(deadline);
        let [first, second] = &mut self.timers;
        let (current, other) = if first.0 == deadline { (first, second) } else { (second, first) };
        let polled = current.1.as_mut().poll(task);
        if let Some(expected) = expected
            && other.0 != expected
        {
            other.0 = expected;
            other.1.as_mut().reset(self.clock.instant(expected));
        }
        // A timer wakes the task only if it has been polled.
        if other.0 > deadline {
            let _later = other.1.as_mut().poll(task);
        }
        polled
    }

    /// Sets one timer to `deadline`, unless one is, and returns the predicted next deadline.
    fn set(&mut self, deadline: Duration) -> Option<Duration> {
        if deadline == self.deadline {
            return None;
        }
        let interval = deadline.saturating_sub(self.deadline);
        let is_periodic = interval == self.interval && !interval.is_zero() && interval <= MAX_PERIOD;
        (self.deadline, self.interval) = (deadline, interval);
        let [first, second] = &mut self.timers;
        if first.0 != deadline && second.0 != deadline {
            let timer = if first.0 <= second.0 { first } else { second };
            timer.0 = deadline;
            timer.1.as_mut().reset(self.clock.instant(deadline));
        }
        is_periodic.then(|| deadline + interval)
    }
}

#[cfg(test)]
mod tests {
    use std::future::poll_fn;

    use tokio::time::{Instant, timeout};

    use super::*;

    async fn wait(timer: &mut DeadlineTimer, deadline: Duration) {
        poll_fn(|task| timer.poll_deadline(deadline, task)).await;
    }

    #[tokio::test(start_paused = true)]
    async fn timer_fires_at_its_deadline_after_dropped_waits() {
        let clock = Clock::default();
        let mut timer = DeadlineTimer::new(clock);
        let (begun, at) = (Instant::now(), clock.now() + Duration::from_secs(10));
        for _ in 0..5 {
            assert!(timeout(Duration::from_secs(1), wait(&mut timer, at)).await.is_err());
        }
        wait(&mut timer, at).await;
        let waited = begun.elapsed();
        assert!(waited >= Duration::from_secs(9) && waited < Duration::from_secs(11), "{waited:?}");
        wait(&mut timer, at).await;
        assert_eq!(begun.elapsed(), waited, "a deadline that is over resolves at once");
    }

    #[tokio::test(start_paused = true)]
    async fn can_be_set_earlier_and_later() {
        let clock = Clock::default();
        let mut timer = DeadlineTimer::new(clock);
        let (begun, now) = (Instant::now(), clock.now());
        assert!(
            timeout(Duration::from_millis(1), wait(&mut timer, now + Duration::from_secs(60))).await.is_err()
        );
        wait(&mut timer, now + Duration::from_secs(1)).await;
        assert!(begun.elapsed() < Duration::from_secs(3));
        let later = wait(&mut timer, now + Duration::from_secs(30));
        assert!(timeout(Duration::from_secs(5), later).await.is_err());
    }

    #[tokio::test(start_paused = true)]
    async fn periodic_deadlines_resolve_at_their_times_and_end_when_another_is_set() {
        let clock = Clock::default();
        let mut timer = DeadlineTimer::new(clock);
        let (begun, now) = (Instant::now(), clock.now());
        for tick in 1..=20 {
            wait(&mut timer, now + Duration::from_millis(tick * 10)).await;
            let late = begun.elapsed().saturating_sub(Duration::from_millis(tick * 10));
            assert!(late <= Duration::from_millis(2), "tick {tick}: {late:?} late");
        }
        let next = now + Duration::from_millis(210);
        assert!(timer.timers.iter().any(|timer| timer.0 == next), "the next tick is set ahead");
        wait(&mut timer, now + Duration::from_secs(5)).await;
        assert!(begun.elapsed() >= Duration::from_millis(4_990));
    }
}
