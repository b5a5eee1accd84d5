//! One push: its shared state, and the task that supervises it.

mod delivery;
mod figures;
mod link;
mod supervisor;

use std::sync::{Arc, Mutex};
use std::time::Duration;

use tokio::sync::{Notify, watch};
use yonder_core::{Cause, Decision, History, PushMachine, PushState, Refusal, RefusalRule};

use crate::clock::Clock;
use crate::feed::{Feed, lock};
use crate::output::RelayOutput;
use crate::spec::{PushSpec, Route};
use crate::view::{CauseView, PushView};

pub(crate) use figures::PushFigures;
pub(crate) use supervisor::supervise;

/// Part of a push's settings that can change while it runs.
#[derive(Debug, Clone)]
struct PushPolicy {
    /// The preferred one first.
    routes: Arc<[Route]>,
    failback_delay: Duration,
    refusals: Arc<[RefusalRule]>,
}

impl PushPolicy {
    fn of(spec: &PushSpec) -> Self {
        Self {
            routes: spec.routes().into(),
            failback_delay: spec.failback_delay,
            refusals: Arc::clone(&spec.refusals),
        }
    }
}

/// A push, shared by its supervisor and the engine.
#[derive(Debug)]
pub(crate) struct Push {
    pub(crate) clock: Clock,
    pub(crate) feed: Arc<Feed>,
    pub(crate) output: Arc<RelayOutput>,
    /// The push as it was started; [`Self::policy`] holds what has changed since.
    pub(crate) spec: PushSpec,
    policy: Mutex<PushPolicy>,
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
    pub(crate) fn new(spec: PushSpec, output: Arc<RelayOutput>, changes: watch::Sender<u64>) -> Arc<Self> {
        let feed = Arc::clone(&output.feed);
        let clock = feed.clock;
        let policy = PushPolicy::of(&spec);
        let mut machine = PushMachine::new(rand::random(), clock.now())
            .with_routes(policy.routes.len(), policy.failback_delay);
        machine.set_history(spec.history);
        Arc::new(Self {
            clock,
            feed,
            spec,
            policy: Mutex::new(policy),
            relay: output.relay.clone(),
            output,
            figures: Mutex::default(),
            machine: Mutex::new(machine),
            changes,
            wake: Notify::new(),
            hang_up: watch::Sender::new(false),
            roll: Notify::new(),
        })
    }

    /// Takes over the servers, uplinks and delays of `spec`. A connection over a route that stays is not touched; one over
    /// a route that is gone is replaced.
    pub(crate) fn apply_policy(&self, spec: &PushSpec) {
        let policy = PushPolicy::of(spec);
        let route_is_gone = {
            let mut current = lock(&self.policy);
            let mut machine = lock(&self.machine);
            let in_use = current.routes.get(machine.route());
            let place = in_use.and_then(|in_use| policy.routes.iter().position(|route| route == in_use));
            if current.routes != policy.routes || current.failback_delay != policy.failback_delay {
                machine.replace_routes(policy.routes.len(), policy.failback_delay, place);
            }
            let servers =
                |routes: &[Route]| routes.iter().map(|route| route.server.clone()).collect::<Vec<_>>();
            if servers(&current.routes) != servers(&policy.routes) {
                let history = History { address: spec.history.address, ..machine.history() };
                machine.set_history(history);
            }
            *current = policy;
            place.is_none()
        };
        if route_is_gone {
            self.roll_over();
            self.wake.notify_one();
        }
    }

