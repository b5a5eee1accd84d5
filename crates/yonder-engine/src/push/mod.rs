//! Push: supervision, connection and statistics, driven by its feed's actor.

mod backlog;
mod connect;
pub(crate) mod connection;
mod failback;
mod rtmp;
mod srt;
mod state;
mod stats;

use std::io;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Arc;
use std::time::Duration;

use yonder_address::ServerAddress;
use yonder_core::rendition::PathSample;
use yonder_core::{Cause, CauseCode, Decision, DialStep, History, PushMachine};

use crate::children::{Child, ChildEvent, Children};
use crate::clock::Clock;
use crate::ids::{Attempt, PushId};
use crate::output::ring::Cursor;
use crate::output::signal::OutputSignal;
use crate::spec::{PushSpec, Route};
use crate::view::{CauseView, PushView};

use connection::Connection;
pub(crate) use state::PushContext;
use state::{PushCore, PushPolicy};
use stats::PushStats;

/// Timeout of an orderly end.
pub(crate) const CLOSE_TIMEOUT: Duration = Duration::from_millis(1_800);
/// Maximum redirects before a push is live.
const MAX_REDIRECTS: u32 = 3;
/// Minimum interval of reconnect requests that are followed.
const MIN_RECONNECT_INTERVAL: Duration = Duration::from_secs(30);

#[derive(Debug)]
enum Stage {
    /// No connection.
    Idle,
    /// A child task connects.
    Connecting(#[expect(dead_code, reason = "aborts the child when it is dropped")] Child),
    /// The connection is established.
    Connected(Box<Connection>),
}

/// Push.
#[derive(Debug)]
pub(crate) struct Push {
    pub(crate) id: PushId,
    core: PushCore,
    stage: Stage,
    cursor: Cursor,
    /// Push that this one replaces, while its connection is closing: it still holds the stream key.
    predecessor: Option<PushId>,
    /// Probes of better routes while another is in use.
    failback: Option<Child>,
    /// Time of the next connection attempt.
    retry_at: Option<Duration>,
    /// Units are waiting in the ring.
    is_pump_due: bool,
    /// Packets sent and lost at the last [`Self::path_sample`].
    path_counts: (u64, u64),
    #[cfg(debug_assertions)]
    panics_next: bool,
}

impl Push {
    /// Creates an enabled push that waits for `predecessor` to be closed.
    pub(crate) fn new(
        id: PushId,
        clock: Clock,
        relay: Arc<str>,
        spec: PushSpec,
        predecessor: Option<PushId>,
    ) -> Self {
        let policy = PushPolicy::of(&spec);
        let now = clock.now();
        let mut machine =
            PushMachine::new(rand::random(), now).with_routes(policy.routes.len(), policy.failback_delay);
        machine.set_history(spec.history);
        machine.set_enabled(true, now);
        let core = PushCore {
            clock,
            relay,
            spec,
            policy,
            stats: PushStats::default(),
            machine,
            attempt: Attempt::default(),
            attempt_began: now,
            redirect: None,
            redirects: 0,
            is_reconnect_requested: false,
            reconnected_at: None,
            is_changed: true,
        };
        Self {
            id,
            core,
            stage: Stage::Idle,
            cursor: Cursor::default(),
            predecessor,
            failback: None,
            retry_at: None,
            is_pump_due: false,
            path_counts: (0, 0),
            #[cfg(debug_assertions)]
            panics_next: false,
        }
    }

    pub(crate) fn spec(&self) -> &PushSpec {
        &self.core.spec
    }

    /// Returns the position in the output's ring; `None` without one.
    pub(crate) fn position(&self) -> Option<u64> {
        match self.stage {
            Stage::Connected(_) => self.cursor.position(),
            Stage::Idle | Stage::Connecting(_) => None,
        }
    }

    /// Returns true once something has changed since the last call.
    pub(crate) fn take_change(&mut self) -> bool {
        std::mem::take(&mut self.core.is_changed)
    }

