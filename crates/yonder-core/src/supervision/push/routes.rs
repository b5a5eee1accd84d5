//! Failover and failback among the routes to a platform.
//!
//! A route is a server reached over an uplink; route 0 is preferred. A route that fails is left for the next one. Once a
//! better one has been reachable for the failback delay, the push returns to it. Reachable is not usable: where a return
//! fails, the delay of that route doubles.

use std::time::Duration;

use crate::cause::CauseCode;
use crate::supervision::policy::{FailureClass, History};
use crate::supervision::ration::CredentialRation;

/// Failures in a row on the preferred route before the next one is tried.
const FAILURES_ON_PREFERRED: u32 = 2;
/// The same while the key is in use, which passes by itself on most platforms.
const FAILURES_WHILE_BUSY: u32 = 6;
/// Count at which one more failure of any kind is enough.
const ONE_MORE_FAILURE: u32 = FAILURES_WHILE_BUSY - 1;
/// A broadcast over a route that was returned to must hold this long for the return to count as a success.
const RETURN_PROVEN_AFTER: Duration = Duration::from_secs(10 * 60);
/// Largest failback delay.
const MAX_FAILBACK_DELAY: Duration = Duration::from_secs(2 * 3_600);

/// Evidence about one route.
#[derive(Debug, Clone, Default)]
struct Route {
    /// Since when probes have found it reachable.
    reachable_since: Option<Duration>,
    /// Returns to it in a row that failed.
    failed_returns: u32,
    /// Refusals of the credentials over it.
    ration: CredentialRation,
    /// It has failed in the present round, in which each route is tried without a long pause.
    has_failed: bool,
}

/// Route in use, and the evidence about all of them.
#[derive(Debug, Clone)]
pub(super) struct Routes {
    routes: Vec<Route>,
    current: usize,
    failures_here: u32,
    failback_delay: Duration,
    /// The better route that the push is leaving for.
    returning_to: Option<usize>,
    /// The route in use was returned to, and has not proven itself yet.
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

    /// Replaces the routes; the one in use is at `current` now, or gone.
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

    /// Uses the preferred route again and forgets the failures on it.
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

    /// Handles a failure on the route in use. True when the push moved to a route that has not failed in this round.
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
            // Certain at the first time, by this route.
            FailureClass::Trust | FailureClass::Credentials | FailureClass::Media => 1,
            // An uplink that does not exist need not be tried twice.
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

    /// Ends a round, in which each route was tried. True when one of them failed for a transient reason.
    pub(super) fn end_round(&mut self) -> bool {
        for route in &mut self.routes {
            route.has_failed = false;
        }
        std::mem::take(&mut self.is_transient)
    }

    /// Moves to the next route, if another one may do better after a failure with `code`.
    pub(super) fn rotate(&mut self, code: CauseCode, history: History, now: Duration) {
        if is_route_failure(code, history) {
            let next = self.next_route(now);
            self.use_route(next);
        }
    }

    /// The route after the one in use, in turn. One that refused the credentials lately is left out.
    fn next_route(&self, now: Duration) -> usize {
        self.others().find(|route| self.next_try(*route) <= now).unwrap_or(self.current)
    }

    /// The route whose credentials may be tried first.
    fn earliest_route(&self) -> usize {
        self.others().chain([self.current]).min_by_key(|route| self.next_try(*route)).unwrap_or(self.current)
    }

    /// Moves to another route whose credentials may be tried again before `at`, and returns when.
    pub(super) fn move_before(&mut self, at: Duration, now: Duration) -> Option<Duration> {
        let (next_try, route) = self.others().map(|route| (self.next_try(route), route)).min()?;
        // A route without refusals has had its turn.
        if next_try <= now || next_try >= at {
            return None;
        }
        self.use_route(route);
        Some(next_try)
    }

    /// All routes but the one in use, in turn.
    fn others(&self) -> impl Iterator<Item = usize> + use<> {
        let (current, count) = (self.current, self.routes.len());
        (1..count).map(move |step| (current + step) % count)
    }

    fn next_try(&self, route: usize) -> Duration {
        self.routes.get(route).map(|route| route.ration.next_try()).unwrap_or_default()
    }

    /// Earliest time at which the credentials may be tried over the route in use.
    pub(super) fn credentials_at(&self) -> Duration {
        self.next_try(self.current)
    }

    /// Forgets refusals of credentials: a person wants another try.
    pub(super) fn forget_refusals(&mut self) {
        for route in &mut self.routes {
            route.ration.reset();
        }
    }

    /// Records a probe of a better route. True when it is time to return to it.
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

    /// The connection was ended in order: uses the route that was to be returned to, if there is one.
    pub(super) fn on_returned(&mut self) {
        self.live_since = None;
        if let Some(route) = self.returning_to.take() {
            self.use_route(route);
            self.on_trial = true;
            // It has shown that it fails: one more failure is enough.
            self.failures_here = ONE_MORE_FAILURE;
        }
    }

    fn use_route(&mut self, route: usize) {
        if self.current != route {
            self.current = route;
            // The preferred one has failed already when all others have.
            self.failures_here = if route == 0 { ONE_MORE_FAILURE } else { 0 };
        }
        for evidence in &mut self.routes {
            evidence.reachable_since = None;
        }
        self.returning_to = None;
    }
}

/// True when another server or uplink may do better. Refusals of a key or a codec that has worked are the server's fault.
fn is_route_failure(code: CauseCode, history: History) -> bool {
    match FailureClass::of(code) {
        FailureClass::Address | FailureClass::Trust | FailureClass::Busy => true,
        FailureClass::Credentials => history.credentials,
        FailureClass::Media => history.address,
        FailureClass::Secret => false,
        FailureClass::Transient => code != CauseCode::PushInternal && code != CauseCode::PushTooSlow,
    }
}
