//! The engine: which feeds and pushes run, as the rest of the service sees it.

use std::collections::{BTreeMap, HashMap};
use std::path::PathBuf;
use std::sync::{Arc, Mutex};
use std::time::Duration;

use futures_util::future::join_all;
use tokio::runtime::Handle;
use tokio::sync::{mpsc, watch};
use tokio::time::timeout;
use yonder_address::ServerAddress;

use crate::clock::Clock;
use crate::feed::{FeedCommand, FeedHandle, FeedSetup, FeedSnapshot};
use crate::find::{self, FindError, FindRequest, FoundCamera};
use crate::media_threads::{Heartbeats, MediaThreads};
use crate::placement::{self, Balancer};
use crate::preview::{self, PreviewMessage};
use crate::reach::{self, Reached};
use crate::spec::{FeedSpec, PushSpec, RelaySpec, UplinkSpec};
use crate::still::{Still, StillError};
use crate::survey::{self, StreamView, SurveyRequest, SurveyView, survey_stream};
use crate::sync::lock;
use crate::tasks::ClosingTasks;
use crate::tls::{self, PrivateAuthority};
use crate::view::{CauseView, FeedView, PushView, RelayView};
use crate::watched::Watcher;
use yonder_slate::SlateFolder;

/// How long connections may take to end in order at a shutdown.
const SHUTDOWN_TIMEOUT: Duration = Duration::from_secs(3);

#[derive(Debug)]
pub(crate) struct RunningFeed {
    pub(crate) handle: FeedHandle,
    spec: FeedSpec,
    /// Number of the media thread that it runs on, with its relays and their pushes.
    pub(crate) thread: usize,
    relays: BTreeMap<String, RunningRelay>,
}

/// A relay as it was last applied.
#[derive(Debug)]
struct RunningRelay {
    /// Number of the application. A snapshot of an older one may show pushes that were replaced.
    revision: u64,
    pushes: Vec<AppliedPush>,
}

#[derive(Debug)]
struct AppliedPush {
    spec: PushSpec,
    /// The push as it is shown until the feed has published it; `None` where the push ran before.
    started: Option<PushView>,
}

