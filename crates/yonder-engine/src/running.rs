//! Feeds, relays and pushes as last applied.

use std::collections::{BTreeMap, HashMap};

use crate::clock::Clock;
use crate::feed::{FeedHandle, FeedSnapshot};
use crate::spec::{FeedSpec, PushSpec};
use crate::view::PushView;

/// Running feeds by name.
#[derive(Debug, Default)]
pub(crate) struct Running {
    pub(crate) feeds: HashMap<String, RunningFeed>,
    /// Feed of each relay.
    pub(crate) relays: BTreeMap<String, String>,
}

impl Running {
    /// Returns the feed that pulls a stream.
    pub(crate) fn feed_of(&self, spec: &FeedSpec) -> Option<&FeedHandle> {
        self.feeds.values().find(|feed| feed.spec.is_same(spec)).map(|feed| &feed.handle)
    }
}

/// Feed as last applied.
#[derive(Debug)]
pub(crate) struct RunningFeed {
    pub(crate) handle: FeedHandle,
    pub(crate) spec: FeedSpec,
    /// Number of the media thread of the feed, its relays and pushes.
    pub(crate) thread: usize,
    pub(crate) relays: BTreeMap<String, RunningRelay>,
    /// It waits for publishers also without relays.
    pub(crate) listens: bool,
}

impl RunningFeed {
    /// Returns the number of the feed's connections.
    pub(crate) fn connections(&self) -> usize {
        1 + self.relays.values().map(|relay| relay.pushes.len()).sum::<usize>()
    }
}

/// Relay as last applied.
#[derive(Debug)]
pub(crate) struct RunningRelay {
    /// Revision of the specification. A snapshot of an older one may show replaced pushes.
    pub(crate) revision: u64,
    pushes: Vec<AppliedPush>,
}

/// Push as last applied.
#[derive(Debug)]
struct AppliedPush {
    spec: PushSpec,
    /// View of a new push until the feed has published a snapshot of it; `None` if the push ran before.
    started: Option<PushView>,
}

impl RunningRelay {
    pub(crate) fn new(pushes: &[PushSpec], before: Option<&Self>, clock: &Clock) -> Self {
        let apply = |spec: &PushSpec| {
            let mut running = before.into_iter().flat_map(|before| &before.pushes);
            let runs = running.any(|other| {
                other.spec.destination == spec.destination && other.spec.has_same_identity(spec)
            });
            AppliedPush { spec: spec.clone(), started: (!runs).then(|| PushView::started(spec, clock)) }
        };
        let revision = before.map_or(0, |before| before.revision) + 1;
        Self { revision, pushes: pushes.iter().map(apply).collect() }
    }

    /// Returns the pushes from `snapshot`, or as they were applied if that is newer.
    pub(crate) fn views(&self, name: &str, snapshot: &FeedSnapshot, clock: &Clock) -> Vec<PushView> {
        let published = snapshot.relay(name);
        let is_current = published.is_some_and(|relay| relay.revision >= self.revision);
        let view = |applied: &AppliedPush| {
            let started = applied.started.clone().filter(|_| !is_current);
            let published = || snapshot.push(published?, &applied.spec.destination, clock.now());
            started.or_else(published).unwrap_or_else(|| PushView::started(&applied.spec, clock))
        };
        self.pushes.iter().map(view).collect()
    }
}
