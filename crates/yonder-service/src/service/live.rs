//! Live events: what changed since the last look, for everybody who listens.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

use tokio::sync::broadcast;
use tokio::time::{MissedTickBehavior, interval, sleep};
use yonder_api::{Relay, RelayEvent, RelayPulse};
use yonder_store::LogFilter;

use super::{Service, lock};

/// States that change together are told together.
const GATHER: Duration = Duration::from_millis(50);
/// How often what moves is told.
const PULSE: Duration = Duration::from_secs(1);
/// Lines of the logbook that are told at once. Whoever listens to more of them at a time reads the logbook anew.
const MOST_LINES: u32 = 200;

/// An event as its JSON text, shared by all listeners.
pub type LiveEvent = Arc<str>;

/// A relay as it was last told.
#[derive(Debug)]
pub(crate) struct Told {
    /// With what moved at the last pulse.
    relay: Relay,
    /// Without anything that moves.
    still: Relay,
    pulse: RelayPulse,
}

/// Every relay as it was last told.
pub(crate) type Snapshot = BTreeMap<String, Told>;

/// Runs a comparison and returns the pause until the next one, nine times its duration: with many relays that change continuously,
/// comparisons take at most a tenth of a core.
fn timed(compare: impl FnOnce()) -> Duration {
    let begun = Instant::now();
    compare();
    (begun.elapsed() * 9).clamp(GATHER, PULSE)
}

fn text(event: &RelayEvent) -> Option<LiveEvent> {
    serde_json::to_string(event).ok().map(Into::into)
}

fn relay_event(relay: &Relay) -> Option<LiveEvent> {
    text(&RelayEvent::Relay { relay: Box::new(relay.clone()) })
}

impl Service {
    /// Watches for changes until the task is dropped.
    pub async fn watch(self: Arc<Self>) {
        let mut changes = self.engine().changes();
        let mut pulses = interval(PULSE);
        pulses.set_missed_tick_behavior(MissedTickBehavior::Delay);
        let mut pause = GATHER;
        loop {
            tokio::select! {
                changed = changes.changed() => {
                    if changed.is_err() {
                        return;
                    }
                    sleep(pause).await;
                    changes.mark_unchanged();
                    pause = timed(|| self.tell_differences(false));
                }
                () = self.records_changed.notified() => {
                    sleep(pause).await;
                    pause = timed(|| self.tell_differences(false));
                }
                _ = pulses.tick() => self.tell_pulses(),
            }
        }
    }

    /// Everything as it was last told, and all events from then on.
    pub fn listen(&self) -> (Vec<LiveEvent>, broadcast::Receiver<LiveEvent>) {
        // Includes changes that are not published yet.
        self.tell_differences(false);
        // Both under one lock: nothing falls between the two.
        let live = lock(&self.live);
        (live.values().filter_map(|told| relay_event(&told.relay)).collect(), self.events.subscribe())
    }

    /// Publishes what a change of the records has changed, within the next 50 ms: a hundred changes cost as much as one.
    pub fn tell_changes(&self) {
        self.records_changed.notify_one();
    }

    /// Tells what changed, and what merely moved.
    fn tell_pulses(&self) {
        self.tell_differences(true);
    }

    fn tell_differences(&self, with_pulses: bool) {
        let mut live = lock(&self.live);
        let mut gone = std::mem::take(&mut *live);
        let mut moved = Vec::new();
        for relay in self.relays() {
            let name = relay.name.clone();
            let (still, pulse) = (RelayPulse::still(&relay), RelayPulse::of(&relay));
            let told = match gone.remove(&name) {
                Some(told) if told.still == still && !with_pulses => told,
                Some(told) if told.still == still => {
                    if told.pulse != pulse {
                        moved.push(pulse.clone());
                    }
                    Told { relay, still, pulse }
                }
                _ => {
                    self.tell(relay_event(&relay));
                    Told { relay, still, pulse }
                }
            };
            live.insert(name, told);
        }
        for name in gone.into_keys() {
            self.tell(text(&RelayEvent::Gone { name }));
        }
        if !moved.is_empty() {
            self.tell(text(&RelayEvent::Pulse { relays: moved }));
        }
    }

    /// Tells the lines of the logbook that were written since this was last called.
    pub(super) fn tell_lines(&self) {
        let after = *lock(&self.told_lines);
        let filter = LogFilter { after: Some(after), most: MOST_LINES, ..LogFilter::default() };
        // Not under the lock: whoever writes a line may hold the records. A line that cannot be read is missed by those
        // who listen, and is in the logbook.
        let Ok(entries) = self.log_entries(&filter) else { return };
        let mut last = lock(&self.told_lines);
        for entry in entries.into_iter().filter(|entry| entry.id > *last).collect::<Vec<_>>() {
            *last = entry.id;
            self.tell(text(&RelayEvent::Log { entry: Box::new(entry) }));
        }
    }

    fn tell(&self, event: Option<LiveEvent>) {
        if let Some(event) = event {
            // Nobody may be listening.
            let _listeners = self.events.send(event);
        }
    }
}
