//! The engine: which feeds and pushes run, as the rest of the service sees it.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::path::PathBuf;
use std::sync::{Arc, Mutex};
use std::time::Duration;

use tokio::runtime::Handle;
use tokio::sync::{mpsc, watch};
use tokio::time::timeout;
use tokio_util::task::AbortOnDropHandle;
use yonder_address::ServerAddress;
use yonder_media::timeline::Timeline;

use crate::clock::Clock;
use crate::feed::{self, Feed, lock};
use crate::find::{self, FindError, FindRequest, FoundCamera};
use crate::media_threads::{Heartbeats, MediaThreads};
use crate::output::{self, RelayOutput};
use crate::preview::{self, PreviewMessage};
use crate::push::{self, Push};
use crate::reach::{self, Reached};
use crate::slate::{self, SlateFolder};
use crate::spec::{FeedSpec, PushSpec, RelaySpec, UplinkSpec};
use crate::still::{Still, StillError};
use crate::survey::{self, StreamView, SurveyRequest, SurveyView, Watched, survey_stream};
use crate::tasks::{ClosingTasks, restart_on_panic};
use crate::tls::{self, PrivateAuthority};
use crate::view::{CauseView, FeedView, RelayView};

/// How long deliveries may take to end in order at a shutdown.
const SHUTDOWN_TIMEOUT: Duration = Duration::from_secs(3);

/// Task that ends with its handle.
type OwnedTask = AbortOnDropHandle<()>;

#[derive(Debug)]
struct RunningFeed {
    feed: Arc<Feed>,
    /// Number of the media thread that it runs on, with its relays and their pushes.
    thread: usize,
    task: OwnedTask,
    /// Relays that use it.
    users: BTreeSet<String>,
}

#[derive(Debug)]
struct RunningPush {
    push: Arc<Push>,
    task: OwnedTask,
}

#[derive(Debug)]
struct RunningRelay {
    feed: String,
    output: Arc<RelayOutput>,
    /// Supervisor of the output.
    _task: OwnedTask,
    pushes: Vec<RunningPush>,
}

#[derive(Debug, Default)]
struct Running {
    feeds: HashMap<String, RunningFeed>,
    relays: BTreeMap<String, RunningRelay>,
}

/// Runs feeds and pushes on a tokio runtime. Clones share everything.
#[derive(Debug, Clone)]
pub struct Engine {
    runtime: Handle,
    /// Runtimes of the media threads; at least one.
    media: Arc<[Handle]>,
    heartbeats: Option<Heartbeats>,
    clock: Clock,
    running: Arc<Mutex<Running>>,
    /// Connections that end in order after their feed, push or viewer has gone.
    closing: ClosingTasks,
    /// Where the sources of slates are kept over a restart.
    slates: Option<SlateFolder>,
    changes: watch::Sender<u64>,
}

impl Engine {
    /// An engine whose tasks run on `runtime`.
    #[must_use]
    pub fn new(runtime: Handle) -> Self {
        tls::preload_authorities(&runtime);
        let media = Arc::from([runtime.clone()]);
        Self {
            runtime,
            media,
            heartbeats: None,
            clock: Clock::default(),
            running: Arc::default(),
            closing: ClosingTasks::default(),
            slates: None,
            changes: watch::Sender::new(0),
        }
    }

