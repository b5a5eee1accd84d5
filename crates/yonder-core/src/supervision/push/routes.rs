//! Failover and failback among the routes to a platform.
//!
//! A route is a server reached over an uplink; route 0 is preferred. The push moves to the next route after failures,
//! and returns to a better one that has been reachable for the failback delay. A reachable route may still fail: after
//! a failed return its delay doubles.

use std::time::Duration;

use crate::cause::CauseCode;
use crate::supervision::policy::{FailureClass, History};
use crate::supervision::ration::CredentialRation;

/// Consecutive failures on the preferred route before the next one is tried.
const FAILURES_ON_PREFERRED: u32 = 2;
/// Consecutive refusals of a busy key before the next route is tried: most platforms release a key after a while.
const FAILURES_WHILE_BUSY: u32 = 6;
/// Count from which one more failure is enough.
const ONE_MORE_FAILURE: u32 = FAILURES_WHILE_BUSY - 1;
/// Minimum duration of a broadcast after a failback for it to count as a success.
const RETURN_PROVEN_AFTER: Duration = Duration::from_secs(10 * 60);
/// Largest failback delay.
const MAX_FAILBACK_DELAY: Duration = Duration::from_secs(2 * 3_600);

/// History of one route.
#[derive(Debug, Clone, Default)]
struct Route {
    /// Since when probes have succeeded.
    reachable_since: Option<Duration>,
    /// Consecutive returns to it that failed.
    failed_returns: u32,
    /// Refused credentials on this route.
    ration: CredentialRation,
    /// It has failed in the present round, in which each route is tried once without a long delay.
    has_failed: bool,
}

/// Route in use, and the history of all routes.
#[derive(Debug, Clone)]
pub(super) struct Routes {
    routes: Vec<Route>,
    current: usize,
    failures_here: u32,
    failback_delay: Duration,
    /// Better route to which the push is returning.
    returning_to: Option<usize>,
    /// The push has returned to the route in use, which has not yet proven itself.
    on_trial: bool,
    live_since: Option<Duration>,
    /// A route failed for a transient reason in the present round.
    is_transient: bool,
}

impl Routes {
    pub(super) fn new(count: usize, failback_delay: Duration) -> Self {
        Self {
            routes: vec![Route::default(); count.max(1)],
            current: 0,
            failures_here: 0,
            failback_delay,
            returning_to: None,
            on_trial: false,
            live_since: None,
            is_transient: false,
        }
    }

    /// Replaces the routes; `current` is the new index of the route in use, `None` if it was removed.
    pub(super) fn replace(&mut self, count: usize, failback_delay: Duration, current: Option<usize>) {
        let (on_trial, live_since) = (self.on_trial, self.live_since);
        *self = Self::new(count, failback_delay);
        if let Some(current) = current.filter(|current| *current < self.routes.len()) {
            self.current = current;
            (self.on_trial, self.live_since) = (on_trial, live_since);
        }
    }

    pub(super) fn current(&self) -> usize {
        self.current
    }

    /// Moves to the preferred route and forgets its failures.
    pub(super) fn reset(&mut self) {
        self.use_route(0);
        self.failures_here = 0;
        self.on_trial = false;
        self.live_since = None;
    }

    pub(super) fn on_live(&mut self, now: Duration) {
        self.failures_here = 0;
        self.live_since = Some(now);
        self.end_round();
        if let Some(route) = self.routes.get_mut(self.current) {
            route.ration.reset();
        }
    }

    /// Handles a failure on the route in use. Returns true if the push moved to a route that has not failed in this round.
    pub(super) fn on_failed(&mut self, code: CauseCode, history: History, now: Duration) -> bool {
        let live_for = self.live_since.take().map(|since| now.saturating_sub(since));
        if std::mem::take(&mut self.on_trial)
            && let Some(route) = self.routes.get_mut(self.current)
        {
            let is_proven = live_for.is_some_and(|span| span >= RETURN_PROVEN_AFTER);
            route.failed_returns = if is_proven { 0 } else { route.failed_returns.saturating_add(1) };
        }
        let is_about_credentials = FailureClass::of(code) == FailureClass::Credentials;
        if is_about_credentials && let Some(route) = self.routes.get_mut(self.current) {
            route.ration.on_refused(now);
        }
        self.is_transient |= FailureClass::of(code) == FailureClass::Transient;
        if self.routes.len() < 2 || !is_route_failure(code, history) {
            return false;
        }
        self.failures_here = self.failures_here.saturating_add(1);
        let patience = match FailureClass::of(code) {
            FailureClass::Busy if self.current == 0 => FAILURES_WHILE_BUSY,
            FailureClass::Busy => FAILURES_WHILE_BUSY / 2,
            // Conclusive at the first failure on this route.
            FailureClass::Trust | FailureClass::Credentials | FailureClass::Media => 1,
            // An unavailable uplink is not tried twice.
            _ if self.current == 0 && code != CauseCode::PushUplinkAway => FAILURES_ON_PREFERRED,
            _ => 1,
        };
        if self.failures_here < patience {
            return false;
        }
        if let Some(route) = self.routes.get_mut(self.current) {
            route.has_failed = true;
        }
        let next = if is_about_credentials { self.earliest_route() } else { self.next_route(now) };
        self.use_route(next);
        let has_failed = self.routes.get(next).is_none_or(|route| route.has_failed);
        !has_failed && self.credentials_at() <= now
    }

