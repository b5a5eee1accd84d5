//! State of a push without its connection, and the context of a poll.

use std::sync::Arc;
use std::task::Context;
use std::time::Duration;

use yonder_address::RtmpServer;
use yonder_core::{Cause, CauseCode, DialStep, PushMachine, PushState, Refusal, RefusalRule};

use crate::clock::Clock;
use crate::feed::FeedStats;
use crate::ids::Attempt;
use crate::output::ring::Ring;
use crate::output::signal::OutputSignal;
use crate::spec::{PushSpec, Route};
use crate::view::StepView;

use super::stats::PushStats;

/// Timeout of a platform that accepts no bytes.
pub(super) const NO_PROGRESS_TIMEOUT: Duration = Duration::from_secs(10);
/// Wait for a keyframe after which there is a warning.
pub(super) const KEYFRAME_WARNING: Duration = Duration::from_secs(6);

/// Settings of a push that can change while it runs.
#[derive(Debug, Clone)]
pub(super) struct PushPolicy {
    /// Routes, the preferred one first.
    pub(super) routes: Arc<[Route]>,
    pub(super) failback_delay: Duration,
    pub(super) refusals: Arc<[RefusalRule]>,
}

impl PushPolicy {
    pub(super) fn of(spec: &PushSpec) -> Self {
        Self {
            routes: spec.routes().into(),
            failback_delay: spec.failback_delay,
            refusals: Arc::clone(&spec.refusals),
        }
    }
}

/// State of a push without its connection.
#[derive(Debug)]
pub(super) struct PushCore {
    pub(super) clock: Clock,
    /// Name of the relay, for the log.
    pub(super) relay: Arc<str>,
    /// Specification at the start; [`Self::policy`] contains later changes.
    pub(super) spec: PushSpec,
    pub(super) policy: PushPolicy,
    pub(super) stats: PushStats,
    pub(super) machine: PushMachine,
    /// Present or last connection attempt.
    pub(super) attempt: Attempt,
    pub(super) attempt_began: Duration,
    /// Server of a redirect, for the next attempt.
    pub(super) redirect: Option<RtmpServer>,
    /// Consecutive redirects since the push was last live or has last failed.
    pub(super) redirects: u32,
    /// The platform has requested a new connection.
    pub(super) is_reconnect_requested: bool,
    /// When a reconnect request was last followed.
    pub(super) reconnected_at: Option<Duration>,
    /// A state has changed and must be published.
    pub(super) is_changed: bool,
}

impl PushCore {
    /// Passes an event to the state machine, and logs a change of state.
    pub(super) fn change(&mut self, event: impl FnOnce(&mut PushMachine, Duration)) {
        if let Some(state) = self.change_unlogged(event) {
            let cause = self.machine.cause();
            let code = cause.map_or("", |cause| cause.code.code());
            let message = cause.map_or("", |cause| cause.message.as_str());
            let (relay, destination) = (&*self.relay, &self.spec.destination);
            tracing::info!(relay, destination, state = state.as_str(), code, message, "push");
        }
    }

    /// Passes an event to the state machine, and returns the new state if it has changed.
    pub(super) fn change_unlogged(
        &mut self,
        event: impl FnOnce(&mut PushMachine, Duration),
    ) -> Option<PushState> {
        let before = (self.machine.state(), self.machine.cause().cloned());
        event(&mut self.machine, self.clock.now());
        let state = self.machine.state();
        if before.0 != state || before.1.as_ref() != self.machine.cause() {
            self.is_changed = true;
        }
        (std::mem::discriminant(&before.0) != std::mem::discriminant(&state)).then_some(state)
    }

    /// Passes the active source to the state machine. The output logs its source once for all of its pushes.
    pub(super) fn set_source(&mut self, signal: &OutputSignal) {
        self.change_unlogged(|machine, now| machine.on_source(signal.source, signal.cause.as_ref(), now));
    }

    /// Handles the first unit that the platform received.
    pub(super) fn go_live(&mut self, signal: &OutputSignal) {
        self.note_step(DialStep::FirstKeyframe);
        self.redirects = 0;
        self.change(PushMachine::on_live);
        // The units may be outdated: the feed may be absent by now, or the slate active.
        self.set_source(signal);
    }

    pub(super) fn note_step(&mut self, step: DialStep) {
        let after = self.clock.now().saturating_sub(self.attempt_began);
        self.stats.steps.push(StepView { step, after });
    }

    pub(super) fn route(&self) -> Option<Route> {
        self.policy.routes.get(self.machine.route()).cloned()
    }

    /// Returns the cause of a refusal by this destination.
    pub(super) fn cause_of(&self, refusal: &Refusal<'_>) -> Cause {
        refusal.cause(&self.policy.refusals, self.machine.history())
    }

    /// Warns while the platform waits for the feed's first keyframe, so that a closed connection is not attributed to
    /// the platform.
    pub(super) fn warn_about_keyframe(&mut self, waited: Duration) {
        if waited >= KEYFRAME_WARNING {
            self.change(|machine, _| machine.on_warning(Some(no_keyframe(waited))));
        }
    }
}

/// State of the relay and the feed that a push uses.
pub(crate) struct PushContext<'a, 'w> {
    pub(crate) task: &'a mut Context<'w>,
    pub(crate) now: Duration,
    /// This poll is a tick, with evaluations.
    pub(crate) is_tick: bool,
    pub(crate) ring: &'a mut Ring,
    /// Statistics of the stream that is sent.
    pub(crate) stats: &'a mut FeedStats,
    /// Cause while the rendition skips frames.
    pub(crate) overload: Option<&'a Cause>,
    pub(crate) signal: &'a OutputSignal,
}

/// Returns the cause of an accepted push whose feed has no keyframe.
pub(super) fn no_keyframe(waited: Duration) -> Cause {
    let message = format!(
        "The platform has accepted the push, but the feed has sent no keyframe for {} s.",
        waited.as_secs()
    );
    Cause::new(CauseCode::FeedNoKeyframe, message)
}
