//! Rate limit for guessing passwords and codes: after some failures a source must wait, with doubling delays.
//!
//! Failures are counted by source and name, so that a stranger cannot lock an account, and by source alone, so that one
//! source cannot try many names. An attempt counts as a failure before its password is hashed, so that parallel ones
//! count as well.

use std::collections::HashMap;
use std::net::IpAddr;
use std::time::{Duration, Instant};

/// Failures for one name from one source before a delay.
const FREE_BY_NAME: u32 = 4;
/// Failures for any names from one source before a delay.
const FREE_BY_SOURCE: u32 = 20;
/// Maximum delay.
const MAX_WAIT: Duration = Duration::from_secs(300);
/// Time after which failures are forgotten.
const FORGET_AFTER: Duration = Duration::from_secs(900);
/// Maximum number of counters. Beyond it the oldest is dropped.
const MAX_COUNTERS: usize = 4_096;
/// Maximum length of a name, in characters.
const MAX_NAME: usize = 64;

/// Source address of an attempt: an IPv4 address, or the /64 prefix of an IPv6 address, which one subscriber has.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Source(IpAddr);

impl From<IpAddr> for Source {
    fn from(address: IpAddr) -> Self {
        Self(match address.to_canonical() {
            IpAddr::V4(address) => address.into(),
            IpAddr::V6(address) => {
                let [a, b, c, d, ..] = address.segments();
                std::net::Ipv6Addr::new(a, b, c, d, 0, 0, 0, 0).into()
            }
        })
    }
}

impl std::fmt::Display for Source {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        self.0.fmt(f)
    }
}

/// Counters are by source and name; without a name, for all names.
type Key = (Source, Option<String>);

#[derive(Debug, Clone, Copy)]
struct Failures {
    count: u32,
    last: Instant,
}

impl Failures {
    /// Returns the time until the next attempt is accepted.
    fn wait(self, free: u32, now: Instant) -> Option<Duration> {
        let over = self.count.checked_sub(free).filter(|over| *over > 0)?;
        let pause = Duration::from_secs(1).saturating_mul(1 << over.min(16)).min(MAX_WAIT);
        pause.checked_sub(now.saturating_duration_since(self.last)).filter(|rest| !rest.is_zero())
    }
}

/// Failed attempts.
#[derive(Debug, Default)]
pub(crate) struct Attempts {
    failures: HashMap<Key, Failures>,
}

impl Attempts {
    /// Begins an attempt, which counts as a failure until [`Attempts::succeed`].
    ///
    /// # Errors
    /// The time until the next attempt is accepted.
    pub(crate) fn begin(&mut self, source: Source, name: &str, now: Instant) -> Result<(), Duration> {
        let keys = keys(source, name);
        let waits = keys.iter().filter_map(|(key, free)| self.failures.get(key)?.wait(*free, now));
        if let Some(wait) = waits.max() {
            return Err(wait);
        }
        for (key, _) in keys {
            self.add_failure(key, now);
        }
        Ok(())
    }

    /// Records the success of an attempt.
    pub(crate) fn succeed(&mut self, source: Source, name: &str) {
        let [(by_name, _), (by_source, _)] = keys(source, name);
        self.failures.remove(&by_name);
        if let Some(failures) = self.failures.get_mut(&by_source) {
            failures.count = failures.count.saturating_sub(1);
        }
    }

    fn add_failure(&mut self, key: Key, now: Instant) {
        let is_old = |failures: &Failures| now.saturating_duration_since(failures.last) > FORGET_AFTER;
        if self.failures.len() >= MAX_COUNTERS {
            self.failures.retain(|_, failures| !is_old(failures));
        }
        if self.failures.len() >= MAX_COUNTERS
            && let Some(oldest) = self.failures.iter().min_by_key(|(_, f)| f.last).map(|(key, _)| key.clone())
        {
            self.failures.remove(&oldest);
        }
        let failures = self.failures.entry(key).or_insert(Failures { count: 0, last: now });
        if is_old(failures) {
            failures.count = 0;
        }
        failures.count = failures.count.saturating_add(1);
        failures.last = now;
    }
}

/// Returns the counters of an attempt, with the number of free failures of each.
fn keys(source: Source, name: &str) -> [(Key, u32); 2] {
    let name: String = name.chars().take(MAX_NAME).collect::<String>().to_lowercase();
    [((source, Some(name)), FREE_BY_NAME), ((source, None), FREE_BY_SOURCE)]
}

#[cfg(test)]
mod tests {
    use super::*;

    fn source(address: &str) -> Source {
        address.parse::<IpAddr>().unwrap().into()
    }

    fn fail(attempts: &mut Attempts, source: Source, name: &str, now: Instant, count: usize) {
        for _ in 0..count {
            assert_eq!(attempts.begin(source, name, now), Ok(()));
        }
    }

    #[test]
    fn fifth_failure_is_delayed_and_success_resets() {
        let (mut attempts, now, desk) = (Attempts::default(), Instant::now(), source("192.0.2.7"));
        fail(&mut attempts, desk, "Desk", now, 5);
        assert_eq!(attempts.begin(desk, "DESK", now), Err(Duration::from_secs(2)));
        let later = now + Duration::from_secs(2);
        assert_eq!(attempts.begin(desk, "desk", later), Ok(()));
        assert_eq!(attempts.begin(desk, "desk", later), Err(Duration::from_secs(4)));
        attempts.succeed(desk, "desk");
        assert_eq!(attempts.begin(desk, "desk", later), Ok(()));
    }

    #[test]
    fn failures_of_a_stranger_do_not_lock_out_the_owner() {
        let (mut attempts, now) = (Attempts::default(), Instant::now());
        let (stranger, desk) = (source("203.0.113.9"), source("192.0.2.7"));
        fail(&mut attempts, stranger, "desk", now, 5);
        assert!(attempts.begin(stranger, "desk", now).is_err());
        assert_eq!(attempts.begin(desk, "desk", now), Ok(()));
    }

    #[test]
    fn attempts_for_many_names_from_one_source_are_limited() {
        let (mut attempts, now, stranger) = (Attempts::default(), Instant::now(), source("203.0.113.9"));
        let accepted = (0..200).filter(|at| attempts.begin(stranger, &format!("name {at}"), now).is_ok());
        assert_eq!(accepted.count(), 21);
    }

    #[test]
    fn neighbors_in_one_ipv6_network_are_one_source() {
        assert_eq!(source("2001:db8:0:1::7"), source("2001:db8:0:1:ffff::9"));
        assert_ne!(source("2001:db8:0:1::7"), source("2001:db8:0:2::7"));
        assert_eq!(source("::ffff:192.0.2.7"), source("192.0.2.7"));
    }

    #[test]
    fn failures_are_forgotten_after_a_quarter_of_an_hour() {
        let (mut attempts, now, desk) = (Attempts::default(), Instant::now(), source("192.0.2.7"));
        fail(&mut attempts, desk, "desk", now, 5);
        let later = now + FORGET_AFTER + Duration::from_secs(1);
        fail(&mut attempts, desk, "desk", later, 5);
    }

    #[test]
    fn memory_is_bounded() {
        let (mut attempts, now) = (Attempts::default(), Instant::now());
        for at in 0..6_000_u32 {
            let address = IpAddr::from(std::net::Ipv4Addr::from(at));
            let _accepted = attempts.begin(address.into(), &"x".repeat(100_000), now);
        }
        assert!(attempts.failures.len() <= MAX_COUNTERS);
        let longest = attempts.failures.keys().filter_map(|(_, name)| name.as_ref()).map(String::len).max();
        assert_eq!(longest, Some(MAX_NAME));
    }
}
