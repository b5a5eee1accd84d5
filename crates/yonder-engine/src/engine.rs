//! The engine: which feeds and pushes run, as the rest of the service sees it.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use tokio::runtime::Handle;
use tokio::sync::{mpsc, watch};
use tokio::task::JoinHandle;
use yonder_address::ServerAddress;

use crate::clock::Clock;
use crate::feed::{self, Feed, lock};
use crate::find::{self, FindError, FindRequest, FoundCamera};
use crate::lanes::Lanes;
use crate::preview::{self, PreviewMessage};
use crate::program::{self, Program};
use crate::push::{self, Push};
use crate::reach::{self, Reached};
use crate::spec::{FeedSpec, PushSpec, RelaySpec, UplinkSpec};
use crate::still::{Still, StillError};
use crate::survey::{self, StreamView, SurveyRequest, SurveyView, Watched, survey_stream};
use crate::tls::PrivateAuthority;
use crate::view::{CauseView, FeedView, RelayView};

/// How long deliveries may take to end in order at a shutdown.
const SHUTDOWN_PATIENCE: Duration = Duration::from_secs(3);

#[derive(Debug)]
struct RunningFeed {
    feed: Arc<Feed>,
    /// Number of the lane that it runs on, with its relays and their pushes.
    lane: usize,
    task: JoinHandle<()>,
    /// Relays that use it.
    users: BTreeSet<String>,
}

#[derive(Debug)]
struct RunningPush {
    push: Arc<Push>,
    task: JoinHandle<()>,
}

#[derive(Debug)]
struct RunningRelay {
    feed: String,
    program: Arc<Program>,
    /// Decides what the program shows.
    task: JoinHandle<()>,
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
    /// One at least.
    lanes: Arc<[Handle]>,
    clock: Clock,
    running: Arc<Mutex<Running>>,
    changes: watch::Sender<u64>,
}

impl Engine {
    /// An engine whose tasks run on `runtime`.
    #[must_use]
    pub fn new(runtime: Handle) -> Self {
        let lanes = Arc::from([runtime.clone()]);
        Self {
            runtime,
            lanes,
            clock: Clock::default(),
            running: Arc::default(),
            changes: watch::Sender::new(0),
        }
    }

    /// An engine whose feeds and pushes run on `lanes`, and everything else on `runtime`.
    #[must_use]
    pub fn with_lanes(runtime: Handle, lanes: &Lanes) -> Self {
        Self { lanes: lanes.handles().into(), ..Self::new(runtime) }
    }

    /// Tasks that are not done: pulls, pushes, and what watches them.
    #[must_use]
    pub fn tasks(&self) -> usize {
        let lanes = self.lanes.iter().filter(|lane| lane.id() != self.runtime.id());
        lanes.chain([&self.runtime]).map(|handle| handle.metrics().num_alive_tasks()).sum()
    }

    fn lane(&self, number: usize) -> &Handle {
        self.lanes.get(number).unwrap_or(&self.runtime)
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
        let (feed, lane) = self.use_feed(&mut running, spec.feed, &spec.name);
        let name = spec.name;
        let relay = running.relays.entry(name).or_insert_with_key(|name| {
            let program = Program::new(name, Arc::clone(&feed), spec.hold.clone(), self.changes.clone());
            feed.attach(&program);
            let task = self.lane(lane).spawn(program::supervise(Arc::clone(&program)));
            RunningRelay { feed: feed.spec().name, program, task, pushes: Vec::new() }
        });
        relay.program.set_hold(spec.hold);
        let program = Arc::clone(&relay.program);
        let mut before = std::mem::take(&mut relay.pushes);
        for push in spec.pushes {
            let at = before.iter().position(|running| running.push.spec.destination == push.destination);
            match at.map(|at| before.remove(at)) {
                Some(kept) if kept.push.spec.is_same(&push) => {
                    kept.push.want(true);
                    relay.pushes.push(kept);
                }
                replaced => {
                    if let Some(replaced) = replaced {
                        replaced.push.want(false);
                    }
                    relay.pushes.push(self.start_push(push, &program, lane));
                }
            }
        }
        for removed in before {
            removed.push.want(false);
        }
        feed.want(true);
    }

    /// Stops a relay; its broadcasts end in order, in the background.
    pub fn withdraw(&self, relay: &str) {
        self.remove(&mut lock(&self.running), relay);
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

    /// Knocks at a platform's server, by an uplink where one is given, without saying anything secret: name, port, and
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
        reach::knock(server, authority, uplink).await.map_err(|cause| CauseView::from(&cause))
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
        running.map_or_else(|| Watched::pulled(spec, self.clock), Watched::shared)
    }

    /// Ends everything in order.
    ///
    /// # Cancel safety
    /// When dropped before it is done, what has not ended yet is ended without a farewell by the runtime.
    pub async fn shutdown(&self) {
        let tasks: Vec<JoinHandle<()>> = {
            let mut running = lock(&self.running);
            let relays = std::mem::take(&mut running.relays);
            for feed in running.feeds.values() {
                feed.feed.want(false);
            }
            relays
                .into_values()
                .flat_map(|relay| relay.pushes)
                .map(|running| {
                    running.push.want(false);
                    running.task
                })
                .collect()
        };
        let all_ended = async {
            for task in tasks {
                // A task that panicked has ended as well.
                let _ended = task.await;
            }
        };
        if tokio::time::timeout(SHUTDOWN_PATIENCE, all_ended).await.is_err() {
            tracing::warn!("some broadcasts did not end in order");
        }
        for (_, feed) in lock(&self.running).feeds.drain() {
            feed.task.abort();
        }
    }

    /// The feed, which runs from now on at the latest, and its lane: a new one gets that with the fewest.
    fn use_feed(&self, running: &mut Running, spec: FeedSpec, relay: &str) -> (Arc<Feed>, usize) {
        let name = spec.name.clone();
        let feeds_on = |lane: &usize| running.feeds.values().filter(|other| other.lane == *lane).count();
        let lane = (0..self.lanes.len()).min_by_key(feeds_on).unwrap_or_default();
        let entry = running.feeds.entry(name).or_insert_with(|| {
            let feed = Feed::new(spec.clone(), self.clock, self.changes.clone());
            let task = self.lane(lane).spawn(feed::supervise(Arc::clone(&feed)));
            RunningFeed { feed, lane, task, users: BTreeSet::new() }
        });
        entry.feed.set_spec(spec);
        entry.users.insert(relay.to_owned());
        (Arc::clone(&entry.feed), entry.lane)
    }

    fn start_push(&self, spec: PushSpec, program: &Arc<Program>, lane: usize) -> RunningPush {
        let push = Push::new(spec, Arc::clone(program), self.changes.clone());
        push.want(true);
        push.note_source();
        let task = self.lane(lane).spawn(push::supervise(Arc::clone(&push)));
        RunningPush { push, task }
    }

    fn remove(&self, running: &mut Running, name: &str) {
        let Some(relay) = running.relays.remove(name) else { return };
        for running in relay.pushes {
            running.push.want(false);
        }
        relay.task.abort();
        let Some(feed) = running.feeds.get_mut(&relay.feed) else { return };
        feed.feed.detach(&relay.program);
        feed.users.remove(name);
        if !feed.users.is_empty() {
            return;
        }
        if let Some(unused) = running.feeds.remove(&relay.feed) {
            unused.feed.want(false);
            // The pull hangs up by itself; its supervisor then has nothing left to do.
            let task = unused.task;
            self.runtime.spawn(async move {
                tokio::time::sleep(SHUTDOWN_PATIENCE).await;
                task.abort();
            });
        }
    }
}
