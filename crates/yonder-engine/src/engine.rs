//! Engine: running feeds, relays and pushes, as seen by the rest of the service.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use futures_util::future::join_all;
use parking_lot::Mutex;
use tokio::runtime::Handle;
use tokio::sync::{mpsc, oneshot, watch};
use tokio::time::timeout;
use yonder_address::ServerAddress;
use yonder_core::preflight::FeedFacts;
use yonder_core::rendition::{Adapt, Rendition, Selection, browser_requirements, browser_rules};
use yonder_core::tuning::EncoderSettings;
use yonder_ingest::Publisher;
use yonder_media::Frame;
use yonder_media::hls::LiveWindow;

use crate::clock::Clock;
use crate::device::{self, CameraTarget, EncoderReport, SetReport, TuneError};
use crate::feed::{FeedCommand, FeedHandle, FeedSetup};
use crate::find::{self, FindError, FindRequest, FoundCamera};
use crate::lease::LeaseRegistry;
use crate::media_threads::{Heartbeats, MediaThreads};
use crate::output::hls::HlsStreams;
use crate::output::slate_key;
use crate::placement::{self, Balancer};
use crate::preview::{self, PreviewMessage};
use crate::reachability::{self, ProbeReport};
use crate::running::{Running, RunningFeed, RunningRelay};
use crate::source::DigestHosts;
use crate::spec::{FeedSpec, PushSpec, RelaySpec, UplinkSpec};
use crate::still::{Still, StillError};
use crate::survey::{self, StreamView, SurveyRequest, SurveyView, survey_stream};
use crate::tasks::ClosingTasks;
use crate::tls::{self, PrivateAuthority};
use crate::view::{CauseView, FeedView, RelayView};
use yonder_slate::SlateFolder;

/// Maximum duration of orderly ends at a shutdown.
const SHUTDOWN_TIMEOUT: Duration = Duration::from_secs(3);

/// Runs feeds and pushes on a tokio runtime. Clones share the state.
#[derive(Debug, Clone)]
pub struct Engine {
    runtime: Handle,
    /// Runtimes of the media threads; at least one.
    media: Arc<[Handle]>,
    heartbeats: Option<Heartbeats>,
    /// Balancer of feeds between media threads; `None` if there is only one thread.
    _balancer: Option<Arc<Balancer>>,
    clock: Clock,
    running: Arc<Mutex<Running>>,
    /// Leases of streams for viewers.
    leases: LeaseRegistry,
    /// Hosts that have offered Digest.
    digest_hosts: DigestHosts,
    /// Connections that are closing after the end of their feed or viewer.
    closing: ClosingTasks,
    /// Folder of slate sources, which survive a restart.
    slates: Option<SlateFolder>,
    hls: HlsStreams,
    changes: watch::Sender<u64>,
}

impl Engine {
    /// Creates an engine whose tasks run on `runtime`.
    #[must_use]
    pub fn new(runtime: Handle) -> Self {
        tls::preload_authorities(&runtime);
        let media = Arc::from([runtime.clone()]);
        let (clock, running, closing) = (Clock::default(), Arc::default(), ClosingTasks::default());
        let digest_hosts = DigestHosts::default();
        Self {
            runtime,
            media,
            heartbeats: None,
            _balancer: None,
            clock,
            leases: LeaseRegistry::new(clock, digest_hosts.clone(), Arc::clone(&running), closing.clone()),
            digest_hosts,
            running,
            closing,
            slates: None,
            hls: HlsStreams::default(),
            changes: watch::Sender::new(0),
        }
    }

    /// Creates an engine whose feeds and pushes run on `threads`, and all other tasks on `runtime`.
    #[must_use]
    pub fn with_media_threads(runtime: Handle, threads: &MediaThreads) -> Self {
        let heartbeats = threads.heartbeats();
        let media: Arc<[Handle]> = threads.handles().into();
        let engine = Self { media, heartbeats: Some(heartbeats.clone()), ..Self::new(runtime) };
        let balancer = (engine.media.len() > 1)
            .then(|| Arc::new(Balancer::start(&engine.runtime, &engine.running, heartbeats)));
        Self { _balancer: balancer, ..engine }
    }

