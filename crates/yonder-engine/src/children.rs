//! Child tasks of a feed's actor: everything that waits for something else than its sockets, such as connecting, probing,
//! rendering and saying goodbye. They report to the actor by events and end with it.

use std::task::{Context, Poll};
use std::time::Duration;

use tokio::sync::mpsc;
use tokio::task::{AbortHandle, JoinSet};
use tokio::time::timeout;
use yonder_core::{Cause, DialStep};

use crate::push::{Connection, PushId};
use crate::source::{ConnectError, Dial, RtspSession};
use crate::spec::Route;
use crate::tasks::catch_panic;
use yonder_slate::SlateGop;

/// Number of a relay within its feed's actor.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct RelayId(pub(crate) u64);

/// Number of a connection attempt within its feed's actor: results of older attempts are ignored.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) struct Attempt(pub(crate) u64);

/// Report of a child task.
#[derive(Debug)]
pub(crate) enum ChildEvent {
    /// The connection to the camera has come one step further.
    SourceStep(Attempt, DialStep),
    /// The connection to the camera stands, or could not be made.
    SourceConnected(Attempt, Box<Dial>, Result<Box<RtspSession>, ConnectError>),
    /// The cause of a failed connection to the camera is known in full.
    SourceDiagnosed(Attempt, Cause),
    /// The session with the camera has been closed.
    SourceClosed,
    /// An absent camera has answered a probe.
    CameraAnswered,
    /// A slate is ready; `None` when it could not be rendered.
    SlateRendered(RelayId, Option<SlateGop>),
    /// The connection to a platform has come one step further.
    PushStep(PushId, Attempt, DialStep),
    /// The connection to a platform stands, or could not be made.
    PushConnected(PushId, Attempt, Result<Box<Connection>, Cause>),
    /// The connection of a push that was removed has been closed.
    PushClosed(PushId),
    /// A better route of a push was probed.
    RouteProbed {
        /// The push.
        push: PushId,
        /// The route.
        route: Route,
        /// The server answered.
        is_reachable: bool,
    },
    /// Nothing to report.
    Done,
}

/// Sends reports of a child before its end.
#[derive(Debug, Clone)]
pub(crate) struct Reporter(mpsc::UnboundedSender<ChildEvent>);

impl Reporter {
    /// Reports `event`.
    pub(crate) fn report(&self, event: ChildEvent) {
        // An actor that has ended needs no reports.
        let _unused = self.0.send(event);
    }
}

/// Handle of a child task, which is aborted when this is dropped.
#[derive(Debug)]
pub(crate) struct Child(AbortHandle);

impl Drop for Child {
    fn drop(&mut self) {
        self.0.abort();
    }
}

/// Child tasks of one actor, which are aborted when this is dropped.
#[derive(Debug)]
pub(crate) struct Children {
    tasks: JoinSet<()>,
    reporter: Reporter,
    events: mpsc::UnboundedReceiver<ChildEvent>,
    next_number: u64,
}

impl Children {
    pub(crate) fn new() -> Self {
        let (sender, events) = mpsc::unbounded_channel();
        Self { tasks: JoinSet::new(), reporter: Reporter(sender), events, next_number: 0 }
    }

    /// Returns a number that this actor has not used.
    pub(crate) fn next_number(&mut self) -> u64 {
        self.next_number += 1;
        self.next_number
    }

    /// Returns the channel for reports.
    pub(crate) fn reporter(&self) -> Reporter {
        self.reporter.clone()
    }

    /// Starts a child; `on_panic` makes its report if it panics. To be called within the actor.
    pub(crate) fn spawn(
        &mut self,
        work: impl Future<Output = ChildEvent> + Send + 'static,
        on_panic: impl FnOnce(String) -> ChildEvent + Send + 'static,
    ) -> Child {
        // Results of finished tasks are not needed: they have reported.
        while self.tasks.try_join_next().is_some() {}
        let reporter = self.reporter();
        Child(self.tasks.spawn(async move {
            let event = catch_panic(work).await.unwrap_or_else(on_panic);
            reporter.report(event);
        }))
    }

    /// Starts a child that ends a connection in order, within `limit`, and is not aborted before.
    pub(crate) fn close(
        &mut self,
        limit: Duration,
        work: impl Future<Output = ()> + Send + 'static,
        report: ChildEvent,
    ) {
        while self.tasks.try_join_next().is_some() {}
        let reporter = self.reporter();
        self.tasks.spawn(async move {
            // A peer that does not answer cannot be waited for, and a panic ends the connection as well.
            let _closed = timeout(limit, catch_panic(work)).await;
            reporter.report(report);
        });
    }

    /// Returns the next report.
    pub(crate) fn poll_event(&mut self, context: &mut Context<'_>) -> Poll<Option<ChildEvent>> {
        self.events.poll_recv(context)
    }

    /// Waits for the end of all children.
    ///
    /// # Cancel safety
    /// Safe: children continue.
    pub(crate) async fn finish(&mut self) {
        while self.tasks.join_next().await.is_some() {}
    }
}
