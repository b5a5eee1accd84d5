//! Limits of connections that have not shown a stream key yet, and delays of addresses with wrong keys. Pure: time is passed in.

use std::collections::HashMap;
use std::net::IpAddr;
use std::time::Duration;

/// Maximum connections without an accepted key.
const MAX_PENDING: usize = 256;
/// The same for one address; behind one address there may be several encoders.
const MAX_PENDING_PER_ADDRESS: usize = 16;
/// Maximum publishers.
const MAX_PUBLISHERS: usize = 1_024;
/// Delay of a refusal, per wrong key of the same address before.
const DELAY_STEP: Duration = Duration::from_millis(500);
/// Maximum delay of a refusal.
const MAX_DELAY: Duration = Duration::from_secs(5);
/// Time after which the wrong keys of an address are forgotten.
const FORGET_AFTER: Duration = Duration::from_secs(10 * 60);
/// Maximum addresses with wrong keys; the oldest are forgotten.
const MAX_ADDRESSES: usize = 4_096;

/// Publishers, and refused peers since the start.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct IngestCounts {
    /// Connections beyond a limit.
    pub over_limit: u64,
    /// Connections that did not send a key in time, or sent something else.
    pub without_key: u64,
    /// Wrong keys, or wrong passphrases.
    pub wrong_key: u64,
    /// Right keys that another publisher uses.
    pub busy: u64,
    /// Address of the last wrong key.
    pub last_wrong_key: Option<IpAddr>,
    /// Publishers now.
    pub publishers: usize,
}

/// Wrong keys of an address.
#[derive(Debug, Clone, Copy)]
struct Attempts {
    count: u32,
    last: Duration,
}

/// Limits of the peers.
#[derive(Debug, Default)]
pub(super) struct Limits {
    pending: HashMap<IpAddr, usize>,
    wrong: HashMap<IpAddr, Attempts>,
    pub(super) counts: IngestCounts,
}

impl Limits {
    fn pending(&self) -> usize {
        self.pending.values().sum()
    }

    /// Counts a connection without a key. Returns false, and counts nothing, if it is one too many.
    pub(super) fn admit(&mut self, from: IpAddr) -> bool {
        let of_address = self.pending.get(&from).copied().unwrap_or_default();
        if of_address >= MAX_PENDING_PER_ADDRESS || self.pending() >= MAX_PENDING {
            self.counts.over_limit += 1;
            return false;
        }
        self.pending.insert(from, of_address + 1);
        true
    }

    /// Ends the count of a connection without a key.
    pub(super) fn release(&mut self, from: IpAddr) {
        if let Some(count) = self.pending.get_mut(&from) {
            *count = count.saturating_sub(1);
            if *count == 0 {
                self.pending.remove(&from);
            }
        }
    }

    /// Counts a publisher. Returns false, and counts nothing, if it is one too many.
    pub(super) fn add_publisher(&mut self) -> bool {
        if self.counts.publishers >= MAX_PUBLISHERS {
            self.counts.over_limit += 1;
            return false;
        }
        self.counts.publishers += 1;
        true
    }

    pub(super) fn remove_publisher(&mut self) {
        self.counts.publishers = self.counts.publishers.saturating_sub(1);
    }

    /// Records a wrong key, and returns how long its refusal is delayed.
    pub(super) fn record_wrong_key(&mut self, from: IpAddr, now: Duration) -> Duration {
        self.counts.wrong_key += 1;
        self.counts.last_wrong_key = Some(from);
        self.wrong.retain(|_, attempts| now.saturating_sub(attempts.last) < FORGET_AFTER);
        if self.wrong.len() >= MAX_ADDRESSES && !self.wrong.contains_key(&from) {
            let oldest = self.wrong.iter().min_by_key(|(_, attempts)| attempts.last).map(|(from, _)| *from);
            oldest.map(|oldest| self.wrong.remove(&oldest));
        }
        let attempts = self.wrong.entry(from).or_insert(Attempts { count: 0, last: now });
        let delay = (DELAY_STEP * attempts.count).min(MAX_DELAY);
        attempts.count = attempts.count.saturating_add(1);
        attempts.last = now;
        delay
    }

    /// Forgets the wrong keys of an address that has shown a right one.
    pub(super) fn forgive(&mut self, from: IpAddr) {
        self.wrong.remove(&from);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const FROM: IpAddr = IpAddr::V4(std::net::Ipv4Addr::new(192, 0, 2, 7));

    fn address(number: usize) -> IpAddr {
        IpAddr::from([198, 51, u8::try_from(number / 200).unwrap(), u8::try_from(number % 200).unwrap()])
    }

    #[test]
    fn connections_without_a_key_are_limited_per_address_and_in_all() {
        let mut limits = Limits::default();
        assert_eq!((0..100).filter(|_| limits.admit(FROM)).count(), MAX_PENDING_PER_ADDRESS);
        let others = (0..1_000).filter(|at| limits.admit(address(*at))).count();
        assert_eq!(others, MAX_PENDING - MAX_PENDING_PER_ADDRESS);
        limits.release(FROM);
        assert!(limits.admit(FROM));
        assert!(limits.counts.over_limit > 0);
    }

    #[test]
    fn refusals_of_an_address_are_delayed_more_and_more_and_forgotten() {
        let mut limits = Limits::default();
        let second = Duration::from_secs(1);
        let delays: Vec<Duration> = (0..20).map(|_| limits.record_wrong_key(FROM, second)).collect();
        assert_eq!(delays[..3], [Duration::ZERO, DELAY_STEP, 2 * DELAY_STEP]);
        assert_eq!(delays[19], MAX_DELAY);
        assert_eq!(limits.record_wrong_key(address(1), second), Duration::ZERO);
        assert_eq!(limits.record_wrong_key(FROM, second + FORGET_AFTER), Duration::ZERO);
        limits.record_wrong_key(FROM, second + FORGET_AFTER);
        limits.forgive(FROM);
        assert_eq!(limits.record_wrong_key(FROM, second + FORGET_AFTER), Duration::ZERO);
    }

    #[test]
    fn memory_for_addresses_is_bounded() {
        let mut limits = Limits::default();
        for at in 0..3 * MAX_ADDRESSES {
            let [.., a, b] = u32::try_from(at).unwrap().to_be_bytes();
            limits.record_wrong_key(
                IpAddr::from([203, 0, a, b]),
                Duration::from_millis(u64::try_from(at).unwrap()),
            );
        }
        assert_eq!(limits.wrong.len(), MAX_ADDRESSES);
    }
}
