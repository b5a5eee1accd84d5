//! One feed: its state as others see it, and the task that supervises it.

mod figures;
mod supervisor;

use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError};
use std::time::Duration;

use tokio::sync::{Notify, watch};
use yonder_core::{Cause, Decision, FeedMachine, FeedState};

use crate::clock::Clock;
use crate::hub::{Cursor, Entry, Hub, Taken};
use crate::program::Program;
use crate::spec::FeedSpec;
use crate::view::{Carrier, CauseView, FeedView};

pub(crate) use figures::FeedFigures;
pub(crate) use supervisor::supervise;

/// What pushes must know of their feed.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct FeedSignal {
    /// Pictures come.
    pub(crate) flows: bool,
    /// Why not.
    pub(crate) cause: Option<Cause>,
}

/// A feed, shared by its supervisor, its pushes and whoever looks.
#[derive(Debug)]
pub(crate) struct Feed {
    pub(crate) clock: Clock,
    pub(crate) hub: Hub,
    /// What relays send of it.
    programs: Mutex<Vec<Arc<Program>>>,
    /// When the relays' clock began.
    epoch: OnceLock<Duration>,
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
    /// Ends the pull that runs: the feed is unwanted, or its address changed.
    hang_up: watch::Sender<u64>,
}

impl Feed {
    pub(crate) fn new(spec: FeedSpec, clock: Clock, changes: watch::Sender<u64>) -> Arc<Self> {
        Arc::new(Self {
            clock,
            hub: Hub::default(),
            programs: Mutex::default(),
            epoch: OnceLock::new(),
            figures: Mutex::default(),
            spec: Mutex::new(spec),
            machine: Mutex::new(FeedMachine::new(rand::random(), clock.now())),
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

    /// True while it is worth knocking at the camera's door. One that opens but says nothing is there already:
    /// knocking would only make it be dialled without a pause.
    pub(crate) fn knocks(&self) -> bool {
        lock(&self.machine).knocks() && !lock(&self.figures).was_reached()
    }

    /// Why the feed does not flow.
    pub(crate) fn cause(&self) -> Option<Cause> {
        lock(&self.machine).cause().cloned()
    }

    /// Changes when the pull shall hang up.
    pub(crate) fn subscribe_hang_up(&self) -> watch::Receiver<u64> {
        self.hang_up.subscribe()
    }

    pub(crate) fn signal(&self) -> watch::Receiver<FeedSignal> {
        self.signal.subscribe()
    }

    /// Switches the feed on or off.
    pub(crate) fn want(&self, wanted: bool) {
        self.change(|machine, now| machine.want(wanted, now));
        if !wanted {
            self.hang_up.send_modify(|count| *count += 1);
        }
        self.wake.notify_one();
    }

    /// Pulls from another address, or with another password, from now on.
    pub(crate) fn set_spec(&self, spec: FeedSpec) {
        if lock(&self.spec).is_same(&spec) {
            return;
        }
        *lock(&self.spec) = spec;
        self.set_known_carrier(None);
        self.want(false);
        self.want(true);
    }

    /// Tells the machine something and passes on what came of it.
    pub(crate) fn change(&self, tell: impl FnOnce(&mut FeedMachine, Duration)) {
        let (before, after, signal) = {
            let mut machine = lock(&self.machine);
            let before = machine.state();
            tell(&mut machine, self.clock.now());
            let flows = machine.state() == FeedState::Flowing;
            (before, machine.state(), FeedSignal { flows, cause: machine.cause().cloned() })
        };
        if before.word() != after.word() {
            let feed = lock(&self.spec).name.clone();
            let code = signal.cause.as_ref().map_or("", |cause| cause.code.code());
            let message = signal.cause.as_ref().map_or("", |cause| cause.message.as_str());
            tracing::info!(feed, state = after.word(), code, message, "feed");
        }
        self.signal.send_if_modified(|current| {
            let differs = *current != signal;
            *current = signal;
            differs
        });
        self.changes.send_modify(|count| *count += 1);
    }

    /// Passes an entry on to everybody.
    pub(crate) fn publish(&self, entry: Entry) {
        let entry = Arc::new(entry);
        self.hub.publish(Arc::clone(&entry));
        for program in lock(&self.programs).iter() {
            program.offer(&entry);
        }
    }

    /// From now on the relay gets every entry, beginning with the last keyframe.
    pub(crate) fn attach(&self, program: &Arc<Program>) {
        let mut programs = lock(&self.programs);
        let mut cursor = Cursor::default();
        while let Taken::Entry { entry, .. } = self.hub.take(&mut cursor) {
            program.offer(&entry);
        }
        programs.push(Arc::clone(program));
    }

    /// The relay is gone.
    pub(crate) fn detach(&self, program: &Arc<Program>) {
        lock(&self.programs).retain(|other| !Arc::ptr_eq(other, program));
    }

    /// Now on the relays' clock, in ticks; `None` before the first picture.
    pub(crate) fn ticks_now(&self) -> Option<i64> {
        let since = self.clock.now().saturating_sub(*self.epoch.get()?);
        i64::try_from(since.as_micros() * 9 / 100).ok()
    }

    /// When the relays' clock shows `ticks`.
    pub(crate) fn time_of(&self, ticks: i64) -> Option<Duration> {
        let micros = u64::try_from(ticks).unwrap_or_default() * 100 / 9;
        Some(*self.epoch.get()? + Duration::from_micros(micros))
    }

    /// The relays' clock began at `epoch`.
    pub(crate) fn set_epoch(&self, epoch: Duration) {
        // It begins once.
        let _known = self.epoch.set(epoch);
    }

    /// Pictures come. Cheap when the machine knows it already.
    pub(crate) fn note_flowing(&self) {
        if !self.signal.borrow().flows {
            self.change(FeedMachine::on_flowing);
        }
    }

    /// Something keeps the dial from its end, but it is not given up yet.
    pub(crate) fn note_held_up(&self, cause: Cause) {
        self.change(|machine, _| machine.on_held_up(cause));
    }

    /// Nothing came for a while.
    pub(crate) fn note_silent(&self, cause: Cause) {
        self.change(|machine, now| machine.on_silent(cause, now));
    }

    pub(crate) fn decide(&self) -> Decision {
        let (decision, changed) = {
            let mut machine = lock(&self.machine);
            let before = machine.state();
            let decision = machine.decide(self.clock.now());
            (decision, before != machine.state())
        };
        if changed {
            self.changes.send_modify(|count| *count += 1);
        }
        decision
    }

    pub(crate) fn view(&self) -> FeedView {
        let now = self.clock.now();
        let name = lock(&self.spec).name.clone();
        let machine = lock(&self.machine);
        let dials_in = match machine.state() {
            FeedState::Waiting { until } => Some(until.saturating_sub(now)),
            _ => None,
        };
        let mut figures = lock(&self.figures);
        FeedView {
            name,
            state: machine.state().word(),
            since: self.clock.wall(machine.since()),
            cause: machine.cause().map(CauseView::from),
            dials_in,
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

/// Locks a mutex whose data is sound between any two of its uses, also after a panic.
pub(crate) fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
