//! Live events for subscribers: changes of relays, and new lines of the logbook.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

use parking_lot::Mutex;
use tokio::sync::{Notify, broadcast};
use tokio::time::{MissedTickBehavior, interval, sleep};
use yonder_api::{Relay, RelayEvent, RelayStats};
use yonder_engine::Engine;
use yonder_store::LogFilter;

use yonder_records::Records;
use yonder_records::ServiceError;
use yonder_records::views;

/// Delay within which changes are published together.
const DEBOUNCE: Duration = Duration::from_millis(50);
/// Interval of events with statistics, such as bit rates.
const STATS_INTERVAL: Duration = Duration::from_secs(1);
/// Maximum logbook lines in one publication; subscribers read further ones from the logbook.
const MAX_LINES: u32 = 200;

/// Event as JSON text, shared by all subscribers.
pub type LiveEvent = Arc<str>;

/// Number of events that a subscriber may lag behind before it must subscribe again.
const CAPACITY: usize = 1024;

/// Relay as last published.
#[derive(Debug)]
struct Published {
    relay: Relay,
    /// Relay without the fields of `stats`.
    still: Relay,
    stats: RelayStats,
}

/// Publication of live events.
#[derive(Debug)]
pub struct Events {
    records: Arc<Records>,
    engine: Engine,
    /// All relays as last published.
    published: Mutex<BTreeMap<String, Published>>,
    /// Number of the last published logbook line.
    last_line: Mutex<i64>,
    sender: broadcast::Sender<LiveEvent>,
    /// Signals that the records have changed, for the next publication.
    records_changed: Notify,
}

/// Runs a comparison and returns the pause until the next one, nine times its duration: with many continuously changing
/// relays, comparisons take at most a tenth of a core.
fn timed(compare: impl FnOnce()) -> Duration {
    let begun = Instant::now();
    compare();
    (begun.elapsed() * 9).clamp(DEBOUNCE, STATS_INTERVAL)
}

fn text(event: &RelayEvent) -> Option<LiveEvent> {
    serde_json::to_string(event).ok().map(Into::into)
}

fn relay_event(relay: &Relay) -> Option<LiveEvent> {
    text(&RelayEvent::Relay { relay: Box::new(relay.clone()) })
}

impl Events {
    /// Creates the publisher of events from now on.
    ///
    /// # Errors
    /// If the logbook cannot be read.
    pub(crate) fn new(records: Arc<Records>, engine: Engine) -> Result<Self, ServiceError> {
        let last_line = records.store.last_log_line()?;
        Ok(Self {
            records,
            engine,
            published: Mutex::default(),
            last_line: Mutex::new(last_line),
            sender: broadcast::Sender::new(CAPACITY),
            records_changed: Notify::new(),
        })
    }

    /// Publishes changes until the task is dropped.
    pub(crate) async fn run(self: Arc<Self>) {
        let mut changes = self.engine.changes();
        let mut stats = interval(STATS_INTERVAL);
        stats.set_missed_tick_behavior(MissedTickBehavior::Delay);
        let mut pause = DEBOUNCE;
        loop {
            tokio::select! {
                changed = changes.changed() => {
                    if changed.is_err() {
                        return;
                    }
                    sleep(pause).await;
                    changes.mark_unchanged();
                    pause = timed(|| self.publish_differences(false));
                }
                () = self.records_changed.notified() => {
                    sleep(pause).await;
                    pause = timed(|| self.publish_differences(false));
                }
                _ = stats.tick() => self.publish_differences(true),
            }
        }
    }

    /// Subscribes: returns all relays as last published, and the events from then on.
    pub fn subscribe(&self) -> (Vec<LiveEvent>, broadcast::Receiver<LiveEvent>) {
        // Includes pending changes.
        self.publish_differences(false);
        // Both under one lock, so that no event is lost between the two.
        let published = self.published.lock();
        let relays = published.values().filter_map(|published| relay_event(&published.relay));
        (relays.collect(), self.sender.subscribe())
    }

    /// Publishes changes of the records within 50 ms, so that many changes cost as much as one.
    pub fn notify_changes(&self) {
        self.records_changed.notify_one();
    }

    fn publish_differences(&self, with_stats: bool) {
        let mut published = self.published.lock();
        let mut removed = std::mem::take(&mut *published);
        let mut moved = Vec::new();
        for relay in self.records.relays() {
            let name = relay.name.clone();
            let (still, stats) = (RelayStats::still(&relay), RelayStats::of(&relay));
            let latest = match removed.remove(&name) {
                Some(before) if before.still == still && !with_stats => before,
                Some(before) if before.still == still => {
                    if before.stats != stats {
                        moved.push(stats.clone());
                    }
                    Published { relay, still, stats }
                }
                _ => {
                    self.send(relay_event(&relay));
                    Published { relay, still, stats }
                }
            };
            published.insert(name, latest);
        }
        for name in removed.into_keys() {
            self.send(text(&RelayEvent::Removed { name }));
        }
        if !moved.is_empty() {
            self.send(text(&RelayEvent::Stats { relays: moved }));
        }
    }

    /// Publishes the logbook lines written since the last call.
    pub(crate) fn publish_log_lines(&self) {
        let after = *self.last_line.lock();
        let filter = LogFilter { after: Some(after), limit: MAX_LINES, ..LogFilter::default() };
        // Read without the lock, since reading may block. Lines that cannot be read are not published.
        let Ok(lines) = self.records.store.logbook(&filter) else { return };
        let mut last = self.last_line.lock();
        for line in lines.into_iter().filter(|line| line.id > *last).collect::<Vec<_>>() {
            *last = line.id;
            self.send(text(&RelayEvent::Log { entry: Box::new(views::log_entry(line)) }));
        }
    }

    /// Publishes an event.
    pub(crate) fn publish(&self, event: &RelayEvent) {
        self.send(text(event));
    }

    fn send(&self, event: Option<LiveEvent>) {
        if let Some(event) = event {
            // There may be no subscriber.
            let _subscribers = self.sender.send(event);
        }
    }
}