    /// Sets the folder of slate sources: a relay that was running when the service ended has a slate before its feed is back.
    #[must_use]
    pub fn with_slate_folder(self, folder: PathBuf) -> Self {
        Self { slates: Some(SlateFolder::new(folder)), ..self }
    }

    /// Returns the ages of the media threads' heartbeats; empty if feeds run on the common runtime.
    #[must_use]
    pub fn heartbeat_ages(&self) -> Vec<Duration> {
        self.heartbeats.as_ref().map(Heartbeats::ages).unwrap_or_default()
    }

    /// Returns the number of unfinished tasks: feeds, and their children.
    #[must_use]
    pub fn tasks(&self) -> usize {
        let media = self.media.iter().filter(|media| media.id() != self.runtime.id());
        media.chain([&self.runtime]).map(|handle| handle.metrics().num_alive_tasks()).sum()
    }

    /// Returns the runtime for everything but feeds and pushes.
    #[must_use]
    pub fn runtime(&self) -> &Handle {
        &self.runtime
    }

    /// Returns a receiver that changes with each state. Statistics change continuously and are not announced.
    #[must_use]
    pub fn changes(&self) -> watch::Receiver<u64> {
        self.changes.subscribe()
    }

    /// Starts a relay, or applies a changed specification to a running one without touching unchanged parts.
    pub fn apply(&self, spec: RelaySpec) {
        let RelaySpec { name, feed, pushes, hold, hls } = spec;
        let mut running = self.running.lock();
        if running.relays.get(&name).is_some_and(|current| *current != feed.name) {
            self.remove(&mut running, &name);
        }
        running.relays.insert(name.clone(), feed.name.clone());
        let feed = self.use_feed(&mut running, feed);
        let relay = RunningRelay::new(&pushes, feed.relays.get(&name), &self.clock);
        let revision = relay.revision;
        let is_new = feed.relays.insert(name.clone(), relay).is_none();
        // Loaded here, since reading may block.
        let slates = self.slates.as_ref().filter(|_| is_new);
        let keyframes = slates
            .map(|slates| load_slates(slates, &name, &pushes, hls, feed.spec.measured.as_ref()))
            .unwrap_or_default();
        feed.handle.send(FeedCommand::Apply { relay: name, revision, pushes, hold, hls, keyframes });
    }

    /// Stops a relay; its broadcasts end in order, in the background.
    pub fn withdraw(&self, relay: &str) {
        self.remove(&mut self.running.lock(), relay);
        if let Some(slates) = &self.slates {
            yonder_slate::forget(slates, relay);
        }
        self.hls.remove_later(relay, &self.runtime);
        self.changes.send_modify(|count| *count += 1);
    }

    /// Returns the HLS stream of a relay, also for a short time after its end; `None` if there is none.
    #[must_use]
    pub fn hls(&self, relay: &str) -> Option<watch::Receiver<Arc<LiveWindow>>> {
        self.hls.get(relay)
    }

    /// Begins or ends a hold requested by an operator. Without effect if the relay does not run.
    pub fn hold(&self, relay: &str, wanted: bool) {
        self.send_to_relay(relay, FeedCommand::Hold { relay: relay.to_owned(), wanted });
    }

    /// Closes the connection of a push in order and reconnects at once. Without effect if it is not connected.
    pub fn roll_over(&self, relay: &str, destination: &str) {
        let (relay, destination) = (relay.to_owned(), destination.to_owned());
        self.send_to_relay(&relay.clone(), FeedCommand::RollOver { relay, destination });
    }

    fn send_to_relay(&self, relay: &str, command: FeedCommand) {
        let running = self.running.lock();
        let feed = running.relays.get(relay).and_then(|feed| running.feeds.get(feed));
        if let Some(feed) = feed {
            feed.handle.send(command);
        }
    }

    /// Starts a published feed, which runs also without relays until [`Engine::stop_listening`].
    pub fn listen(&self, spec: FeedSpec) {
        let mut running = self.running.lock();
        self.use_feed(&mut running, spec).listens = true;
        self.changes.send_modify(|count| *count += 1);
    }

