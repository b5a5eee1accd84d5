//! One feed: its shared state, and the task that supervises it.

mod figures;
mod supervisor;

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use tokio::sync::{Notify, watch};
use yonder_core::{Cause, CauseCode, Decision, FeedMachine, FeedState, History};

use crate::clock::Clock;
use crate::hub::{Cursor, Entry, Hub, Taken};
use crate::output::RelayOutput;
use crate::spec::FeedSpec;
use crate::view::{Carrier, CauseView, FeedView};

pub(crate) use figures::FeedFigures;
pub(crate) use supervisor::supervise;

/// A feed that flows without a frame for this long is shown as stalled, whatever its machine says.
const SILENT_VIEW: Duration = Duration::from_secs(5);

/// State of a feed as its relays need it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct FeedSignal {
    /// Video arrives.
    pub(crate) flows: bool,
    /// Why it does not, or what is wrong with it.
    pub(crate) cause: Option<Cause>,
}

/// Order to end one connection. It is made together with the decision to connect, so that no order is lost between the
/// decision and the start of the connection.
#[derive(Debug)]
pub(crate) struct HangUp(watch::Receiver<u64>);

impl HangUp {
    /// Resolves when the connection is to be ended.
    ///
    /// # Cancel safety
    /// Safe: an order stays until it has been returned.
    pub(crate) async fn ordered(&mut self) {
        // A feed that is gone wants no connection either.
        let _gone = self.0.changed().await;
    }
}

/// A decision of the feed's machine.
#[derive(Debug)]
pub(crate) enum FeedStep {
    /// Wait for an event.
    Idle,
    /// Wait for an event or for this time.
    WaitUntil(Duration),
    /// Connect, until it is ordered to hang up.
    Connect(HangUp),
}

/// A feed, shared by its supervisor, its pushes and whoever looks.
#[derive(Debug)]
pub(crate) struct Feed {
    pub(crate) clock: Clock,
    pub(crate) hub: Hub,
    /// Outputs of the relays that send it.
    outputs: Mutex<Vec<Arc<RelayOutput>>>,
    pub(crate) figures: Mutex<FeedFigures>,
    spec: Mutex<FeedSpec>,
    machine: Mutex<FeedMachine>,
    /// The transport that pictures last came by.
    carrier: Mutex<Option<Carrier>>,
    signal: watch::Sender<FeedSignal>,
    /// Bumped whenever something changed that people see at once.
    changes: watch::Sender<u64>,
    /// Wakes the supervisor after a change of mind.
    wake: Notify,
    /// Ends the connection that runs: the feed is disabled, or its address changed. Sent to only while the machine is locked.
    hang_up: watch::Sender<u64>,
    /// The feed is not used any more; its supervisor ends.
    is_retired: AtomicBool,
}

impl Feed {
    pub(crate) fn new(spec: FeedSpec, clock: Clock, changes: watch::Sender<u64>) -> Arc<Self> {
        let mut machine = FeedMachine::new(rand::random(), clock.now());
        machine.set_history(spec.history);
        Arc::new(Self {
            clock,
            hub: Hub::default(),
            outputs: Mutex::default(),
            figures: Mutex::default(),
            spec: Mutex::new(spec),
            machine: Mutex::new(machine),
            is_retired: AtomicBool::new(false),
            carrier: Mutex::default(),
            signal: watch::Sender::default(),
            changes,
            wake: Notify::new(),
            hang_up: watch::Sender::new(0),
        })
    }

    pub(crate) fn spec(&self) -> FeedSpec {
        lock(&self.spec).clone()
    }

    /// The transport to try first, where the camera's liking is known.
    pub(crate) fn known_carrier(&self) -> Option<Carrier> {
        *lock(&self.carrier)
    }

    pub(crate) fn set_known_carrier(&self, carrier: Option<Carrier>) {
        *lock(&self.carrier) = carrier;
    }

    /// Interval at which the camera is to be probed; `None` while there is nothing to probe for. A camera that accepts
    /// connections but does not answer is there already: probing would only make it be dialed without a pause.
    pub(crate) fn probe_interval(&self) -> Option<Duration> {
        let interval = lock(&self.machine).probe_interval(self.clock.now())?;
        (!lock(&self.figures).was_reached()).then_some(interval)
    }

    /// Why the feed does not flow.
    pub(crate) fn cause(&self) -> Option<Cause> {
        lock(&self.machine).cause().cloned()
    }

    /// Returns which parts of the feed's address have worked since they were set.
    pub(crate) fn history(&self) -> History {
        lock(&self.machine).history()
    }

    pub(crate) fn signal(&self) -> watch::Receiver<FeedSignal> {
        self.signal.subscribe()
    }

    /// Enables or disables the feed.
    pub(crate) fn set_enabled(&self, enabled: bool) {
        self.change(|machine, now| {
            machine.set_enabled(enabled, now);
            if !enabled {
                self.hang_up.send_modify(|count| *count += 1);
            }
        });
        self.wake.notify_one();
    }

    /// Disables the feed for good: its connection ends in order, and then its supervisor.
    pub(crate) fn retire(&self) {
        self.is_retired.store(true, Ordering::Relaxed);
        self.set_enabled(false);
    }

    pub(crate) fn is_retired(&self) -> bool {
        self.is_retired.load(Ordering::Relaxed)
    }