    /// An engine whose feeds and pushes run on `threads`, and everything else on `runtime`.
    #[must_use]
    pub fn with_media_threads(runtime: Handle, threads: &MediaThreads) -> Self {
        let heartbeats = Some(threads.heartbeats());
        Self { media: threads.handles().into(), heartbeats, ..Self::new(runtime) }
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

    /// Tasks that are not done: pulls, pushes, and what watches them.
    #[must_use]
    pub fn tasks(&self) -> usize {
        let media = self.media.iter().filter(|media| media.id() != self.runtime.id());
        media.chain([&self.runtime]).map(|handle| handle.metrics().num_alive_tasks()).sum()
    }

    fn media_thread(&self, number: usize) -> &Handle {
        self.media.get(number).unwrap_or(&self.runtime)
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
        let mut running = lock(&self.running);
        let moved = running.relays.get(&spec.name).is_some_and(|relay| relay.feed != spec.feed.name);
        if moved {
            self.remove(&mut running, &spec.name);
        }
        let (feed, thread) = self.use_feed(&mut running, spec.feed, &spec.name);
        let name = spec.name;
        let relay = running.relays.entry(name).or_insert_with_key(|name| {
            let output = RelayOutput::new(
                name,
                Arc::clone(&feed),
                spec.hold.clone(),
                self.changes.clone(),
                self.slates.clone(),
            );
            feed.attach(&output);
            let (supervised, relay) = (Arc::clone(&output), name.clone());
            let task = self.own(thread, async move {
                restart_on_panic("output", &relay, || output::supervise(Arc::clone(&supervised))).await;
            });
            RunningRelay { feed: feed.spec().name, output, _task: task, pushes: Vec::new() }
        });
        relay.output.set_hold(spec.hold);
        let output = Arc::clone(&relay.output);
        let mut before = std::mem::take(&mut relay.pushes);
        for push in spec.pushes {
            let at = before.iter().position(|running| running.push.spec.destination == push.destination);
            match at.map(|at| before.remove(at)) {
                Some(kept) if kept.push.spec.has_same_identity(&push) => {
                    kept.push.apply_policy(&push);
                    kept.push.set_enabled(true);
                    relay.pushes.push(kept);
                }
                replaced => {
                    // The successor waits for the end of its predecessor, which would keep the key busy.
                    let predecessor = replaced.map(|replaced| {
                        replaced.push.set_enabled(false);
                        replaced.task
                    });
                    relay.pushes.push(self.start_push(push, &output, thread, predecessor));
                }
            }
        }
        for removed in before {
            self.close_push(removed);
        }
        feed.set_enabled(true);
    }

    /// Stops a relay; its broadcasts end in order, in the background.
    pub fn withdraw(&self, relay: &str) {
        self.remove(&mut lock(&self.running), relay);
        if let Some(slates) = &self.slates {
            slate::forget(slates, relay);
        }
        self.changes.send_modify(|count| *count += 1);
    }

    /// Ends a push in order and dials its platform anew at once; nothing happens where it is not connected.
    pub fn roll_over(&self, relay: &str, destination: &str) {
        let running = lock(&self.running);
        let pushes = running.relays.get(relay).into_iter().flat_map(|relay| &relay.pushes);
        for running in pushes.filter(|running| running.push.spec.destination == destination) {
            running.push.roll_over();
        }
    }

    /// Brings a running feed to another address; nothing happens to one that does not run.
    pub fn update_feed(&self, spec: FeedSpec) {
        if let Some(running) = lock(&self.running).feeds.get(&spec.name) {
            running.feed.set_spec(spec);
        }
    }

    /// A running relay at this moment.
    #[must_use]
    pub fn relay(&self, name: &str) -> Option<RelayView> {
        let running = lock(&self.running);
        let relay = running.relays.get(name)?;
        let feed = running.feeds.get(&relay.feed)?;
        Some(RelayView {
            name: name.to_owned(),
            feed: feed.feed.view(),
            pushes: relay.pushes.iter().map(|running| running.push.view()).collect(),
        })
    }

    /// A running feed at this moment.
    #[must_use]
    pub fn feed(&self, name: &str) -> Option<FeedView> {
        lock(&self.running).feeds.get(name).map(|running| running.feed.view())
    }

    /// Surveys a feed: its streams are watched together. `tell` hears how it goes on, about once a second, and at
    /// last the outcome, which is returned as well.
    ///
    /// # Cancel safety
    /// When dropped, what was pulled for the survey alone hangs up.
    pub async fn survey(&self, request: SurveyRequest, tell: impl Fn(&SurveyView) + Sync) -> SurveyView {
        let begun =
            SurveyView { sub: request.sub.as_ref().map(|_| StreamView::default()), ..SurveyView::default() };
        let view = Mutex::new(begun);
        let report = |change: &dyn Fn(&mut SurveyView)| {
            let mut view = lock(&view);
            change(&mut view);
            tell(&view);
        };
        let watch_main = self.watch(request.main);
        let watch_sub = request.sub.map(|sub| self.watch(sub));
        let main =
            survey_stream(watch_main, request.duration, |main| report(&|view| view.main = main.clone()));
        let sub = async {
            let watched = watch_sub?;
            let tell = |sub: StreamView| report(&|view| view.sub = Some(sub.clone()));
            Some(survey_stream(watched, request.duration, tell).await)
        };
        let (main, sub) = tokio::join!(main, sub);
        let advice = survey::advice(&main, sub.as_ref());
        let done = SurveyView { main, sub, advice, done: true };
        tell(&done);
        done
    }

    /// A still picture of a stream: of the one that runs, or of one that is pulled for a moment.
    ///
    /// # Errors
    /// The cause for which no picture can be had at all, or why this one cannot be shown.
    ///
    /// # Cancel safety
    /// As [`Engine::survey`].
    pub async fn still(&self, spec: FeedSpec) -> Result<Result<Still, StillError>, CauseView> {
        let mut watched = self.watch(spec);
        match watched.keyframe().await {
            Ok(entry) => Ok(survey::decode(entry).await),
            Err(cause) => Err(CauseView::from(&cause)),
        }
    }

    /// Sends a live preview of a stream to `viewer`, until it goes away or the stream ends: of the one that runs, or
    /// of one that is pulled for this.
    ///
    /// # Cancel safety
    /// As [`Engine::survey`].
    pub async fn preview(&self, spec: FeedSpec, viewer: mpsc::Sender<PreviewMessage>) {
        preview::run(self.watch(spec), viewer).await;
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
    /// When dropped, what was asked already goes on to its end in the background, for some seconds at most.
    pub async fn find(&self, request: FindRequest) -> Result<Vec<FoundCamera>, FindError> {
        find::find(request).await
    }

    /// The feed that pulls just this stream already and flows, or a pull of its own.
    fn watch(&self, spec: FeedSpec) -> Watched {
        let running = {
            let running = lock(&self.running);
            let mut feeds = running.feeds.values().map(|running| &running.feed);
            feeds.find(|feed| feed.spec().is_same(&spec) && feed.signal().borrow().flows).map(Arc::clone)
        };
        running.map_or_else(|| Watched::pulled(spec, self.clock, &self.closing), Watched::shared)
    }

    /// Ends everything in order.
    ///
    /// # Cancel safety
    /// When dropped before it is done, what has not ended yet is ended without a farewell by the runtime.
    pub async fn shutdown(&self) {
        let relays = {
            let mut running = lock(&self.running);
            let relays = std::mem::take(&mut running.relays);
            for (_, feed) in running.feeds.drain() {
                self.close_feed(feed);
            }
            relays
        };
        for push in relays.into_values().flat_map(|relay| relay.pushes) {
            self.close_push(push);
        }
        if !self.closing.finish(SHUTDOWN_TIMEOUT).await {
            tracing::warn!("some connections did not end in order");
        }
    }

    /// Starts a task on a media thread.
    fn own(&self, thread: usize, task: impl Future<Output = ()> + Send + 'static) -> OwnedTask {
        AbortOnDropHandle::new(self.media_thread(thread).spawn(task))
    }

    /// Lets a push end in order, in the background.
    fn close_push(&self, running: RunningPush) {
        running.push.set_enabled(false);
        self.closing.spawn(&self.runtime, async move {
            // One that does not end by itself is aborted with its handle.
            let _ended = timeout(SHUTDOWN_TIMEOUT, running.task).await;
        });
    }

    /// Lets a feed end in order, in the background.
    fn close_feed(&self, running: RunningFeed) {
        running.feed.retire();
        self.closing.spawn(&self.runtime, async move {
            let _ended = timeout(SHUTDOWN_TIMEOUT, running.task).await;
        });
    }

    /// Returns the feed, which is started where it does not run, and its media thread: for a new one that with the fewest
    /// feeds.
    fn use_feed(&self, running: &mut Running, spec: FeedSpec, relay: &str) -> (Arc<Feed>, usize) {
        let name = spec.name.clone();
        let feeds_on =
            |thread: &usize| running.feeds.values().filter(|other| other.thread == *thread).count();
        let thread = (0..self.media.len()).min_by_key(feeds_on).unwrap_or_default();
        let entry = running.feeds.entry(name).or_insert_with_key(|name| {
            let feed = Feed::new(spec.clone(), self.clock, self.changes.clone());
            let (supervised, name) = (Arc::clone(&feed), name.clone());
            let timeline = Arc::new(tokio::sync::Mutex::new(Timeline::new(Duration::ZERO)));
            let task = self.own(thread, async move {
                let start = || feed::supervise(Arc::clone(&supervised), Arc::clone(&timeline));
                restart_on_panic("feed", &name, start).await;
            });
            RunningFeed { feed, thread, task, users: BTreeSet::new() }
        });
        entry.feed.set_spec(spec);
        entry.users.insert(relay.to_owned());
        (Arc::clone(&entry.feed), entry.thread)
    }

    fn start_push(
        &self,
        spec: PushSpec,
        output: &Arc<RelayOutput>,
        thread: usize,
        predecessor: Option<OwnedTask>,
    ) -> RunningPush {
        let push = Push::new(spec, Arc::clone(output), self.changes.clone());
        push.set_enabled(true);
        push.note_source();
        let supervised = Arc::clone(&push);
        let task = self.own(thread, async move {
            if let Some(predecessor) = predecessor {
                let _ended = timeout(SHUTDOWN_TIMEOUT, predecessor).await;
            }
            let name = format!("{} to {}", supervised.relay, supervised.spec.destination);
            restart_on_panic("push", &name, || push::supervise(Arc::clone(&supervised))).await;
        });
        RunningPush { push, task }
    }

    fn remove(&self, running: &mut Running, name: &str) {
        let Some(relay) = running.relays.remove(name) else { return };
        let output = relay.output;
        for push in relay.pushes {
            self.close_push(push);
        }
        let Some(feed) = running.feeds.get_mut(&relay.feed) else { return };
        feed.feed.detach(&output);
        feed.users.remove(name);
        if feed.users.is_empty()
            && let Some(unused) = running.feeds.remove(&relay.feed)
        {
            self.close_feed(unused);
        }
    }
}