impl RunningRelay {
    fn new(pushes: &[PushSpec], before: Option<&Self>, clock: &Clock) -> Self {
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

    /// Returns the pushes: as `snapshot` has them, or as they were applied where it is older.
    fn views(&self, name: &str, snapshot: &FeedSnapshot, clock: &Clock) -> Vec<PushView> {
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

impl Running {
    /// Returns the feed that pulls a stream.
    pub(crate) fn feed_of(&self, spec: &FeedSpec) -> Option<&FeedHandle> {
        self.feeds.values().find(|feed| feed.spec.is_same(spec)).map(|feed| &feed.handle)
    }
}

impl RunningFeed {
    /// Number of connections that it reads or writes.
    pub(crate) fn connections(&self) -> usize {
        1 + self.relays.values().map(|relay| relay.pushes.len()).sum::<usize>()
    }
}

#[derive(Debug, Default)]
pub(crate) struct Running {
    pub(crate) feeds: HashMap<String, RunningFeed>,
    /// Feeds of the relays.
    relays: BTreeMap<String, String>,
}

/// Runs feeds and pushes on a tokio runtime. Clones share everything.
#[derive(Debug, Clone)]
pub struct Engine {
    runtime: Handle,
    /// Runtimes of the media threads; at least one.
    media: Arc<[Handle]>,
    heartbeats: Option<Heartbeats>,
    /// Moves feeds between media threads; `None` where there is one only.
    _balancer: Option<Arc<Balancer>>,
    clock: Clock,
    running: Arc<Mutex<Running>>,
    /// Streams that viewers watch.
    watcher: Watcher,
    /// Connections that end in order after their feed or viewer has gone.
    closing: ClosingTasks,
    /// Folder with the sources of slates, which outlive a restart.
    slates: Option<SlateFolder>,
    changes: watch::Sender<u64>,
}

impl Engine {
    /// An engine whose tasks run on `runtime`.
    #[must_use]
    pub fn new(runtime: Handle) -> Self {
        tls::preload_authorities(&runtime);
        let media = Arc::from([runtime.clone()]);
        let (clock, running, closing) = (Clock::default(), Arc::default(), ClosingTasks::default());
        Self {
            runtime,
            media,
            heartbeats: None,
            _balancer: None,
            clock,
            watcher: Watcher::new(clock, Arc::clone(&running), closing.clone()),
            running,
            closing,
            slates: None,
            changes: watch::Sender::new(0),
        }
    }

    /// An engine whose feeds and pushes run on `threads`, and everything else on `runtime`.
    #[must_use]
    pub fn with_media_threads(runtime: Handle, threads: &MediaThreads) -> Self {
        let heartbeats = threads.heartbeats();
        let media: Arc<[Handle]> = threads.handles().into();
        let engine = Self { media, heartbeats: Some(heartbeats.clone()), ..Self::new(runtime) };
        let balancer = (engine.media.len() > 1)
            .then(|| Arc::new(Balancer::start(&engine.runtime, &engine.running, heartbeats)));
        Self { _balancer: balancer, ..engine }
    }

    /// The same engine, which keeps the sources of slates in `folder`: a relay that ran when the service ended has a slate
    /// before its feed is back.
    #[must_use]
    pub fn with_slate_folder(self, folder: PathBuf) -> Self {
        Self { slates: Some(SlateFolder::new(folder)), ..self }
    }

    /// Ages of the media threads' heartbeats; none where feeds run on the common runtime.
    #[must_use]
    pub fn heartbeat_ages(&self) -> Vec<Duration> {
        self.heartbeats.as_ref().map(Heartbeats::ages).unwrap_or_default()
    }

    /// Tasks that are not done: feeds, and their children.
    #[must_use]
    pub fn tasks(&self) -> usize {
        let media = self.media.iter().filter(|media| media.id() != self.runtime.id());
        media.chain([&self.runtime]).map(|handle| handle.metrics().num_alive_tasks()).sum()
    }

    /// The runtime for everything but feeds and pushes.
    #[must_use]
    pub fn runtime(&self) -> &Handle {
        &self.runtime
    }

    /// Changes whenever a state changed. Figures change all the time and are not announced.
    #[must_use]
    pub fn changes(&self) -> watch::Receiver<u64> {
        self.changes.subscribe()
    }

    /// Starts a relay, or brings a running one to the given shape: only what differs is touched.
    pub fn apply(&self, spec: RelaySpec) {
        let RelaySpec { name, feed, pushes, hold } = spec;
        let mut running = lock(&self.running);
        if running.relays.get(&name).is_some_and(|current| *current != feed.name) {
            self.remove(&mut running, &name);
        }
        running.relays.insert(name.clone(), feed.name.clone());
        let feed = self.use_feed(&mut running, feed);
        let relay = RunningRelay::new(&pushes, feed.relays.get(&name), &self.clock);
        let revision = relay.revision;
        let is_new = feed.relays.insert(name.clone(), relay).is_none();
        // Read here, since a disk may block.
        let keyframe = self.slates.as_ref().filter(|_| is_new).and_then(|slates| slates.load(&name));
        feed.handle.send(FeedCommand::Apply { relay: name, revision, pushes, hold, keyframe });
    }

    /// Stops a relay; its broadcasts end in order, in the background.
    pub fn withdraw(&self, relay: &str) {
        self.remove(&mut lock(&self.running), relay);
        if let Some(slates) = &self.slates {
            yonder_slate::forget(slates, relay);
        }
        self.changes.send_modify(|count| *count += 1);
    }

    /// Begins or ends a hold that a person has asked for, and leaves everything else of the relay as it is; nothing happens where the
    /// relay does not run.
    pub fn hold(&self, relay: &str, wanted: bool) {
        self.send_to_relay(relay, FeedCommand::Hold { relay: relay.to_owned(), wanted });
    }

    /// Ends a push in order and connects to its platform again at once; nothing happens where it is not connected.
    pub fn roll_over(&self, relay: &str, destination: &str) {
        let (relay, destination) = (relay.to_owned(), destination.to_owned());
        self.send_to_relay(&relay.clone(), FeedCommand::RollOver { relay, destination });
    }

    fn send_to_relay(&self, relay: &str, command: FeedCommand) {
        let running = lock(&self.running);
        let feed = running.relays.get(relay).and_then(|feed| running.feeds.get(feed));
        if let Some(feed) = feed {
            feed.handle.send(command);
        }
    }

    /// Brings a running feed to another address; nothing happens to one that does not run.
    pub fn update_feed(&self, spec: FeedSpec) {
        if let Some(running) = lock(&self.running).feeds.get_mut(&spec.name) {
            running.spec = spec.clone();
            running.handle.send(FeedCommand::SetSpec(spec));
        }
    }

    /// Moves a running feed, with its relays, to the media thread with this number, without a gap. Nothing happens where the
    /// feed does not run or there is no such thread.
    pub fn move_feed(&self, feed: &str, thread: usize) {
        let mut running = lock(&self.running);
        if let Some(running) = running.feeds.get_mut(feed).filter(|_| thread < self.media.len()) {
            placement::move_feed(running, thread);
        }
    }

    /// Returns the number of the media thread that a running feed is on.
    #[must_use]
    pub fn thread_of(&self, feed: &str) -> Option<usize> {
        lock(&self.running).feeds.get(feed).map(|running| running.thread)
    }

    /// Makes a part of a running relay panic, as a fault in it would. For tests.
    #[cfg(debug_assertions)]
    pub fn panic_in(&self, relay: &str, place: crate::feed::PanicPlace) {
        self.send_to_relay(relay, FeedCommand::Panic(place, relay.to_owned()));
    }

    /// Returns a running relay as its feed's last snapshot shows it.
    #[must_use]
    pub fn relay(&self, name: &str) -> Option<RelayView> {
        let running = lock(&self.running);
        let feed = running.feeds.get(running.relays.get(name)?)?;
        let snapshot = feed.handle.snapshot();
        let pushes = feed.relays.get(name)?.views(name, &snapshot, &self.clock);
        Some(RelayView { name: name.to_owned(), feed: snapshot.feed(self.clock), pushes })
    }

    /// Returns a running feed as its last snapshot shows it.
    #[must_use]
    pub fn feed(&self, name: &str) -> Option<FeedView> {
        lock(&self.running).feeds.get(name).map(|running| running.handle.snapshot().feed(self.clock))
    }

    /// Returns all running relays and all running feeds as their last snapshots show them, in order of their names. A feed that
    /// runs for several relays is listed once.
    #[must_use]
    pub fn running(&self) -> (Vec<RelayView>, Vec<FeedView>) {
        let running = lock(&self.running);
        let (mut relays, mut feeds) = (Vec::new(), Vec::new());
        for feed in running.feeds.values() {
            let snapshot = feed.handle.snapshot();
            let view = snapshot.feed(self.clock);
            for (name, relay) in &feed.relays {
                let pushes = relay.views(name, &snapshot, &self.clock);
                relays.push(RelayView { name: name.clone(), feed: view.clone(), pushes });
            }
            feeds.push(view);
        }
        drop(running);
        relays.sort_by(|a, b| a.name.cmp(&b.name));
        feeds.sort_by(|a, b| a.name.cmp(&b.name));
        (relays, feeds)
    }

    /// Surveys a feed: its streams are watched together. `tell` hears how it goes on, about once a second, and at
    /// last the outcome, which is returned as well.
    ///
    /// # Cancel safety
    /// When dropped, what was pulled for the survey alone ends in order.
    pub async fn survey(&self, request: SurveyRequest, tell: impl Fn(&SurveyView) + Sync) -> SurveyView {
        let begun =
            SurveyView { sub: request.sub.as_ref().map(|_| StreamView::default()), ..SurveyView::default() };
        let view = Mutex::new(begun);
        let report = |change: &dyn Fn(&mut SurveyView)| {
            let mut view = lock(&view);
            change(&mut view);
            tell(&view);
        };
        let watch = |spec: FeedSpec| {
            let (address, watched) = (spec.url.to_string(), self.watcher.watch(spec));
            watched.retry_if_blocked();
            (address, watched)
        };
        let (main_address, main) = watch(request.main);
        let watched_sub = request.sub.map(watch);
        let main = survey_stream(main, main_address, request.duration, |main| {
            report(&|view| view.main = main.clone());
        });
        let sub = async {
            let (address, watched) = watched_sub?;
            let tell = |sub: StreamView| report(&|view| view.sub = Some(sub.clone()));
            Some(survey_stream(watched, address, request.duration, tell).await)
        };
        let (main, sub) = tokio::join!(main, sub);
        let advice = survey::advice(&main, sub.as_ref());
        let done = SurveyView { main, sub, advice, done: true };
        tell(&done);
        done
    }

    /// A still picture of a stream, which is pulled for a moment where no feed pulls it.
    ///
    /// # Errors
    /// The cause for which no picture can be had at all, or why this one cannot be shown.
    ///
    /// # Cancel safety
    /// As [`Engine::survey`].
    pub async fn still(&self, spec: FeedSpec) -> Result<Result<Still, StillError>, CauseView> {
        let watched = self.watcher.watch(spec);
        // A page with many stills must not wait for cameras that are known to be absent.
        if let Some(cause) = watched.absence() {
            return Err(cause);
        }
        let keyframe = watched.keyframe().await?;
        Ok(survey::decode(keyframe).await)
    }

    /// Sends a live preview of a stream to `viewer`, until it goes away or the stream ends. The pull of a feed that runs is used;
    /// otherwise all viewers of the stream share a pull of their own.
    ///
    /// # Cancel safety
    /// As [`Engine::survey`].
    pub async fn preview(&self, spec: FeedSpec, viewer: mpsc::Sender<PreviewMessage>) {
        preview::run(self.watcher.watch(spec), viewer).await;
    }

    /// Probes a platform's server, over an uplink where one is given, without sending anything secret: name, port, and
    /// TLS or SRT's first answer.
    ///
    /// # Errors
    /// The cause for which a push would not get this far.
    ///
    /// # Cancel safety
    /// When dropped, the connection is closed.
    pub async fn reach(
        &self,
        server: &ServerAddress,
        authority: Option<&PrivateAuthority>,
        uplink: Option<&UplinkSpec>,
    ) -> Result<Reached, CauseView> {
        reach::probe(server, authority, uplink).await.map_err(|cause| CauseView::from(&cause))
    }

    /// Looks for cameras, and asks each what it streams.
    ///
    /// # Errors
    /// [`FindError`] when nothing could be asked at all.
    ///
    /// # Cancel safety
    /// When dropped, requests that were sent are completed in the background, within some seconds.
    pub async fn find(&self, request: FindRequest) -> Result<Vec<FoundCamera>, FindError> {
        find::find(request).await
    }

    /// Ends everything in order, within three seconds: the pushes of each feed before the feed.
    ///
    /// # Cancel safety
    /// When dropped before it is done, the rest is ended without a farewell by the runtime.
    pub async fn shutdown(&self) {
        let feeds = {
            let mut running = lock(&self.running);
            running.relays.clear();
            std::mem::take(&mut running.feeds)
        };
        let ends = join_all(feeds.into_values().map(|feed| feed.handle.end()));
        let all_ended = timeout(SHUTDOWN_TIMEOUT, ends).await.is_ok();
        if !all_ended || !self.closing.finish(SHUTDOWN_TIMEOUT).await {
            tracing::warn!("some connections did not end in order");
        }
    }

    /// Returns the feed, which is started where it does not run: on the media thread with the least load.
    fn use_feed<'a>(&self, running: &'a mut Running, spec: FeedSpec) -> &'a mut RunningFeed {
        if !running.feeds.get(&spec.name).is_some_and(|feed| feed.spec.is_same(&spec)) {
            self.watcher.end_pull(&spec);
        }
        let thread = placement::least_loaded(&running.feeds, self.media.len());
        let feed = running.feeds.entry(spec.name.clone()).or_insert_with(|| {
            let setup =
                FeedSetup { clock: self.clock, changes: self.changes.clone(), slates: self.slates.clone() };
            let handle =
                FeedHandle::start(setup, spec.clone(), &self.runtime, Arc::clone(&self.media), thread);
            RunningFeed { handle, spec: spec.clone(), thread, relays: BTreeMap::new() }
        });
        if !feed.spec.is_same(&spec) {
            feed.handle.send(FeedCommand::SetSpec(spec.clone()));
        }
        feed.spec = spec;
        feed
    }

    fn remove(&self, running: &mut Running, relay: &str) {
        let Some(name) = running.relays.remove(relay) else { return };
        let Some(feed) = running.feeds.get_mut(&name) else { return };
        feed.relays.remove(relay);
        if !feed.relays.is_empty() {
            feed.handle.send(FeedCommand::Remove(relay.to_owned()));
        } else if let Some(unused) = running.feeds.remove(&name) {
            self.closing.spawn(&self.runtime, async move {
                // One that does not end by itself is aborted with its handle.
                let _ended = timeout(SHUTDOWN_TIMEOUT, unused.handle.end()).await;
            });
        }
    }
}
