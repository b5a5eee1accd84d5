//! Leases of streams for viewers: previews, stills and surveys.
//!
//! Each stream is pulled once for all viewers, since a camera accepts few sessions and a viewer must not take that of a
//! broadcast. The pull of a running feed is shared, even while it is absent. A stream that no relay uses has one
//! temporary pull for all of its viewers; once a relay starts it, that pull ends and its viewers continue with the
//! feed.

use std::sync::{Arc, Weak};
use std::time::Duration;

use parking_lot::{Mutex, RwLock};
use tokio::runtime::Handle;
use tokio::sync::mpsc;
use tokio::time::sleep_until;
use yonder_core::{Cause, CauseCode};
use yonder_media::Frame;

use crate::clock::Clock;
use crate::feed::{FeedCommand, FeedHandle, FeedSnapshot, SnapshotCell, Subscriber};
use crate::running::Running;
use crate::source::DigestHosts;
use crate::spec::FeedSpec;
use crate::tasks::ClosingTasks;
use crate::view::CauseView;

/// Timeout of the first keyframe.
const FIRST_KEYFRAME_TIMEOUT: Duration = Duration::from_secs(20);

/// Registry of the temporary pulls.
#[derive(Debug, Clone)]
pub(crate) struct LeaseRegistry {
    clock: Clock,
    digest_hosts: DigestHosts,
    running: Arc<Mutex<Running>>,
    closing: ClosingTasks,
    /// Pulls of streams that no relay uses.
    pulls: Arc<Mutex<Vec<Weak<ViewerPull>>>>,
}

impl LeaseRegistry {
    pub(crate) fn new(
        clock: Clock,
        digest_hosts: DigestHosts,
        running: Arc<Mutex<Running>>,
        closing: ClosingTasks,
    ) -> Self {
        Self { clock, digest_hosts, running, closing, pulls: Arc::default() }
    }

    /// Returns a lease of a stream. Must be called within a tokio runtime.
    pub(crate) fn lease(&self, spec: FeedSpec) -> FeedLease {
        let stream = RwLock::new(self.stream(&spec));
        FeedLease { registry: self.clone(), spec, stream }
    }

    fn stream(&self, spec: &FeedSpec) -> Stream {
        self.running_feed(spec).unwrap_or_else(|| {
            let pull = self.pull(spec);
            // A relay may have been started since the first check.
            self.running_feed(spec).unwrap_or(Stream::Pull(pull))
        })
    }

    /// Returns the running feed of a stream. Must be called without the lock of `pulls`: the engine locks both in that order.
    fn running_feed(&self, spec: &FeedSpec) -> Option<Stream> {
        let running = self.running.lock();
        let feed = running.feed_of(spec)?;
        Some(Stream::Feed { snapshots: feed.snapshots(), subscriber: feed.subscriber() })
    }

    fn pull(&self, spec: &FeedSpec) -> Arc<ViewerPull> {
        let mut pulls = self.pulls.lock();
        pulls.retain(|pull| pull.strong_count() > 0);
        let known = pulls.iter().filter_map(Weak::upgrade);
        if let Some(pull) = known.into_iter().find(|pull| pull.spec.is_same(spec) && !pull.has_ended()) {
            return pull;
        }
        let runtime = Handle::current();
        let pull = Arc::new(ViewerPull {
            feed: Some(FeedHandle::start_temporary(
                self.clock,
                self.digest_hosts.clone(),
                spec.clone(),
                &runtime,
            )),
            spec: spec.clone(),
            runtime,
            closing: self.closing.clone(),
        });
        pulls.push(Arc::downgrade(&pull));
        pull
    }

    /// Ends the temporary pull of a stream, when a relay begins to pull it.
    pub(crate) fn end_pull(&self, spec: &FeedSpec) {
        for pull in self.pulls.lock().iter().filter_map(Weak::upgrade) {
            if let Some(feed) = pull.feed.as_ref().filter(|_| pull.spec.is_same(spec)) {
                feed.send(FeedCommand::End);
            }
        }
    }
}

/// Temporary pull. It ends in order when its last lease is dropped.
#[derive(Debug)]
struct ViewerPull {
    spec: FeedSpec,
    /// `None` only during the drop.
    feed: Option<FeedHandle>,
    runtime: Handle,
    closing: ClosingTasks,
}

impl ViewerPull {
    fn has_ended(&self) -> bool {
        self.feed.as_ref().is_none_or(FeedHandle::has_ended)
    }
}

impl Drop for ViewerPull {
    fn drop(&mut self) {
        if let Some(feed) = self.feed.take() {
            self.closing.spawn(&self.runtime, feed.end());
        }
    }
}

/// Pull of a lease.
#[derive(Debug, Clone)]
enum Stream {
    /// Pull of a running feed.
    Feed { snapshots: Arc<SnapshotCell>, subscriber: Subscriber },
    /// Temporary pull.
    Pull(Arc<ViewerPull>),
}