    /// Applies changed servers, uplinks and delays. A connection over a route that remains is not touched; one over a
    /// removed route is replaced.
    pub(crate) fn apply_policy(&mut self, spec: &PushSpec, children: &mut Children) {
        let policy = PushPolicy::of(spec);
        let core = &mut self.core;
        let in_use = core.policy.routes.get(core.machine.route());
        let place = in_use.and_then(|in_use| policy.routes.iter().position(|route| route == in_use));
        if core.policy.routes != policy.routes || core.policy.failback_delay != policy.failback_delay {
            core.machine.replace_routes(policy.routes.len(), policy.failback_delay, place);
            self.failback = None;
        }
        let servers = |routes: &[Route]| routes.iter().map(|route| route.server.clone()).collect::<Vec<_>>();
        if servers(&core.policy.routes) != servers(&policy.routes) {
            let history = History { address: spec.history.address, ..core.machine.history() };
            core.machine.set_history(history);
        }
        core.policy = policy;
        core.change(|machine, now| machine.set_enabled(true, now));
        if place.is_none() {
            self.roll_over(children);
        }
    }

    /// Closes the connection in order and reconnects at once. Without effect if there is none.
    pub(crate) fn roll_over(&mut self, children: &mut Children) {
        match std::mem::replace(&mut self.stage, Stage::Idle) {
            Stage::Idle => {}
            Stage::Connecting(_) => self.core.change(PushMachine::on_returned),
            Stage::Connected(connection) => {
                self.close_connection(*connection, children);
                self.predecessor = Some(self.id);
                self.core.change(PushMachine::on_returned);
            }
        }
        self.failback = None;
    }

    /// Ends the push in order. Returns the push whose [`ChildEvent::PushClosed`] a successor must wait for: this one,
    /// or the predecessor that it is still waiting for; `None` without either.
    pub(crate) fn retire(mut self, children: &mut Children) -> Option<PushId> {
        self.core.change(|machine, now| machine.set_enabled(false, now));
        match std::mem::replace(&mut self.stage, Stage::Idle) {
            Stage::Connected(connection) => {
                self.close_connection(*connection, children);
                Some(self.id)
            }
            Stage::Idle | Stage::Connecting(_) => self.predecessor,
        }
    }

    fn close_connection(&mut self, connection: Connection, children: &mut Children) {
        self.core.stats.backlog = Duration::ZERO;
        children.close(CLOSE_TIMEOUT, connection.close(), ChildEvent::PushClosed(self.id));
    }

    /// Handles the end of a closing connection.
    pub(crate) fn handle_closed(&mut self, closed: PushId) {
        if self.predecessor == Some(closed) {
            self.predecessor = None;
        }
    }

    /// Registers its sockets with the caller's runtime.
    pub(crate) fn register_here(&mut self) {
        match std::mem::replace(&mut self.stage, Stage::Idle) {
            Stage::Connected(connection) => match connection.register_here() {
                Ok(connection) => self.stage = Stage::Connected(Box::new(connection)),
                Err(error) => self.fail(rtmp::connection_lost(&error)),
            },
            other => self.stage = other,
        }
    }

    /// Marks that units are waiting in the ring. SRT sends at its ticks.
    pub(crate) fn request_pump(&mut self) {
        self.is_pump_due = true;
    }

    /// Passes the active source to the state machine.
    pub(crate) fn set_source(&mut self, signal: &OutputSignal) {
        self.core.set_source(signal);
    }

    pub(crate) fn handle_step(&mut self, attempt: Attempt, step: DialStep) {
        if attempt == self.core.attempt && matches!(self.stage, Stage::Connecting(_)) {
            self.core.note_step(step);
        }
    }

    /// Handles the result of a connection attempt.
    pub(crate) fn handle_connected(
        &mut self,
        attempt: Attempt,
        result: Result<Box<Connection>, Cause>,
        signal: &OutputSignal,
    ) {
        if attempt != self.core.attempt || !matches!(self.stage, Stage::Connecting(_)) {
            return;
        }
        // The child may have run on another runtime.
        let lost = |error: io::Error| rtmp::connection_lost(&error);
        match result.and_then(|connection| connection.register_here().map_err(lost)) {
            Ok(mut connection) => {
                self.cursor = Cursor::default();
                if let Connection::Rtmp(connection) = &mut connection {
                    connection.start(self.core.clock.now());
                }
                self.stage = Stage::Connected(Box::new(connection));
                self.is_pump_due = true;
            }
            Err(cause) => {
                self.fail(cause);
                self.core.set_source(signal);
            }
        }
    }