    /// Ends a published feed once no relay uses it.
    pub fn stop_listening(&self, feed: &str) {
        let mut running = self.running.lock();
        let Some(known) = running.feeds.get_mut(feed) else { return };
        known.listens = false;
        if known.relays.is_empty() {
            self.end_feed(&mut running, feed);
        }
    }

    /// Hands a publisher to its feed. Its connection is closed if the feed does not run.
    pub fn publish(&self, feed: &str, publisher: Publisher) {
        if let Some(running) = self.running.lock().feeds.get(feed) {
            running.handle.send(FeedCommand::Publish(Box::new(publisher)));
        }
    }

    /// Applies a changed specification to a running feed. Without effect if it does not run.
    pub fn update_feed(&self, spec: FeedSpec) {
        if let Some(running) = self.running.lock().feeds.get_mut(&spec.name) {
            running.spec = spec.clone();
            running.handle.send(FeedCommand::SetSpec(Box::new(spec)));
        }
    }

    /// Moves a running feed, with its relays, to another media thread, without a gap. Without effect if the feed does
    /// not run or the thread does not exist.
    pub fn move_feed(&self, feed: &str, thread: usize) {
        let mut running = self.running.lock();
        if let Some(running) = running.feeds.get_mut(feed).filter(|_| thread < self.media.len()) {
            placement::move_feed(running, thread);
        }
    }

    /// Returns the number of the media thread that a running feed is on.
    #[must_use]
    pub fn thread_of(&self, feed: &str) -> Option<usize> {
        self.running.lock().feeds.get(feed).map(|running| running.thread)
    }

    /// Lets the renditions of a relay's feed do nothing for some time. For tests.
    #[cfg(debug_assertions)]
    pub fn stall_renditions(&self, relay: &str, time: Duration) {
        self.send_to_relay(relay, FeedCommand::StallRenditions(time));
    }

    /// Makes a part of a running relay panic. For tests.
    #[cfg(debug_assertions)]
    pub fn panic_in(&self, relay: &str, place: crate::feed::PanicPlace) {
        self.send_to_relay(relay, FeedCommand::Panic(place, relay.to_owned()));
    }

    /// Returns a running relay from the last snapshot of its feed.
    #[must_use]
    pub fn relay(&self, name: &str) -> Option<RelayView> {
        let running = self.running.lock();
        let feed = running.feeds.get(running.relays.get(name)?)?;
        let snapshot = feed.handle.snapshot();
        let pushes = feed.relays.get(name)?.views(name, &snapshot, &self.clock);
        Some(RelayView { name: name.to_owned(), feed: snapshot.feed(self.clock), pushes })
    }

    /// Returns a running feed from its last snapshot.
    #[must_use]
    pub fn feed(&self, name: &str) -> Option<FeedView> {
        self.running.lock().feeds.get(name).map(|running| running.handle.snapshot().feed(self.clock))
    }