    /// Ends a round over all routes. Returns true if one of them failed for a transient reason.
    pub(super) fn end_round(&mut self) -> bool {
        for route in &mut self.routes {
            route.has_failed = false;
        }
        std::mem::take(&mut self.is_transient)
    }

    /// Moves to the next route, if another route may succeed after a failure with `code`.
    pub(super) fn rotate(&mut self, code: CauseCode, history: History, now: Duration) {
        if is_route_failure(code, history) {
            let next = self.next_route(now);
            self.use_route(next);
        }
    }

    /// Returns the route after the one in use, in turn, without those that refused the credentials recently.
    fn next_route(&self, now: Duration) -> usize {
        self.others().find(|route| self.next_try(*route) <= now).unwrap_or(self.current)
    }

    /// Returns the route whose credentials may be tried first.
    fn earliest_route(&self) -> usize {
        self.others().chain([self.current]).min_by_key(|route| self.next_try(*route)).unwrap_or(self.current)
    }

    /// Moves to another route whose credentials may be tried before `at`, and returns the time.
    pub(super) fn move_before(&mut self, at: Duration, now: Duration) -> Option<Duration> {
        let (next_try, route) = self.others().map(|route| (self.next_try(route), route)).min()?;
        // A route without refusals was tried in this round.
        if next_try <= now || next_try >= at {
            return None;
        }
        self.use_route(route);
        Some(next_try)
    }

    /// Returns all routes except the one in use, in turn.
    fn others(&self) -> impl Iterator<Item = usize> + use<> {
        let (current, count) = (self.current, self.routes.len());
        (1..count).map(move |step| (current + step) % count)
    }

    fn next_try(&self, route: usize) -> Duration {
        self.routes.get(route).map(|route| route.ration.next_try()).unwrap_or_default()
    }

    /// Returns the earliest time at which the credentials may be tried on the route in use.
    pub(super) fn credentials_at(&self) -> Duration {
        self.next_try(self.current)
    }

    /// Forgets refusals of credentials, when an operator retries.
    pub(super) fn forget_refusals(&mut self) {
        for route in &mut self.routes {
            route.ration.reset();
        }
    }

    /// Records a probe of a better route. Returns true when the push should return to it.
    pub(super) fn record_probe(&mut self, route: usize, is_reachable: bool, now: Duration) -> bool {
        if route >= self.current {
            return false;
        }
        let base = self.failback_delay;
        let Some(evidence) = self.routes.get_mut(route) else { return false };
        if !is_reachable || now < evidence.ration.next_try() {
            evidence.reachable_since = None;
            return false;
        }
        let since = *evidence.reachable_since.get_or_insert(now);
        let factor = 1_u32.checked_shl(evidence.failed_returns).unwrap_or(u32::MAX);
        let delay = base.saturating_mul(factor).min(MAX_FAILBACK_DELAY.max(base));
        let is_due = self.live_since.is_some() && now.saturating_sub(since) >= delay;
        if is_due {
            self.returning_to = Some(route);
        }
        is_due
    }

    /// Handles an orderly end: moves to the route of a pending failback, if there is one.
    pub(super) fn on_returned(&mut self) {
        self.live_since = None;
        if let Some(route) = self.returning_to.take() {
            self.use_route(route);
            self.on_trial = true;
            // The route has failed before: one more failure is enough.
            self.failures_here = ONE_MORE_FAILURE;
        }
    }

    fn use_route(&mut self, route: usize) {
        if self.current != route {
            self.current = route;
            // The preferred route has already failed in this round.
            self.failures_here = if route == 0 { ONE_MORE_FAILURE } else { 0 };
        }
        for evidence in &mut self.routes {
            evidence.reachable_since = None;
        }
        self.returning_to = None;
    }
}

/// Returns true if another server or uplink may succeed. A refusal of a key or a codec that has worked is a fault of
/// the server.
fn is_route_failure(code: CauseCode, history: History) -> bool {
    match FailureClass::of(code) {
        FailureClass::Address | FailureClass::Trust | FailureClass::Busy => true,
        FailureClass::Credentials => history.credentials,
        FailureClass::Media => history.address,
        FailureClass::Secret => false,
        FailureClass::Transient => code != CauseCode::PushInternal && code != CauseCode::PushTooSlow,
    }
}
