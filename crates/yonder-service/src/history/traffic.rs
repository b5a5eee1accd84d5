//! Traffic per day, and the use of keys.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

use tokio::time::{MissedTickBehavior, interval};
use yonder_address::Protocol;
use yonder_core::PushPhase;
use yonder_core::budget::with_ip_headers;
use yonder_store::{HistorySubject, TrafficKey};

use super::History;
use yonder_records::ServiceError;
use yonder_records::stored_server;
use yonder_records::time;

/// Interval of readings of counters.
const COUNT_INTERVAL: Duration = Duration::from_secs(5);
/// Readings between two writes: a minute.
const WRITE_EVERY: u32 = 12;

/// Counters at the last reading. A new push begins at 0.
#[derive(Debug, Default)]
pub(super) struct TrafficCounter {
    seen: HashMap<TrafficKey, u64>,
    unwritten: HashMap<TrafficKey, u64>,
}

impl TrafficCounter {
    /// Renames subjects: `rename` returns the new name of each that has one.
    pub(super) fn rename_subjects(&mut self, rename: impl Fn(&TrafficKey) -> Option<TrafficKey>) {
        for counters in [&mut self.seen, &mut self.unwritten] {
            let renamed = std::mem::take(counters).into_iter();
            *counters = renamed.map(|(key, count)| (rename(&key).unwrap_or(key), count)).collect();
        }
    }

    /// Counts the bytes of a pull or push since the last reading, for itself and for the uplink that it is bound to.
    fn count(&mut self, whose: TrafficKey, by: Option<TrafficKey>, protocol: Option<Protocol>, counter: u64) {
        let before = self.seen.insert(whose.clone(), counter).unwrap_or_default();
        let more = if counter >= before { counter - before } else { counter };
        if more > 0 {
            let bytes = with_ip_headers(protocol, more);
            for whose in std::iter::once(whose).chain(by) {
                *self.unwritten.entry(whose).or_default() += bytes;
            }
        }
    }
}

impl History {
    /// Counts traffic until the task is dropped.
    pub(crate) async fn run_traffic(self: Arc<Self>) {
        let mut ticks = interval(COUNT_INTERVAL);
        ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
        let mut count = 0_u32;
        loop {
            ticks.tick().await;
            count = count.wrapping_add(1);
            let writes = count.is_multiple_of(WRITE_EVERY);
            let history = Arc::clone(&self);
            let counted = tokio::task::spawn_blocking(move || history.count_traffic(writes)).await;
            if let Ok(Err(error)) = counted {
                tracing::warn!(%error, "traffic could not be counted");
            }
        }
    }

    /// Counts the bytes since the last reading and marks keys in use; writes traffic if `write`.
    ///
    /// # Errors
    /// If the records cannot be read or written.
    pub fn count_traffic(&self, write: bool) -> Result<(), ServiceError> {
        let _between = self.records.try_lock_changes();
        let relays = self.records.stored_relays();
        let mut counter = self.traffic.lock();
        let mut worked = Vec::new();
        for relay in relays.iter() {
            let Some(view) = self.engine.relay(&relay.name) else { continue };
            if view.feed.history == yonder_core::History::PROVEN {
                worked.push(HistorySubject::Feed(view.feed.name.clone()));
            }
            counter.count(TrafficKey::Feed(view.feed.name.clone()), None, None, view.feed.bytes);
            for push in &view.pushes {
                let destination = self.records.store.destination(&push.destination)?;
                let protocol = stored_server(&destination.settings.server)?.protocol();
                let whose = TrafficKey::Push(relay.name.clone(), push.destination.clone());
                let by = push.uplink.clone().map(TrafficKey::Uplink);
                counter.count(whose, by, Some(protocol), push.bytes);
                if matches!(push.state, PushPhase::Live | PushPhase::Lagging)
                    && destination.key_used_s.is_none()
                {
                    self.records.store.note_key_used(&push.destination, time::now_s())?;
                }
                if push.history == yonder_core::History::PROVEN {
                    worked.push(HistorySubject::Destination(push.destination.clone()));
                }
            }
        }
        self.records.store.record_worked(&worked, time::now_s())?;
        if write && !counter.unwritten.is_empty() {
            let carried: Vec<(TrafficKey, u64)> = counter.unwritten.drain().collect();
            self.records.store.add_traffic(&time::Calendar::now().day(), &carried)?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn counter_reset_is_handled() {
        let (mut traffic, feed) = (TrafficCounter::default(), TrafficKey::Feed("Summit".into()));
        let uplink = TrafficKey::Uplink("Office fibre".into());
        for counter in [100_000, 250_000, 30_000, 30_000] {
            traffic.count(feed.clone(), Some(uplink.clone()), None, counter);
        }
        // 280 kB and the headers of IP and TCP.
        assert_eq!(traffic.unwritten[&feed], 280_000 + 280 * 36);
        assert_eq!(traffic.unwritten[&uplink], traffic.unwritten[&feed]);
    }
}