impl Stream {
    fn snapshots(&self) -> Option<Arc<SnapshotCell>> {
        match self {
            Self::Feed { snapshots, .. } => Some(Arc::clone(snapshots)),
            Self::Pull(pull) => pull.feed.as_ref().map(FeedHandle::snapshots),
        }
    }

    fn subscribe(&self) -> Option<mpsc::Receiver<Arc<Frame>>> {
        match self {
            Self::Feed { subscriber, .. } => Some(subscriber.subscribe()),
            Self::Pull(pull) => pull.feed.as_ref().map(FeedHandle::subscribe),
        }
    }
}

/// Lease of a stream for one viewer.
#[derive(Debug)]
pub(crate) struct FeedLease {
    registry: LeaseRegistry,
    spec: FeedSpec,
    stream: RwLock<Stream>,
}

impl FeedLease {
    /// Returns the clock of the stream.
    pub(crate) fn clock(&self) -> Clock {
        self.registry.clock
    }

    /// Returns the current time.
    pub(crate) fn now(&self) -> Duration {
        self.registry.clock.now()
    }

    fn stream(&self) -> Stream {
        self.stream.read().clone()
    }

    /// Returns true if it shares the pull of a running feed.
    pub(crate) fn is_shared(&self) -> bool {
        matches!(self.stream(), Stream::Feed { .. })
    }

    /// Returns the last snapshot of the feed or pull.
    pub(crate) fn snapshot(&self) -> Option<Arc<FeedSnapshot>> {
        self.snapshots().map(|snapshots| snapshots.load())
    }

    /// Returns the cell with the snapshots.
    pub(crate) fn snapshots(&self) -> Option<Arc<SnapshotCell>> {
        self.stream().snapshots()
    }

    /// Returns the cause of a running feed that is absent; `None` if it flows or is being dialed.
    pub(crate) fn absence(&self) -> Option<CauseView> {
        let snapshot = self.snapshot().filter(|snapshot| self.is_shared() && !snapshot.is_flowing())?;
        snapshot.cause().cloned()
    }

    /// Requests an immediate retry of a blocked feed.
    pub(crate) fn retry_if_blocked(&self) {
        let is_blocked = self.snapshot().is_some_and(|snapshot| snapshot.feed(self.clock()).needs_attention);
        if let (true, Stream::Feed { subscriber, .. }) = (is_blocked, self.stream()) {
            subscriber.retry();
        }
    }

    /// Passes frames to `take`, from the last keyframe on and as they arrive, until `until` or until `take` returns
    /// false. Returns the cause if the stream has ended before.
    pub(crate) async fn follow(
        &self,
        until: Duration,
        mut take: impl FnMut(Arc<Frame>) -> bool,
    ) -> Option<CauseView> {
        let mut frames = self.stream().subscribe()?;
        loop {
            tokio::select! {
                frame = frames.recv() => match frame {
                    Some(frame) => {
                        if !take(frame) {
                            return None;
                        }
                    }
                    None => match self.change_over() {
                        Some(changed) => frames = changed,
                        None => return Some(self.end_cause()),
                    },
                },
                () = sleep_until(self.clock().instant(until)) => return None,
            }
        }
    }

    /// Continues with the feed that has replaced a temporary pull; `None` if there is none.
    fn change_over(&self) -> Option<mpsc::Receiver<Arc<Frame>>> {
        if self.is_shared() {
            return None;
        }
        let feed = self.registry.running_feed(&self.spec)?;
        let frames = feed.subscribe();
        *self.stream.write() = feed;
        frames
    }

    /// Returns the cause of a stream that has ended.
    fn end_cause(&self) -> CauseView {
        let cause = self.snapshot().and_then(|snapshot| snapshot.cause().cloned());
        let ended = || CauseView::from(&Cause::new(CauseCode::FeedClosedByCamera, "The pull was ended."));
        cause.unwrap_or_else(ended)
    }

    /// Returns the first keyframe that arrives within 20 s.
    ///
    /// # Errors
    /// The cause if none arrives.
    pub(crate) async fn keyframe(&self) -> Result<Arc<Frame>, CauseView> {
        let until = self.now() + FIRST_KEYFRAME_TIMEOUT;
        let mut found = None;
        let ended = self.follow(until, |frame| {
            let is_keyframe = frame.is_keyframe();
            if is_keyframe {
                found = Some(frame);
            }
            !is_keyframe
        });
        let ended = ended.await;
        let known = || self.snapshot().and_then(|snapshot| snapshot.cause().cloned());
        found.ok_or_else(|| ended.or_else(known).unwrap_or_else(|| CauseView::from(&no_keyframe())))
    }
}

fn no_keyframe() -> Cause {
    let message = format!("No picture came within {} s.", FIRST_KEYFRAME_TIMEOUT.as_secs());
    Cause::new(CauseCode::FeedNoKeyframe, message)
}
