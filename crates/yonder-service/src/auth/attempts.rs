//! A limit on guessing passwords: after some failures a name must wait, longer each time.

use std::collections::HashMap;
use std::time::{Duration, Instant};

/// Failures that cost nothing.
const FREE: u32 = 4;
/// Waits double up to this.
const MOST: Duration = Duration::from_secs(300);
/// Names remembered at most; beyond that the oldest are forgotten.
const NAMES: usize = 1000;

#[derive(Debug, Clone, Copy)]
struct Failures {
    count: u32,
    last: Instant,
}

/// Failed attempts by name.
#[derive(Debug, Default)]
pub(crate) struct Attempts {
    failures: HashMap<String, Failures>,
}

impl Attempts {
    /// How long `name` must still wait at `now`.
    pub(crate) fn wait(&self, name: &str, now: Instant) -> Option<Duration> {
        let failures = self.failures.get(&name.to_lowercase())?;
        let over = failures.count.checked_sub(FREE).filter(|over| *over > 0)?;
        let pause = Duration::from_secs(1).saturating_mul(1 << over.min(16)).min(MOST);
        pause.checked_sub(now.saturating_duration_since(failures.last)).filter(|rest| !rest.is_zero())
    }

    /// `name` failed at `now`.
    pub(crate) fn note_failure(&mut self, name: &str, now: Instant) {
        if self.failures.len() >= NAMES
            && let Some(oldest) =
                self.failures.iter().min_by_key(|(_, f)| f.last).map(|(name, _)| name.clone())
        {
            self.failures.remove(&oldest);
        }
        let failures = self.failures.entry(name.to_lowercase()).or_insert(Failures { count: 0, last: now });
        failures.count = failures.count.saturating_add(1);
        failures.last = now;
    }

    /// `name` succeeded.
    pub(crate) fn note_success(&mut self, name: &str) {
        self.failures.remove(&name.to_lowercase());
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_fifth_failure_costs_time_and_a_success_clears_it() {
        let mut attempts = Attempts::default();
        let now = Instant::now();
        for _ in 0..4 {
            attempts.note_failure("Desk", now);
            assert_eq!(attempts.wait("desk", now), None);
        }
        attempts.note_failure("desk", now);
        assert_eq!(attempts.wait("DESK", now), Some(Duration::from_secs(2)));
        attempts.note_failure("desk", now);
        assert_eq!(attempts.wait("desk", now), Some(Duration::from_secs(4)));
        assert_eq!(attempts.wait("desk", now + Duration::from_secs(4)), None);
        assert_eq!(attempts.wait("other", now), None);
        attempts.note_success("desk");
        assert_eq!(attempts.wait("desk", now), None);
    }

    #[test]
    fn memory_is_bounded() {
        let mut attempts = Attempts::default();
        let now = Instant::now();
        for name in 0..3_000 {
            attempts.note_failure(&name.to_string(), now);
        }
        assert!(attempts.failures.len() <= NAMES);
    }
}
