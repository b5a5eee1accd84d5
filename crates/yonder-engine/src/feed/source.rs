//! Source of a feed within its actor: connecting, reading, closing and probing.

use std::panic::{AssertUnwindSafe, catch_unwind};
use std::task::Context;
use std::time::Duration;

use yonder_core::{Cause, CauseCode, Decision, DialStep, FeedMachine};
use yonder_ingest::Publisher;

use crate::children::ChildEvent;
use crate::ids::Attempt;
use crate::source::{ConnectError, Dial, PublisherSession, RtspSession, SourceEnd};
use crate::spec::{FeedSpec, SourceSpec};

use super::actor::FeedActor;
use super::probe;
use super::source_stage::{CLOSE_TIMEOUT, SourceStage};

/// Maximum reads in one poll, before frames are written to pushes.
const MAX_READS: usize = 4;

impl FeedActor {
    /// Connects if due, or reads and publishes. Returns true if there may be more to read at once.
    pub(super) fn poll_source(&mut self, task: &mut Context<'_>, is_tick: bool) -> bool {
        if matches!(self.source, SourceStage::Publishing(_)) {
            return self.poll_publisher(task, is_tick);
        }
        self.connect_if_due();
        for read in 0..MAX_READS {
            let SourceStage::Running(_, session) = &mut self.source else { return false };
            let inlet = &mut self.inlet;
            let polled = catch_unwind(AssertUnwindSafe(|| session.poll(task, inlet, is_tick && read == 0)));
            let polled = catch_unwind(AssertUnwindSafe(|| self.panic_in_source())).and(polled);
            self.publish();
            match polled {
                Ok(Ok(false)) => return false,
                Ok(Ok(true)) => {}
                Ok(Err(end)) => {
                    self.end_source(end);
                    return true;
                }
                Err(_) => {
                    tracing::error!(feed = self.spec.name, "source panicked");
                    let message = "The service failed while pulling this feed.";
                    self.end_source(Cause::new(CauseCode::FeedInternal, message).into());
                    return true;
                }
            }
        }
        true
    }

    /// Reads the messages of the publisher. Returns true if there may be more at once.
    fn poll_publisher(&mut self, task: &mut Context<'_>, is_tick: bool) -> bool {
        let SourceStage::Publishing(session) = &mut self.source else { return false };
        let inlet = &mut self.inlet;
        let polled = catch_unwind(AssertUnwindSafe(|| session.poll(task, inlet, is_tick)));
        let polled = catch_unwind(AssertUnwindSafe(|| self.panic_in_source())).and(polled);
        self.publish();
        let cause = match polled {
            Ok(Ok(has_more)) => return has_more,
            Ok(Err(cause)) => cause,
            Err(_) => {
                tracing::error!(feed = self.spec.name, "source panicked");
                Cause::new(CauseCode::FeedInternal, "The service failed while receiving this feed.")
            }
        };
        self.fail_source(cause);
        true
    }

    /// Begins to receive from an encoder. One that published until now has been taken over.
    pub(super) fn begin_publisher(&mut self, publisher: Publisher) {
        if matches!(self.source, SourceStage::Publishing(_)) {
            let message = "Another encoder has taken over with the same key.";
            self.fail_source(Cause::new(CauseCode::FeedPublisherEnded, message));
        }
        let now = self.clock.now();
        self.inlet.stats.begin_dial(now);
        self.inlet.stats.begin_session(None);
        self.inlet.begin_session(now);
        self.change(FeedMachine::on_publisher);
        self.source = SourceStage::Publishing(Box::new(PublisherSession::new(self.clock, publisher)));
    }

    fn connect_if_due(&mut self) {
        self.retry_at = None;
        if !matches!(self.source, SourceStage::Idle) || self.closing_sources > 0 {
            self.probe = None;
            return;
        }
        let now = self.clock.now();
        let before = self.machine.state();
        match self.machine.decide(now) {
            Decision::Dial => {
                if let SourceSpec::Rtsp(rtsp) = &self.spec.source {
                    let (feed, rtsp) = (self.spec.name.clone(), rtsp.clone());
                    let hosts = self.digest_hosts.clone();
                    let dial = Dial::new(self.clock, hosts, feed, rtsp, self.known_carrier);
                    self.inlet.stats.begin_dial(now);
                    self.connect(dial);
                }
            }
            Decision::WaitUntil(until) => self.retry_at = Some(until),
            Decision::Idle => {}
        }
        self.is_changed |= self.machine.state() != before;
        self.probe_if_absent(now);
    }

    /// Probes an absent camera. Not one that accepts connections but does not answer: a successful probe would skip its
    /// backoff.
    fn probe_if_absent(&mut self, now: Duration) {
        let interval = self.machine.probe_interval(now).filter(|_| !self.inlet.stats.was_reached());
        let (Some(interval), Some(rtsp)) = (interval, self.spec.rtsp()) else {
            self.probe = None;
            return;
        };
        if self.probe.as_ref().is_none_or(|(current, _)| *current != interval) {
            let child = probe::start(rtsp.url.clone(), interval, &mut self.children);
            self.probe = Some((interval, child));
        }
    }

    /// Returns the next time at which [`Self::poll_source`] is due.
    pub(super) fn source_timeout(&self) -> Option<Duration> {
        match &self.source {
            SourceStage::Running(_, session) => Some(session.poll_timeout(&self.inlet, self.clock.now())),
            SourceStage::Publishing(_) => Some(self.inlet.poll_timeout(self.clock.now())),
            _ => self.retry_at,
        }
    }