    /// Handles a probe of a better route; the push returns to it once it has been reachable for long enough.
    pub(crate) fn handle_probe(&mut self, route: &Route, is_reachable: bool, children: &mut Children) {
        let Some(number) = self.core.policy.routes.iter().position(|other| other == route) else { return };
        let now = self.core.clock.now();
        if self.core.machine.record_probe(number, is_reachable, now) {
            self.roll_over(children);
        }
    }

    /// Ends the connection with a failure.
    pub(crate) fn fail(&mut self, cause: Cause) {
        self.stage = Stage::Idle;
        self.failback = None;
        self.core.redirects = 0;
        self.core.stats.backlog = Duration::ZERO;
        self.core.change(|machine, now| machine.on_failed(cause, now));
    }

    /// Connects if due, reads and writes the connection's sockets, and handles timeouts. A panic ends the connection.
    /// Returns true if there is more to write at once.
    pub(crate) fn poll(&mut self, context: &mut PushContext<'_, '_>, children: &mut Children) -> bool {
        let polled = catch_unwind(AssertUnwindSafe(|| self.poll_connection(context, children)));
        let result = polled.unwrap_or_else(|_| {
            let (relay, destination) = (&*self.core.relay, &self.core.spec.destination);
            tracing::error!(relay, destination, "push panicked");
            Err(Cause::new(CauseCode::PushInternal, "The service failed while pushing to this destination."))
        });
        let has_more = result.unwrap_or_else(|cause| {
            self.end_attempt(cause);
            // The source may have changed meanwhile.
            self.core.set_source(context.signal);
            false
        });
        self.connect_if_due(context.now, children);
        has_more
    }

    /// Fails the connection, or follows a redirect.
    fn end_attempt(&mut self, cause: Cause) {
        match &self.core.redirect {
            Some(server) if self.core.redirects < MAX_REDIRECTS => {
                let (relay, destination) = (&*self.core.relay, &self.core.spec.destination);
                tracing::info!(relay, destination, %server, "push redirected");
                self.core.redirects += 1;
                self.stage = Stage::Idle;
                self.failback = None;
                self.core.change(PushMachine::on_redirected);
            }
            _ => {
                self.core.redirect = None;
                self.fail(cause);
            }
        }
    }

    /// Reconnects if the platform has requested it. Frequent requests are ignored, since each one costs a short gap.
    fn follow_reconnect_request(&mut self, now: Duration, children: &mut Children) {
        if !std::mem::take(&mut self.core.is_reconnect_requested) {
            return;
        }
        let last = self.core.reconnected_at;
        if last.is_some_and(|at| now.saturating_sub(at) < MIN_RECONNECT_INTERVAL) {
            self.core.redirect = None;
            return;
        }
        self.core.reconnected_at = Some(now);
        let (relay, destination) = (&*self.core.relay, &self.core.spec.destination);
        tracing::info!(relay, destination, "platform asks to reconnect");
        self.roll_over(children);
    }

    fn poll_connection(
        &mut self,
        context: &mut PushContext<'_, '_>,
        children: &mut Children,
    ) -> Result<bool, Cause> {
        let Stage::Connected(connection) = &mut self.stage else {
            self.is_pump_due = false;
            return Ok(false);
        };
        #[cfg(debug_assertions)]
        assert!(!std::mem::take(&mut self.panics_next), "panic requested by a test");
        let is_pump_due = std::mem::take(&mut self.is_pump_due);
        let has_more = match &mut **connection {
            Connection::Rtmp(connection) => {
                connection.poll(&mut self.core, &mut self.cursor, is_pump_due, context)?
            }
            Connection::Srt(connection) => {
                connection.poll(&mut self.core, &mut self.cursor, context)?;
                false
            }
        };
        self.is_pump_due = has_more;
        self.follow_reconnect_request(context.now, children);
        if self.core.machine.live_since().is_some() && self.core.machine.route() > 0 {
            self.failback.get_or_insert_with(|| failback::start(self.id, &self.core, children));
        }
        Ok(has_more)
    }