    /// Returns all running relays and feeds from their last snapshots, sorted by name. A feed of several relays is
    /// listed once.
    #[must_use]
    pub fn running(&self) -> (Vec<RelayView>, Vec<FeedView>) {
        let running = self.running.lock();
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

    /// Surveys a feed by measuring its streams concurrently. `on_progress` is called about once a second with the progress,
    /// and with the result, which is returned as well.
    ///
    /// # Cancel safety
    /// When dropped, pulls for the survey end in order.
    pub async fn survey(
        &self,
        request: SurveyRequest,
        on_progress: impl Fn(&SurveyView) + Sync,
    ) -> SurveyView {
        let begun =
            SurveyView { sub: request.sub.as_ref().map(|_| StreamView::default()), ..SurveyView::default() };
        let view = Mutex::new(begun);
        let report = |change: &dyn Fn(&mut SurveyView)| {
            let mut view = view.lock();
            change(&mut view);
            on_progress(&view);
        };
        let watch = |spec: FeedSpec| {
            let (address, lease) = (spec.address(), self.leases.lease(spec));
            lease.retry_if_blocked();
            (address, lease)
        };
        let (main_address, main) = watch(request.main);
        let watched_sub = request.sub.map(watch);
        let main = survey_stream(main, main_address, request.duration, |main| {
            report(&|view| view.main = main.clone());
        });
        let sub = async {
            let (address, lease) = watched_sub?;
            let report_sub = |sub: StreamView| report(&|view| view.sub = Some(sub.clone()));
            Some(survey_stream(lease, address, request.duration, report_sub).await)
        };
        let (main, sub) = tokio::join!(main, sub);
        let advice = survey::advice(&main, sub.as_ref());
        let done = SurveyView { main, sub, advice, done: true };
        on_progress(&done);
        done
    }

    /// Returns a still picture of a stream, which is pulled temporarily unless a feed pulls it.
    ///
    /// # Errors
    /// The cause for which there is no picture, or the reason why it cannot be decoded.
    ///
    /// # Cancel safety
    /// As [`Engine::survey`].
    pub async fn still(&self, spec: FeedSpec) -> Result<Result<Still, StillError>, CauseView> {
        let lease = self.leases.lease(spec);
        // A page with many stills must not wait for absent cameras.
        if let Some(cause) = lease.absence() {
            return Err(cause);
        }
        let keyframe = lease.keyframe().await?;
        Ok(survey::decode(keyframe).await)
    }

    /// Returns a still picture of what a running push sends: the last keyframe of the feed, or of its rendition. `None` if
    /// there is none, or the relay does not run.
    ///
    /// # Cancel safety
    /// When dropped, nothing remains.
    pub async fn push_still(&self, relay: &str, destination: &str) -> Option<Result<Still, StillError>> {
        let (reply, keyframe) = oneshot::channel();
        let (relay, destination) = (relay.to_owned(), destination.to_owned());
        self.send_to_relay(&relay.clone(), FeedCommand::Keyframe { relay, destination, reply });
        Some(survey::decode(keyframe.await.ok()??).await)
    }

    /// Sends a live preview of a stream to `viewer`, until it disconnects or the stream ends. The pull of a running
    /// feed is used; otherwise all viewers of the stream share a temporary pull.
    ///
    /// # Cancel safety
    /// As [`Engine::survey`].
    pub async fn preview(&self, spec: FeedSpec, viewer: mpsc::Sender<PreviewMessage>) {
        preview::run(self.leases.lease(spec), viewer).await;
    }

    /// Probes a platform's server, over an uplink if given, without sending secrets: name, port, and TLS or the SRT
    /// induction.
    ///
    /// # Errors
    /// The cause for which a push would not get this far.
    ///
    /// # Cancel safety
    /// When dropped, the connection is closed.
    pub async fn probe_server(
        &self,
        server: &ServerAddress,
        authority: Option<&PrivateAuthority>,
        uplink: Option<&UplinkSpec>,
    ) -> Result<ProbeReport, CauseView> {
        reachability::probe(server, authority, uplink).await.map_err(|cause| CauseView::from(&cause))
    }

    /// Discovers cameras and requests their streams.
    ///
    /// # Errors
    /// [`FindError`] if no request could be sent at all.
    ///
    /// # Cancel safety
    /// When dropped, pending requests complete in the background, within some seconds.
    pub async fn find(&self, request: FindRequest) -> Result<Vec<FoundCamera>, FindError> {
        find::find(request).await
    }

    /// Reads the encoder configuration of the camera at a feed's address.
    ///
    /// # Errors
    /// [`TuneError`].
    ///
    /// # Cancel safety
    /// When dropped, pending requests complete in the background, within half a minute.
    pub async fn read_encoder(&self, target: CameraTarget) -> Result<EncoderReport, TuneError> {
        device::read_encoder(target).await
    }

    /// Changes the encoder configuration of the camera at a feed's address. Only settings that differ are sent.
    /// `must_be_offered` refuses those that the camera does not offer.
    ///
    /// # Errors
    /// [`TuneError`]; the configuration is unchanged then, unless the camera has applied it without an answer.
    ///
    /// # Cancel safety
    /// When dropped, the change completes in the background.
    pub async fn set_encoder(
        &self,
        target: CameraTarget,
        settings: EncoderSettings,
        must_be_offered: bool,
    ) -> Result<SetReport, TuneError> {
        device::set_encoder(target, settings, must_be_offered).await
    }

    /// Ends everything in order, within three seconds: the pushes of each feed before the feed.
    ///
    /// # Cancel safety
    /// When dropped, the remaining tasks are aborted by the runtime.
    pub async fn shutdown(&self) {
        let feeds = {
            let mut running = self.running.lock();
            running.relays.clear();
            std::mem::take(&mut running.feeds)
        };
        let ends = join_all(feeds.into_values().map(|feed| feed.handle.end()));
        let all_ended = timeout(SHUTDOWN_TIMEOUT, ends).await.is_ok();
        if !all_ended || !self.closing.finish(SHUTDOWN_TIMEOUT).await {
            tracing::warn!("some connections did not end in order");
        }
    }

    /// Returns the feed, which is started if necessary, on the media thread with the least load.
    fn use_feed<'a>(&self, running: &'a mut Running, spec: FeedSpec) -> &'a mut RunningFeed {
        if !running.feeds.get(&spec.name).is_some_and(|feed| feed.spec.is_same(&spec)) {
            self.leases.end_pull(&spec);
        }
        let thread = placement::least_loaded(&running.feeds, self.media.len());
        let feed = running.feeds.entry(spec.name.clone()).or_insert_with(|| {
            let setup = FeedSetup {
                clock: self.clock,
                digest_hosts: self.digest_hosts.clone(),
                changes: self.changes.clone(),
                slates: self.slates.clone(),
                hls: self.hls.clone(),
            };
            let handle =
                FeedHandle::start(setup, spec.clone(), &self.runtime, Arc::clone(&self.media), thread);
            RunningFeed { handle, spec: spec.clone(), thread, relays: BTreeMap::new(), listens: false }
        });
        // Renditions are chosen by the last measurement.
        if !feed.spec.is_same(&spec) || feed.spec.measured != spec.measured {
            feed.handle.send(FeedCommand::SetSpec(Box::new(spec.clone())));
        }
        feed.spec = spec;
        feed
    }

    fn remove(&self, running: &mut Running, relay: &str) {
        let Some(name) = running.relays.remove(relay) else { return };
        let Some(feed) = running.feeds.get_mut(&name) else { return };
        feed.relays.remove(relay);
        if !feed.relays.is_empty() || feed.listens {
            feed.handle.send(FeedCommand::Remove(relay.to_owned()));
        } else {
            self.end_feed(running, &name);
        }
    }

    fn end_feed(&self, running: &mut Running, name: &str) {
        if let Some(unused) = running.feeds.remove(name) {
            self.closing.spawn(&self.runtime, async move {
                // A feed that does not end in time is aborted with its handle.
                let _ended = timeout(SHUTDOWN_TIMEOUT, unused.handle.end()).await;
            });
        }
    }
}

/// Loads the slate sources of a relay, one for each rendition that its pushes need. Blocks.
fn load_slates(
    slates: &SlateFolder,
    relay: &str,
    pushes: &[PushSpec],
    hls: bool,
    measured: Option<&FeedFacts>,
) -> Vec<(Rendition, Arc<Frame>)> {
    let rules = browser_rules();
    let needed = pushes.iter().map(|push| (push.requirements(), push.adaptation.adapt));
    let needed = needed.chain(hls.then(|| (browser_requirements(&rules), Adapt::All)));
    let mut loaded: Vec<(Rendition, Arc<Frame>)> = Vec::new();
    for (requirements, adapt) in needed {
        let mut selection = Selection::default();
        if let Some(measured) = measured {
            selection.update(measured, requirements, adapt);
        }
        let rendition = selection.rendition();
        if loaded.iter().all(|(other, _)| *other != rendition)
            && let Some(keyframe) = slates.load(&slate_key(relay, rendition))
        {
            loaded.push((rendition, keyframe));
        }
    }
    loaded
}
