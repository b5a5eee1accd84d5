//! Child tasks of a feed's actor, for work that does not wait for the actor's own sockets: connecting, probing, rendering and
//! closing connections. They report to the actor by events and end with it.

use std::task::{Context, Poll};
use std::time::Duration;

use tokio::sync::mpsc;
use tokio::task::{AbortHandle, JoinSet};
use tokio::time::timeout;
use yonder_core::{Cause, DialStep};

use crate::ids::{Attempt, OutputId, PushId};
use crate::push::connection::Connection;
use crate::source::{ConnectError, Dial, RtspSession};
use crate::spec::Route;
use crate::tasks::catch_panic;
use yonder_slate::SlateGop;

/// Event of a child task.
#[derive(Debug)]
pub(crate) enum ChildEvent {
    /// Step of a connection to the camera.
    SourceStep(Attempt, DialStep),
    /// The connection to the camera was established or has failed.
    SourceConnected(Attempt, Box<Dial>, Result<Box<RtspSession>, ConnectError>),
    /// The complete cause of a failed connection to the camera.
    SourceDiagnosed(Attempt, Cause),
    /// The session with the camera has been closed.
    SourceClosed,
    /// An absent camera has answered a probe.
    CameraAnswered,
    /// A slate is ready; `None` if it could not be rendered.
    SlateRendered(OutputId, Option<SlateGop>),
    /// Step of a connection to a platform.
    PushStep(PushId, Attempt, DialStep),
    /// The connection to a platform was established or has failed.
    PushConnected(PushId, Attempt, Result<Box<Connection>, Cause>),
    /// The connection of a removed push has been closed.
    PushClosed(PushId),
    /// A better route of a push was probed.
    RouteProbed {
        /// Push.
        push: PushId,
        /// Route.
        route: Route,
        /// The server answered.
        is_reachable: bool,
    },
    /// Nothing to report.
    Done,
}

/// Sender of events for a child that reports progress.
#[derive(Debug, Clone)]
pub(crate) struct Reporter(mpsc::UnboundedSender<ChildEvent>);

impl Reporter {
    /// Sends an event.
    pub(crate) fn report(&self, event: ChildEvent) {
        // The actor may have ended.
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

    /// Returns an ID that this actor has not used.
    pub(crate) fn next_number(&mut self) -> u64 {
        self.next_number += 1;
        self.next_number
    }

    /// Returns the channel for reports.
    pub(crate) fn reporter(&self) -> Reporter {
        self.reporter.clone()
    }

    /// Spawns a child; `on_panic` returns its event if it panics. Must be called within the actor.
    pub(crate) fn spawn(
        &mut self,
        work: impl Future<Output = ChildEvent> + Send + 'static,
        on_panic: impl FnOnce(String) -> ChildEvent + Send + 'static,
    ) -> Child {
        // Drop finished tasks, which have sent their events.
        while self.tasks.try_join_next().is_some() {}
        let reporter = self.reporter();
        Child(self.tasks.spawn(async move {
            let event = catch_panic(work).await.unwrap_or_else(on_panic);
            reporter.report(event);
        }))
    }

    /// Spawns a child that closes a connection within `limit`, and is not aborted earlier.
    pub(crate) fn close(
        &mut self,
        limit: Duration,
        work: impl Future<Output = ()> + Send + 'static,
        report: ChildEvent,
    ) {
        while self.tasks.try_join_next().is_some() {}
        let reporter = self.reporter();
        self.tasks.spawn(async move {
            // A timeout or a panic drops the connection as well.
            let _closed = timeout(limit, catch_panic(work)).await;
            reporter.report(report);
        });
    }

    /// Returns the next event.
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
