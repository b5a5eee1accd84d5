//! Live events: what changed since the last look, for everybody who listens.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

use tokio::sync::broadcast;
use tokio::time::{MissedTickBehavior, interval, sleep};
use yonder_api::RelayEvent;

use super::{Service, lock};

/// States that change together are told together.
const GATHER: Duration = Duration::from_millis(50);
/// How often rates are told.
const RATES: Duration = Duration::from_secs(1);

/// An event as its JSON text, shared by all listeners.
pub(crate) type LiveEvent = Arc<str>;
/// The last event of each relay.
pub(crate) type Snapshot = BTreeMap<String, LiveEvent>;

impl Service {
    /// Watches for changes until the task is dropped.
    pub(crate) async fn watch(self: Arc<Self>) {
        let mut changes = self.engine().changes();
        let mut rates = interval(RATES);
        rates.set_missed_tick_behavior(MissedTickBehavior::Delay);
        loop {
            tokio::select! {
                changed = changes.changed() => {
                    if changed.is_err() {
                        return;
                    }
                    sleep(GATHER).await;
                    changes.mark_unchanged();
                }
                _ = rates.tick() => {}
            }
            self.tell_changes();
        }
    }

    /// Everything as it was last told, and all events from then on.
    pub(crate) fn listen(&self) -> (Vec<LiveEvent>, broadcast::Receiver<LiveEvent>) {
        // Both under one lock: nothing falls between the two.
        let live = lock(&self.live);
        (live.values().cloned().collect(), self.events.subscribe())
    }

    /// Compares everything with what was last told, and tells the differences.
    pub(crate) fn tell_changes(&self) {
        let mut live = lock(&self.live);
        let mut now = Snapshot::new();
        for relay in self.relays() {
            let name = relay.name.clone();
            if let Ok(text) = serde_json::to_string(&RelayEvent::Relay { relay: Box::new(relay) }) {
                now.insert(name, text.into());
            }
        }
        for (name, event) in &now {
            if live.get(name) != Some(event) {
                // Nobody may be listening.
                let _listeners = self.events.send(Arc::clone(event));
            }
        }
        for name in live.keys().filter(|name| !now.contains_key(*name)) {
            if let Ok(text) = serde_json::to_string(&RelayEvent::Gone { name: name.clone() }) {
                let _listeners = self.events.send(text.into());
            }
        }
        *live = now;
    }
}
