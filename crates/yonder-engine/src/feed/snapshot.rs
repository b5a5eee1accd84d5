//! Snapshot of a feed with its relays and pushes: the state of an actor that other threads can read.

use std::sync::Arc;
use std::time::Duration;

use arc_swap::ArcSwap;
use yonder_core::{Cause, CauseCode, FeedMachine, FeedPhase};
use yonder_rtsp::Offered;

use crate::clock::Clock;
use crate::rendition::Renditions;
use crate::source::Inlet;
use crate::spec::FeedSpec;
use crate::view::{CauseView, FeedView, PushView};

/// Age of the last snapshot beyond which a flowing feed is shown as stalled, since its media thread is blocked.
const STALE_AFTER: Duration = Duration::from_secs(5);

/// Snapshot of a feed.
#[derive(Debug, Clone)]
pub(crate) struct FeedSnapshot {
    /// When it was taken.
    pub(crate) taken_at: Duration,
    feed: FeedView,
    /// Media that the camera offers.
    pub(crate) offered: Vec<Offered>,
    relays: Vec<RelaySnapshot>,
}

/// Snapshot of a relay.
#[derive(Debug, Clone)]
pub(crate) struct RelaySnapshot {
    pub(super) name: Arc<str>,
    /// Revision of the applied specification.
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

    /// Returns the view of the feed, with the age of the snapshot.
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

    /// Returns a relay; `None` if the actor does not know it yet.
    pub(crate) fn relay(&self, name: &str) -> Option<&RelaySnapshot> {
        self.relays.iter().find(|relay| *relay.name == *name)
    }

    /// Returns the push of a relay to a destination.
    pub(crate) fn push(&self, relay: &RelaySnapshot, destination: &str, now: Duration) -> Option<PushView> {
        let mut push = relay.pushes.iter().find(|push| push.destination == destination)?.clone();
        push.retry_in = push.retry_in.map(|left| left.saturating_sub(now.saturating_sub(self.taken_at)));
        Some(push)
    }

    /// Returns true while video arrives.
    pub(crate) fn is_flowing(&self) -> bool {
        self.feed.state == FeedPhase::Flowing
    }

    /// Returns the cause while the feed does not flow.
    pub(crate) fn cause(&self) -> Option<&CauseView> {
        self.feed.cause.as_ref()
    }

    /// Returns the load on its media thread: kilobits per second read and written.
    pub(crate) fn load_kbps(&self) -> u64 {
        let read = self.feed.video.as_ref().map_or(0, |video| video.kbps);
        let written: u64 = self.relays.iter().flat_map(|relay| &relay.pushes).map(|push| push.kbps).sum();
        read + written
    }
}

/// Returns the cause of a feed that is shown as stalled because of an old snapshot.
fn no_frames(span: Duration) -> Cause {
    let message = format!("The service has processed no video of this feed for {} s.", span.as_secs());
    Cause::new(CauseCode::FeedStalled, message)
}

/// Last snapshot. Readers never block the writer.
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

/// Returns the view of the feed.
pub(super) fn feed_view(
    spec: &FeedSpec,
    machine: &FeedMachine,
    inlet: &mut Inlet,
    renditions: &Renditions,
    clock: Clock,
) -> FeedView {
    let now = clock.now();
    let stats = &mut inlet.stats;
    FeedView {
        name: spec.name.clone(),
        age: Duration::ZERO,
        state: machine.state().into(),
        since: clock.wall(machine.since()),
        down_since: machine.down_since().map(|since| clock.wall(since)),
        attempts: machine.attempts(),
        cause: machine.cause().map(CauseView::from),
        retry_in: machine.state().retry_at().map(|until| until.saturating_sub(now)),
        history: machine.history(),
        needs_attention: machine.needs_attention(),
        transport: stats.carrier(),
        video: stats.video(now),
        audio: stats.audio(),
        bytes: stats.bytes(),
        packets_lost: stats.packets_lost(),
        units_dropped: stats.units_dropped(),
        skipped: stats.skipped(),
        reception: stats.reception(),
        steps: stats.steps(),
        reconnects: machine.reconnects(),
        renditions: renditions.views(),
        publisher: None,
    }
}