    fn connect_if_due(&mut self, now: Duration, children: &mut Children) {
        self.retry_at = None;
        if !matches!(self.stage, Stage::Idle) || self.predecessor.is_some() {
            return;
        }
        match self.core.machine.decide(now) {
            Decision::Dial => {}
            Decision::WaitUntil(until) => {
                self.retry_at = Some(until);
                return;
            }
            Decision::Idle => return,
        }
        let core = &mut self.core;
        core.is_changed = true;
        core.attempt = Attempt(children.next_number());
        core.attempt_began = core.clock.now();
        core.stats.steps.clear();
        core.stats.link = None;
        core.stats.warning = None;
        match core.route() {
            Some(mut route) => {
                if let Some(server) = core.redirect.take() {
                    route.server = ServerAddress::Rtmp(server);
                }
                self.stage = Stage::Connecting(connect::start(self.id, core, route, children));
            }
            None => {
                let message = "There is no route to this destination.";
                self.fail(Cause::new(CauseCode::PushInternal, message));
            }
        }
    }

    /// Returns the next time at which [`Self::poll`] is due.
    pub(crate) fn poll_timeout(&self) -> Option<Duration> {
        match &self.stage {
            Stage::Connected(connection) => match &**connection {
                Connection::Rtmp(connection) => connection.poll_timeout(),
                Connection::Srt(connection) => Some(connection.poll_timeout()),
            },
            Stage::Idle | Stage::Connecting(_) => self.retry_at,
        }
    }

    /// Returns the state of the network path since the last call; `None` while nothing is sent.
    pub(crate) fn path_sample(&mut self, now: Duration) -> Option<PathSample> {
        let PushCore { machine, stats, .. } = &mut self.core;
        machine.live_since()?;
        let link = stats.link.map(|link| (link.sent, link.lost));
        let (sent, lost) = link.unwrap_or_default();
        let (sent_before, lost_before) = std::mem::replace(&mut self.path_counts, (sent, lost));
        let (sent, lost) = (sent.saturating_sub(sent_before), lost.saturating_sub(lost_before));
        #[expect(clippy::cast_precision_loss, reason = "packets of one second")]
        let lost_share = lost as f64 / sent.max(1) as f64;
        // A congested SRT path carries repetitions as well: only the peer knows how much arrives.
        let receiving = stats.link.and_then(|link| link.receiving_kbps);
        let carried_kbps = receiving.unwrap_or_else(|| stats.rate.kbps(now));
        Some(PathSample { backlog: stats.backlog, carried_kbps, lost_share })
    }

    /// Makes the next poll panic, for tests.
    #[cfg(debug_assertions)]
    pub(crate) fn panic_next(&mut self) {
        self.panics_next = true;
    }

    /// Returns the view of the push.
    pub(crate) fn view(&mut self, now: Duration) -> PushView {
        let core = &mut self.core;
        let (machine, stats) = (&core.machine, &mut core.stats);
        let state = machine.state();
        let route = core.policy.routes.get(machine.route());
        PushView {
            destination: core.spec.destination.clone(),
            state: state.into(),
            since: core.clock.wall(machine.since()),
            down_since: machine.down_since().map(|since| core.clock.wall(since)),
            attempts: machine.attempts(),
            cause: machine.cause().map(CauseView::from),
            retry_in: state.retry_at().map(|until| until.saturating_sub(now)),
            history: machine.history(),
            needs_attention: machine.needs_attention(),
            kbps: if state.is_sending() { stats.rate.kbps(now) } else { 0 },
            bytes: stats.bytes,
            frames_sent: stats.frames_sent,
            frames_dropped: stats.frames_dropped,
            reconnects: machine.reconnects(),
            backlog: stats.backlog,
            steps: stats.steps.clone(),
            server: route.map(|route| route.role).unwrap_or_default(),
            uplink: route.and_then(|route| route.uplink.as_ref()).map(|uplink| uplink.name.clone()),
            connected_since: machine.live_since().map(|since| core.clock.wall(since)),
            link: stats.link,
            warning: stats.warning.filter(|_| state.is_sending()),
            // Completed by the relay.
            rendition: None,
        }
    }
}