    /// Pulls from another address, or with other credentials, from now on.
    pub(crate) fn set_spec(&self, spec: FeedSpec) {
        {
            let mut current = lock(&self.spec);
            if current.is_same(&spec) {
                return;
            }
            lock(&self.machine).set_history(spec.history);
            *current = spec;
        }
        self.set_known_carrier(None);
        self.set_enabled(false);
        self.set_enabled(true);
    }

    /// Passes an event to the machine and publishes the result, if anything has changed.
    pub(crate) fn change(&self, event: impl FnOnce(&mut FeedMachine, Duration)) {
        let (before, after, signal) = {
            let mut machine = lock(&self.machine);
            let before = machine.state();
            event(&mut machine, self.clock.now());
            let flows = machine.state() == FeedState::Flowing;
            (before, machine.state(), FeedSignal { flows, cause: machine.cause().cloned() })
        };
        if std::mem::discriminant(&before) != std::mem::discriminant(&after) {
            let feed = lock(&self.spec).name.clone();
            let code = signal.cause.as_ref().map_or("", |cause| cause.code.code());
            let message = signal.cause.as_ref().map_or("", |cause| cause.message.as_str());
            tracing::info!(feed, state = after.as_str(), code, message, "feed");
        }
        let differs = self.signal.send_if_modified(|current| {
            let differs = *current != signal;
            *current = signal;
            differs
        });
        if differs || before != after {
            self.changes.send_modify(|count| *count += 1);
        }
    }

    /// Publishes a unit to the feed's readers and its relays.
    pub(crate) fn publish(&self, entry: Entry) {
        let entry = Arc::new(entry);
        self.hub.publish(Arc::clone(&entry));
        for output in lock(&self.outputs).iter() {
            output.handle_feed_unit(&entry);
        }
    }

    /// Attaches a relay: its output is given every unit, beginning with the last keyframe.
    pub(crate) fn attach(&self, output: &Arc<RelayOutput>) {
        let mut outputs = lock(&self.outputs);
        let mut cursor = Cursor::default();
        while let Taken::Entry { entry, .. } = self.hub.take(&mut cursor) {
            output.handle_feed_unit(&entry);
        }
        outputs.push(Arc::clone(output));
    }

    /// Detaches a relay.
    pub(crate) fn detach(&self, output: &Arc<RelayOutput>) {
        lock(&self.outputs).retain(|other| !Arc::ptr_eq(other, output));
    }

    /// Notes a video frame. Cheap while the feed flows without a warning.
    pub(crate) fn note_flowing(&self) {
        if !self.signal.borrow().flows {
            self.change(FeedMachine::on_flowing);
        }
    }

    /// Shows an obstacle that does not end the connection; `None` takes it back.
    pub(crate) fn note_warning(&self, cause: Option<Cause>) {
        self.change(|machine, _| machine.on_warning(cause));
    }

    /// Notes the absence of video on an open connection.
    pub(crate) fn note_silent(&self, cause: Cause) {
        self.change(|machine, now| machine.on_silent(cause, now));
    }

    /// Returns the machine's decision; the order to hang up is made under the same lock.
    pub(crate) fn decide(&self) -> FeedStep {
        let (step, changed) = {
            let mut machine = lock(&self.machine);
            let before = machine.state();
            let step = match machine.decide(self.clock.now()) {
                Decision::Idle => FeedStep::Idle,
                Decision::WaitUntil(until) => FeedStep::WaitUntil(until),
                Decision::Dial => FeedStep::Connect(HangUp(self.hang_up.subscribe())),
            };
            (step, before != machine.state())
        };
        if changed {
            self.changes.send_modify(|count| *count += 1);
        }
        step
    }

    pub(crate) fn view(&self) -> FeedView {
        let now = self.clock.now();
        let name = lock(&self.spec).name.clone();
        let machine = lock(&self.machine);
        let mut figures = lock(&self.figures);
        // The machine has the state of the last event, and a blocked media thread sends none.
        let silent = figures.silent_for(now).filter(|span| {
            machine.state() == FeedState::Flowing
                && *span >= SILENT_VIEW
                && now >= machine.since() + SILENT_VIEW
        });
        let (state, since, cause) = match silent {
            Some(span) => (FeedState::Stalled, now.saturating_sub(span), Some(no_frames(span))),
            None => (machine.state(), machine.since(), machine.cause().cloned()),
        };
        FeedView {
            name,
            state: state.as_str(),
            since: self.clock.wall(since),
            cause: cause.as_ref().map(CauseView::from),
            retry_in: state.retry_at().map(|until| until.saturating_sub(now)),
            history: machine.history(),
            needs_attention: machine.needs_attention(),
            transport: figures.carrier().map(Carrier::word),
            video: figures.video(now),
            audio: figures.audio(),
            bytes: figures.bytes(),
            packets_lost: figures.packets_lost(),
            units_dropped: figures.units_dropped(),
            reception: figures.reception(),
            steps: figures.steps(),
            reconnects: machine.reconnects(),
        }
    }
}

/// Cause of a feed that is shown as stalled although its machine got no event.
fn no_frames(span: Duration) -> Cause {
    let message = format!("The service has processed no video of this feed for {} s.", span.as_secs());
    Cause::new(CauseCode::FeedStalled, message)
}

/// Locks a mutex whose data is sound between any two of its uses, also after a panic.
pub(crate) fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
