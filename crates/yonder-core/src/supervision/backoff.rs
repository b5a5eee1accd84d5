//! Exponential backoff with jitter from an injected seed.

use std::time::Duration;

use fastrand::Rng;

/// Backoff that doubles from `first` to `max`, with jitter.
#[derive(Debug, Clone)]
pub(super) struct Backoff {
    first: Duration,
    max: Duration,
    /// Jitter in percent of the delay, in both directions.
    jitter_percent: u32,
    attempt: u32,
    random: Rng,
}

impl Backoff {
    pub(super) fn new(first: Duration, max: Duration, jitter_percent: u32, seed: u64) -> Self {
        Self { first, max, jitter_percent, attempt: 0, random: Rng::with_seed(seed) }
    }

    /// Returns the next delay.
    pub(super) fn next_delay(&mut self) -> Duration {
        let doubled = self.first.saturating_mul(1 << self.attempt.min(16)).min(self.max);
        self.attempt = self.attempt.saturating_add(1);
        let percent = self.random.u32(100 - self.jitter_percent..=100 + self.jitter_percent);
        // Jitter never exceeds the maximum.
        (doubled * percent / 100).min(self.max)
    }

    /// Resets the delay to the shortest.
    pub(super) fn reset(&mut self) {
        self.attempt = 0;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn delays_double_up_to_the_maximum_and_reset() {
        let mut backoff = Backoff::new(Duration::from_secs(1), Duration::from_secs(5), 0, 1);
        let delays: Vec<u64> = (0..5).map(|_| backoff.next_delay().as_secs()).collect();
        assert_eq!(delays, vec![1, 2, 4, 5, 5]);
        backoff.reset();
        assert_eq!(backoff.next_delay().as_secs(), 1);
    }

    #[test]
    fn jitter_is_bounded_and_varies() {
        let mut backoff = Backoff::new(Duration::from_secs(10), Duration::from_secs(10), 20, 42);
        let delays: Vec<Duration> = (0..200).map(|_| backoff.next_delay()).collect();
        assert!(delays.iter().all(|d| (Duration::from_secs(8)..=Duration::from_secs(10)).contains(d)));
        assert!(delays.iter().any(|d| *d != delays[0]));
    }
}
