//! One push: its state as others see it, and the task that supervises it.

mod delivery;
mod figures;
mod link;
mod supervisor;

use std::sync::{Arc, Mutex};
use std::time::Duration;

use tokio::sync::{Notify, watch};
use yonder_core::{Decision, PushMachine, PushState};

use crate::clock::Clock;
use crate::feed::{Feed, lock};
use crate::program::Program;
use crate::spec::{PushSpec, Way};
use crate::view::{CauseView, PushView};

pub(crate) use figures::PushFigures;
pub(crate) use supervisor::supervise;

/// A push, shared by its supervisor and whoever looks.
#[derive(Debug)]
pub(crate) struct Push {
    pub(crate) clock: Clock,
    pub(crate) feed: Arc<Feed>,
    pub(crate) program: Arc<Program>,
    pub(crate) spec: PushSpec,
    /// The best first.
    ways: Vec<Way>,
    /// Name of the relay, for the log.
    pub(crate) relay: String,
    pub(crate) figures: Mutex<PushFigures>,
    machine: Mutex<PushMachine>,
    changes: watch::Sender<u64>,
    wake: Notify,
    hang_up: watch::Sender<bool>,
    roll: Notify,
}

impl Push {
    pub(crate) fn new(spec: PushSpec, program: Arc<Program>, changes: watch::Sender<u64>) -> Arc<Self> {
        let feed = Arc::clone(&program.feed);
        let clock = feed.clock;
        let machine = PushMachine::new(rand::random(), clock.now());
        let ways = spec.ways();
        let machine = machine.with_ways(ways.len(), spec.return_after);
        Arc::new(Self {
            clock,
            feed,
            spec,
            ways,
            relay: program.relay.clone(),
            program,
            figures: Mutex::default(),
            machine: Mutex::new(machine),
            changes,
            wake: Notify::new(),
            hang_up: watch::Sender::new(false),
            roll: Notify::new(),
        })
    }

    /// Switches the push on or off; one that was switched off ends in order.
    pub(crate) fn want(&self, wanted: bool) {
        self.change(|machine, now| machine.want(wanted, now));
        self.hang_up.send_replace(!wanted);
        self.wake.notify_one();
    }

    /// Reconnects, if there is a connection.
    pub(crate) fn roll_over(&self) {
        self.roll.notify_waiters();
    }

    /// Resolves when the push is to be reconnected.
    pub(crate) async fn rolled_over(&self) {
        self.roll.notified().await;
    }

    /// Resolves once the push is unwanted.
    pub(crate) async fn hung_up(&self) {
        let mut hang_up = self.hang_up.subscribe();
        // The sender lives in `self`.
        let _closed = hang_up.wait_for(|hang_up| *hang_up).await;
    }

    /// Tells the machine something and passes on what came of it.
    pub(crate) fn change(&self, tell: impl FnOnce(&mut PushMachine, Duration)) {
        let (before, after, cause) = {
            let mut machine = lock(&self.machine);
            let before = machine.state();
            tell(&mut machine, self.clock.now());
            (before, machine.state(), machine.cause().cloned())
        };
        if before.word() != after.word() {
            let code = cause.as_ref().map_or("", |cause| cause.code.code());
            let message = cause.as_ref().map_or("", |cause| cause.message.as_str());
            let (relay, destination) = (&self.relay, &self.spec.destination);
            tracing::info!(relay, destination, state = after.word(), code, message, "push");
        }
        self.changes.send_modify(|count| *count += 1);
    }

    /// Passes on to the machine what there is to send.
    pub(crate) fn note_source(&self) {
        let signal = self.program.signal().borrow().clone();
        self.change(|machine, now| machine.on_source(signal.source, signal.cause.as_ref(), now));
    }

    pub(crate) fn state(&self) -> PushState {
        lock(&self.machine).state()
    }

    /// The ways that are better than the one in use, which comes last.
    fn ways_up_to_mine(&self) -> &[Way] {
        let mine = lock(&self.machine).way();
        self.ways.get(..=mine).unwrap_or(&self.ways)
    }

    /// A better way was looked at; true when it is time to return to it.
    pub(crate) fn note_way_seen(&self, way: usize, usable: bool) -> bool {
        lock(&self.machine).on_way_seen(way, usable, self.clock.now())
    }

    fn decide(&self) -> Decision {
        let decision = lock(&self.machine).decide(self.clock.now());
        if decision == Decision::Dial {
            self.changes.send_modify(|count| *count += 1);
        }
        decision
    }

    pub(crate) fn view(&self) -> PushView {
        let now = self.clock.now();
        let machine = lock(&self.machine);
        let mut figures = lock(&self.figures);
        let dials_in = match machine.state() {
            PushState::Waiting { until: Some(until) } => Some(until.saturating_sub(now)),
            _ => None,
        };
        let way = self.ways.get(machine.way());
        // What was sent a moment ago is not what goes out now.
        let is_sending = matches!(machine.state(), PushState::Live | PushState::Lagging | PushState::Holding);
        PushView {
            destination: self.spec.destination.clone(),
            state: machine.state().word(),
            since: self.clock.wall(machine.since()),
            cause: machine.cause().map(CauseView::from),
            dials_in,
            kbps: if is_sending { figures.rate.kbps(now) } else { 0 },
            bytes: figures.bytes,
            frames_sent: figures.frames_sent,
            frames_dropped: figures.frames_dropped,
            reconnects: machine.reconnects(),
            backlog: figures.backlog,
            steps: figures.steps.clone(),
            server: way.map(|way| way.role).unwrap_or_default(),
            uplink: way.and_then(|way| way.uplink.as_ref()).map(|uplink| uplink.name.clone()),
            connected_since: machine.live_since().map(|since| self.clock.wall(since)),
            link: figures.link,
        }
    }
}