    fn connect(&mut self, mut dial: Dial) {
        self.probe = None;
        let attempt = Attempt(self.children.next_number());
        let reporter = self.children.reporter();
        let work = async move {
            let note = |step| reporter.report(ChildEvent::SourceStep(attempt, step));
            let result = dial.connect(note).await;
            ChildEvent::SourceConnected(attempt, Box::new(dial), result.map(Box::new))
        };
        let child = self.children.spawn(work, move |panic| {
            tracing::error!(panic, "connecting to a camera panicked");
            let cause =
                Cause::new(CauseCode::FeedInternal, "The service failed while connecting to this camera.");
            ChildEvent::SourceDiagnosed(attempt, cause)
        });
        self.source = SourceStage::Connecting(attempt, child);
    }

    pub(super) fn handle_source_step(&mut self, attempt: Attempt, step: DialStep, now: Duration) {
        if matches!(&self.source, SourceStage::Connecting(current, _) if *current == attempt) {
            self.inlet.stats.note_step(step, now);
        }
    }

    pub(super) fn handle_source_connected(
        &mut self,
        attempt: Attempt,
        dial: Box<Dial>,
        result: Result<Box<RtspSession>, ConnectError>,
    ) {
        if !matches!(&self.source, SourceStage::Connecting(current, _) if *current == attempt) {
            return;
        }
        // The child may have run on another runtime.
        match result.and_then(|session| session.register_here().map_err(|error| lost_here(&error))) {
            Ok(mut session) => {
                let now = self.clock.now();
                self.inlet.stats.begin_session(Some(dial.carrier()));
                self.inlet.begin_session(now);
                session.start(now);
                self.source = SourceStage::Running(dial, Box::new(session));
            }
            Err(cause) => self.diagnose(&dial, cause),
        }
    }

    pub(super) fn handle_source_diagnosed(&mut self, attempt: Attempt, cause: Cause) {
        let is_current = match &self.source {
            SourceStage::Connecting(current, _) | SourceStage::Diagnosing(current, _) => *current == attempt,
            SourceStage::Idle | SourceStage::Running(..) | SourceStage::Publishing(_) => false,
        };
        if is_current {
            self.fail_source(cause);
        }
    }

    /// Fails the source without an orderly end.
    pub(super) fn fail_source(&mut self, cause: Cause) {
        self.source = SourceStage::Idle;
        self.inlet.stats.end_session();
        self.change(|machine, now| machine.on_failed(cause, now));
    }

    /// Handles the end of a session: another attempt of the same dial, or a failure.
    fn end_source(&mut self, end: SourceEnd) {
        let SourceStage::Running(mut dial, session) = std::mem::replace(&mut self.source, SourceStage::Idle)
        else {
            return;
        };
        self.known_carrier = dial.next_carrier(self.inlet.has_flowed(), Some(&end)).or(self.known_carrier);
        self.close_session(*session);
        match dial.handle_end(end, self.machine.history()) {
            Ok(()) => self.connect(*dial),
            Err(cause) => self.diagnose(&dial, cause),
        }
    }

    fn diagnose(&mut self, dial: &Dial, cause: Cause) {
        let attempt = Attempt(self.children.next_number());
        let step = self.inlet.stats.failing_step(self.clock.now());
        let (dial, fallback) = (dial.clone(), cause.clone());
        let work = async move { ChildEvent::SourceDiagnosed(attempt, dial.diagnose(cause, step).await) };
        let child = self.children.spawn(work, move |panic| {
            tracing::error!(panic, "diagnosis of a failed connection panicked");
            ChildEvent::SourceDiagnosed(attempt, fallback)
        });
        self.source = SourceStage::Diagnosing(attempt, child);
    }

    /// Closes the source in order.
    pub(super) fn close_source(&mut self) {
        match std::mem::replace(&mut self.source, SourceStage::Idle) {
            SourceStage::Running(dial, session) => {
                self.known_carrier = dial.next_carrier(self.inlet.has_flowed(), None).or(self.known_carrier);
                self.close_session(*session);
            }
            // The connection ends with its receiver.
            SourceStage::Publishing(_) => self.inlet.stats.end_session(),
            SourceStage::Idle | SourceStage::Connecting(..) | SourceStage::Diagnosing(..) => {}
        }
    }

    fn close_session(&mut self, mut session: RtspSession) {
        session.report_reception(&mut self.inlet, self.clock.now());
        self.inlet.stats.end_session();
        self.closing_sources += 1;
        self.children.close(CLOSE_TIMEOUT, session.close(), ChildEvent::SourceClosed);
    }

    /// Applies a changed address or credentials.
    pub(super) fn set_spec(&mut self, spec: FeedSpec) {
        if self.spec.is_same(&spec) {
            self.spec.measured = spec.measured;
            return;
        }
        self.close_source();
        if let Some(rtsp) = spec.rtsp() {
            self.digest_hosts.forget(&(rtsp.url.host.clone(), rtsp.url.port));
        }
        self.machine.set_history(spec.history);
        self.spec = spec;
        self.known_carrier = None;
        self.change(|machine, now| machine.set_enabled(false, now));
        self.machine.set_listens(self.spec.rtsp().is_none());
        self.change(|machine, now| machine.set_enabled(true, now));
    }

    /// Registers its sockets with the caller's runtime.
    pub(super) fn register_source_here(&mut self) {
        match std::mem::replace(&mut self.source, SourceStage::Idle) {
            SourceStage::Running(dial, session) => match session.register_here() {
                Ok(session) => self.source = SourceStage::Running(dial, Box::new(session)),
                Err(error) => self.fail_source(lost_here(&error)),
            },
            other => self.source = other,
        }
    }
}

/// Returns the cause of a socket that could not be registered.
fn lost_here(error: &std::io::Error) -> Cause {
    let message = format!("This machine refused to use the connection ({error}).");
    Cause::new(CauseCode::FeedInternal, message)
}
