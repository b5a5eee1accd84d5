//! The ledger: what was carried on each day, and which keys were used. Written now and then, in the background.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

use tokio::time::{MissedTickBehavior, interval};
use yonder_address::Protocol;
use yonder_core::budget::with_ip_headers;
use yonder_core::{History, PushPhase};
use yonder_store::{Carried, HistorySubject};

use super::Service;
use super::destinations::kept_server;
use crate::error::ServiceError;
use crate::time;

/// How often keys in use are noted.
const LOOK_EVERY: Duration = Duration::from_secs(5);
/// Traffic is written with every so many looks: once a minute.
const WRITE_EVERY: u32 = 12;

/// Counters at the last look. They begin anew when a push does.
#[derive(Debug, Default)]
pub(crate) struct Ledger {
    seen: HashMap<Carried, u64>,
    unwritten: HashMap<Carried, u64>,
}

impl Ledger {
    /// Continues under other names: `rename` returns the new name of a subject that has one.
    pub(crate) fn rename_subjects(&mut self, rename: impl Fn(&Carried) -> Option<Carried>) {
        for counters in [&mut self.seen, &mut self.unwritten] {
            let renamed = std::mem::take(counters).into_iter();
            *counters = renamed.map(|(key, count)| (rename(&key).unwrap_or(key), count)).collect();
        }
    }

    /// Counts what a pull or push carried since the last look, and for the uplink that it is bound to as well.
    fn count(&mut self, whose: Carried, by: Option<Carried>, protocol: Option<Protocol>, counter: u64) {
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

impl Service {
    /// Keeps the ledger until the task is dropped.
    pub async fn keep_ledger(self: Arc<Self>) {
        let mut looks = interval(LOOK_EVERY);
        looks.set_missed_tick_behavior(MissedTickBehavior::Delay);
        let mut count = 0_u32;
        loop {
            looks.tick().await;
            count = count.wrapping_add(1);
            let writes = count.is_multiple_of(WRITE_EVERY);
            let service = Arc::clone(&self);
            let looked = tokio::task::spawn_blocking(move || service.look_into_ledger(writes)).await;
            if let Ok(Err(error)) = looked {
                tracing::warn!(%error, "the ledger could not be kept");
            }
        }
    }

    /// Counts what was carried since the last look and notes keys in use; writes traffic if told so.
    ///
    /// # Errors
    /// When the records cannot be read or written.
    pub fn look_into_ledger(&self, write: bool) -> Result<(), ServiceError> {
        self.write_kept_changes()?;
        let _between = self.between_changes();
        let relays = self.stored_relays();
        let mut ledger = super::lock(&self.ledger);
        let mut worked = Vec::new();
        for relay in relays.iter() {
            let Some(view) = self.engine.relay(&relay.name) else { continue };
            if view.feed.history == History::PROVEN {
                worked.push(HistorySubject::Feed(view.feed.name.clone()));
            }
            ledger.count(Carried::Feed(view.feed.name.clone()), None, None, view.feed.bytes);
            for push in &view.pushes {
                let destination = self.store.destination(&push.destination)?;
                let protocol = kept_server(&destination.settings.server)?.protocol();
                let whose = Carried::Push(relay.name.clone(), push.destination.clone());
                let by = push.uplink.clone().map(Carried::Uplink);
                ledger.count(whose, by, Some(protocol), push.bytes);
                if matches!(push.state, PushPhase::Live | PushPhase::Lagging)
                    && destination.key_used_s.is_none()
                {
                    self.store.note_key_used(&push.destination, time::now_s())?;
                }
                if push.history == History::PROVEN {
                    worked.push(HistorySubject::Destination(push.destination.clone()));
                }
            }
        }
        self.store.record_worked(&worked, time::now_s())?;
        if write && !ledger.unwritten.is_empty() {
            let carried: Vec<(Carried, u64)> = ledger.unwritten.drain().collect();
            self.store.add_traffic(&time::Calendar::now().day(), &carried)?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_counter_that_begins_anew_is_counted_from_there() {
        let (mut ledger, feed) = (Ledger::default(), Carried::Feed("Summit".into()));
        let uplink = Carried::Uplink("Office fibre".into());
        for counter in [100_000, 250_000, 30_000, 30_000] {
            ledger.count(feed.clone(), Some(uplink.clone()), None, counter);
        }
        // 280 kB, and what IP and TCP add.
        assert_eq!(ledger.unwritten[&feed], 280_000 + 280 * 36);
        assert_eq!(ledger.unwritten[&uplink], ledger.unwritten[&feed]);
    }
}