    /// Enables or disables the push; one that is disabled ends in order.
    pub(crate) fn set_enabled(&self, enabled: bool) {
        self.change(|machine, now| machine.set_enabled(enabled, now));
        self.hang_up.send_replace(!enabled);
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

    /// Resolves once the push is disabled.
    pub(crate) async fn hung_up(&self) {
        let mut hang_up = self.hang_up.subscribe();
        // The sender lives in `self`.
        let _closed = hang_up.wait_for(|hang_up| *hang_up).await;
    }

    /// Passes an event to the machine and publishes the result, if anything has changed.
    pub(crate) fn change(&self, event: impl FnOnce(&mut PushMachine, Duration)) {
        if let Some((state, cause)) = self.change_unlogged(event) {
            let code = cause.as_ref().map_or("", |cause| cause.code.code());
            let message = cause.as_ref().map_or("", |cause| cause.message.as_str());
            let (relay, destination) = (&self.relay, &self.spec.destination);
            tracing::info!(relay, destination, state = state.as_str(), code, message, "push");
        }
    }

    /// The same without a line in the log; returns the state with its cause if it is another one.
    fn change_unlogged(
        &self,
        event: impl FnOnce(&mut PushMachine, Duration),
    ) -> Option<(PushState, Option<Cause>)> {
        let (before, after) = {
            let mut machine = lock(&self.machine);
            let before = (machine.state(), machine.cause().cloned());
            event(&mut machine, self.clock.now());
            (before, (machine.state(), machine.cause().cloned()))
        };
        if before != after {
            self.changes.send_modify(|count| *count += 1);
        }
        (std::mem::discriminant(&before.0) != std::mem::discriminant(&after.0)).then_some(after)
    }

    /// Passes the source on the output to the machine. The output logs its source once for all of its pushes.
    pub(crate) fn note_source(&self) {
        let signal = self.output.signal().borrow().clone();
        self.change_unlogged(|machine, now| machine.on_source(signal.source, signal.cause.as_ref(), now));
    }

    pub(crate) fn state(&self) -> PushState {
        lock(&self.machine).state()
    }

    /// Returns the route in use.
    pub(crate) fn route(&self) -> Option<Route> {
        let policy = lock(&self.policy);
        policy.routes.get(lock(&self.machine).route()).cloned()
    }

    /// Returns the routes that are better than the one in use, the best first, and how long one must be reachable before
    /// the push returns to it.
    pub(crate) fn better_routes(&self) -> (Vec<Route>, Duration) {
        let policy = lock(&self.policy);
        let current = lock(&self.machine).route();
        (policy.routes.iter().take(current).cloned().collect(), policy.failback_delay)
    }

    /// Records a probe of a better route; true when it is time to return to it.
    pub(crate) fn record_probe(&self, route: usize, is_reachable: bool) -> bool {
        lock(&self.machine).record_probe(route, is_reachable, self.clock.now())
    }

    /// Returns the cause that a refusal means for this destination.
    pub(crate) fn judge(&self, refusal: &Refusal<'_>) -> Cause {
        let rules = Arc::clone(&lock(&self.policy).refusals);
        refusal.cause(&rules, lock(&self.machine).history())
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
        let routes = Arc::clone(&lock(&self.policy).routes);
        let machine = lock(&self.machine);
        let mut figures = lock(&self.figures);
        let state = machine.state();
        let route = routes.get(machine.route());
        PushView {
            destination: self.spec.destination.clone(),
            state: state.as_str(),
            since: self.clock.wall(machine.since()),
            cause: machine.cause().map(CauseView::from),
            retry_in: state.retry_at().map(|until| until.saturating_sub(now)),
            history: machine.history(),
            needs_attention: machine.needs_attention(),
            kbps: if state.is_sending() { figures.rate.kbps(now) } else { 0 },
            bytes: figures.bytes,
            frames_sent: figures.frames_sent,
            frames_dropped: figures.frames_dropped,
            reconnects: machine.reconnects(),
            backlog: figures.backlog,
            steps: figures.steps.clone(),
            server: route.map(|route| route.role).unwrap_or_default(),
            uplink: route.and_then(|route| route.uplink.as_ref()).map(|uplink| uplink.name.clone()),
            connected_since: machine.live_since().map(|since| self.clock.wall(since)),
            link: figures.link,
        }
    }
}
