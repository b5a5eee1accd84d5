//! Rate limit of attempts with credentials, so that peers do not lock accounts.

use std::collections::VecDeque;
use std::time::Duration;

/// Period of at most [`MAX_TRIES`] attempts, below the limits at which peers lock accounts.
const WINDOW: Duration = Duration::from_secs(15 * 60);
const MAX_TRIES: usize = 2;
/// Delay before the second attempt, long enough for a device to boot: many refuse all credentials until their accounts
/// are loaded.
const INTERVAL: Duration = Duration::from_secs(65);

/// Refused attempts at one peer.
#[derive(Debug, Clone, Default)]
pub(super) struct CredentialRation {
    /// Times of refusals of the credentials, in order.
    refusals: VecDeque<Duration>,
}

impl CredentialRation {
    /// Records a refusal at `now`.
    pub(super) fn on_refused(&mut self, now: Duration) {
        self.refusals.push_back(now);
        if self.refusals.len() > MAX_TRIES {
            self.refusals.pop_front();
        }
    }

    /// Forgets all refusals: the peer has accepted the credentials, or they were changed.
    pub(super) fn reset(&mut self) {
        self.refusals.clear();
    }

    /// Returns the earliest time of the next attempt; zero without refusals.
    pub(super) fn next_try(&self) -> Duration {
        let Some(last) = self.refusals.back() else { return Duration::ZERO };
        let by_interval = *last + INTERVAL;
        match self.refusals.front() {
            Some(first) if self.refusals.len() == MAX_TRIES => by_interval.max(*first + WINDOW),
            _ => by_interval,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn at_most_two_tries_fall_into_any_quarter_of_an_hour() {
        let (mut ration, mut now, mut tries) = (CredentialRation::default(), Duration::ZERO, Vec::new());
        for _ in 0..100 {
            tries.push(now);
            ration.on_refused(now);
            now = ration.next_try();
        }
        assert!(tries.windows(3).all(|three| three[2] - three[0] >= WINDOW), "{tries:?}");
        assert!(tries[1] <= Duration::from_secs(75), "the second try comes once a device has booted");
        ration.reset();
        assert_eq!(ration.next_try(), Duration::ZERO);
    }
}
