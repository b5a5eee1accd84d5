//! Snapshot of a feed with its relays and their pushes: the only thing that other threads read of an actor.

use std::sync::Arc;
use std::time::Duration;

use arc_swap::ArcSwap;
use yonder_core::{Cause, CauseCode, FeedPhase};
use yonder_rtsp::Offered;

use crate::clock::Clock;
use crate::view::{CauseView, FeedView, PushView};

/// A feed that flows and has published no snapshot for this long is shown as stalled: its media thread stands still.
const STALE_AFTER: Duration = Duration::from_secs(5);

/// State of a feed at one moment.
#[derive(Debug, Clone)]
pub(crate) struct FeedSnapshot {
    /// When it was taken.
    pub(crate) taken_at: Duration,
    feed: FeedView,
    /// Everything the camera offers.
    pub(crate) offered: Vec<Offered>,
    relays: Vec<RelaySnapshot>,
}

/// State of a relay at one moment.
#[derive(Debug, Clone)]
pub(crate) struct RelaySnapshot {
    pub(super) name: Arc<str>,
    /// Number of the application that it shows.
    pub(crate) revision: u64,
    pub(super) pushes: Vec<PushView>,
}

impl FeedSnapshot {
    pub(super) fn new(
        taken_at: Duration,
        feed: FeedView,
        offered: Vec<Offered>,
        relays: Vec<RelaySnapshot>,
    ) -> Self {
        Self { taken_at, feed, offered, relays }
    }

    /// Returns the feed, with the age of what is known of it.
    pub(crate) fn feed(&self, clock: Clock) -> FeedView {
        let now = clock.now();
        let age = now.saturating_sub(self.taken_at);
        let mut view = FeedView { age, ..self.feed.clone() };
        view.retry_in = view.retry_in.map(|left| left.saturating_sub(age));
        if age >= STALE_AFTER && view.state == FeedPhase::Flowing {
            view.state = FeedPhase::Stalled;
            view.since = clock.wall(self.taken_at);
            view.cause = Some(CauseView::from(&no_frames(age)));
        }
        view
    }

    /// Returns a relay; `None` for one that the actor does not know yet.
    pub(crate) fn relay(&self, name: &str) -> Option<&RelaySnapshot> {
        self.relays.iter().find(|relay| *relay.name == *name)
    }

    /// Returns the push of a relay to a destination.
    pub(crate) fn push(&self, relay: &RelaySnapshot, destination: &str, now: Duration) -> Option<PushView> {
        let mut push = relay.pushes.iter().find(|push| push.destination == destination)?.clone();
        push.retry_in = push.retry_in.map(|left| left.saturating_sub(now.saturating_sub(self.taken_at)));
        Some(push)
    }

    /// Returns whether video arrives.
    pub(crate) fn is_flowing(&self) -> bool {
        self.feed.state == FeedPhase::Flowing
    }

    /// Returns the cause for which the feed does not flow.
    pub(crate) fn cause(&self) -> Option<&CauseView> {
        self.feed.cause.as_ref()
    }

    /// Load on its media thread: kilobits per second read and written.
    pub(crate) fn load_kbps(&self) -> u64 {
        let read = self.feed.video.as_ref().map_or(0, |video| video.kbps);
        let written: u64 = self.relays.iter().flat_map(|relay| &relay.pushes).map(|push| push.kbps).sum();
        read + written
    }
}

/// Cause of a feed that is shown as stalled although its machine got no event.
fn no_frames(span: Duration) -> Cause {
    let message = format!("The service has processed no video of this feed for {} s.", span.as_secs());
    Cause::new(CauseCode::FeedStalled, message)
}

/// The last snapshot. Readers never delay the writer.
#[derive(Debug)]
pub(crate) struct SnapshotCell(ArcSwap<FeedSnapshot>);

impl SnapshotCell {
    pub(super) fn new(snapshot: FeedSnapshot) -> Self {
        Self(ArcSwap::from_pointee(snapshot))
    }

    pub(super) fn store(&self, snapshot: FeedSnapshot) {
        self.0.store(Arc::new(snapshot));
    }

    /// Returns the last snapshot.
    pub(crate) fn load(&self) -> Arc<FeedSnapshot> {
        self.0.load_full()
    }
}
