//! Actor of a feed: owns its source, its relays and their pushes, and drives all of them in one loop on one media
//! thread.
//!
//! Its state is not shared and needs no locks. Work that waits for anything but its sockets is done by child tasks
//! ([`Children`]). Other threads send [`FeedCommand`]s and read the [`FeedSnapshot`].

use std::future::poll_fn;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::{Duration, Instant};

use tokio::sync::{mpsc, watch};
use tokio::task::coop::unconstrained;
use tokio::time::timeout;
use yonder_core::rendition::Rendition;
use yonder_core::{Cause, CauseCode, FeedMachine, FeedState};
use yonder_media::StreamHeaders;

use crate::children::{Child, Children};
use crate::clock::Clock;
use crate::deadline::DeadlineTimer;
use crate::output::hls::HlsStreams;
use crate::push::CLOSE_TIMEOUT;
use crate::relay::{Relay, RelayContext};
use crate::rendition::{RenditionContext, Renditions};
use crate::source::DigestHosts;
use crate::source::{Inlet, InletEvent};
use crate::spec::FeedSpec;
use crate::view::{FeedView, RtpTransport};
use yonder_slate::SlateFolder;

use super::gop::GopCache;
use super::snapshot::{FeedSnapshot, RelaySnapshot, SnapshotCell, feed_view};
use super::source_stage::SourceStage;
use super::viewer::Viewer;
use super::{FeedCommand, FeedSetup, FeedSignal};

/// Interval of statistics, backlog evaluation and snapshots. A single tick for all of them wakes the thread once.
const TICK_INTERVAL: Duration = Duration::from_secs(1);
/// Maximum duration of writing to pushes in one poll, before other feeds of the thread are polled.
const MAX_POLL: Duration = Duration::from_millis(1);
/// Margin over the timeout of closing connections.
const CLOSE_MARGIN: Duration = Duration::from_millis(100);
/// Pause after a panic of the actor itself.
const PANIC_PAUSE: Duration = Duration::from_secs(1);

/// End of a run of the actor.
pub(super) enum ActorEnd {
    /// All connections have been closed.
    Ended,
    /// The actor moves to another media thread.
    Moved {
        /// Number of the thread.
        to: usize,
        /// Actor.
        actor: Box<FeedActor>,
    },
}

/// Reason for the end of a run.
#[derive(Debug)]
pub(super) enum Exit {
    End,
    Move(usize),
}

/// Feed with its relays.
#[derive(Debug)]
pub(super) struct FeedActor {
    pub(super) clock: Clock,
    pub(super) digest_hosts: DigestHosts,
    pub(super) changes: watch::Sender<u64>,
    pub(super) slates: Option<SlateFolder>,
    pub(super) hls: HlsStreams,
    pub(super) commands: mpsc::UnboundedReceiver<FeedCommand>,
    pub(super) spec: FeedSpec,
    pub(super) machine: FeedMachine,
    /// Transport of the last session with video.
    pub(super) known_carrier: Option<RtpTransport>,
    pub(super) inlet: Inlet,
    pub(super) source: SourceStage,
    /// Number of sessions that are closing; the next connection waits for them.
    pub(super) closing_sources: u32,
    /// Time of the next connection attempt.
    pub(super) retry_at: Option<Duration>,
    /// Probe of an absent camera, with its interval.
    pub(super) probe: Option<(Duration, Child)>,
    pub(super) gop: GopCache,
    pub(super) viewers: Vec<Viewer>,
    pub(super) relays: Vec<Relay>,
    pub(super) renditions: Renditions,
    /// Headers of the last frame.
    pub(super) headers: Option<Arc<StreamHeaders>>,
    pub(super) children: Children,
    pub(super) signal: FeedSignal,
    pub(super) snapshot: Arc<SnapshotCell>,
    /// Time of the next tick.
    pub(super) tick_due: Duration,
    /// A state has changed and must be published.
    pub(super) is_changed: bool,
    /// It runs for viewers only, and ends with the first failure.
    pub(super) is_temporary: bool,
    pub(super) exit: Option<Exit>,
    /// End of the pause after a panic.
    pub(super) paused_until: Option<Duration>,
    #[cfg(debug_assertions)]
    pub(super) panics_next: Option<super::PanicPlace>,
}

impl FeedActor {
    pub(super) fn new(
        setup: FeedSetup,
        spec: FeedSpec,
        commands: mpsc::UnboundedReceiver<FeedCommand>,
        is_temporary: bool,
    ) -> Self {
        let FeedSetup { clock, digest_hosts, changes, slates, hls } = setup;
        let now = clock.now();
        let mut machine = FeedMachine::new(rand::random(), now);
        machine.set_history(spec.history);
        machine.set_listens(spec.rtsp().is_none());
        machine.set_enabled(true, now);
        let mut inlet = Inlet::new(spec.name.clone(), now);
        let renditions = Renditions::default();
        let view = feed_view(&spec, &machine, &mut inlet, &renditions, clock);
        let first = FeedSnapshot::new(now, view, Vec::new(), Vec::new());
        Self {
            clock,
            digest_hosts,
            changes,
            slates,
            hls,
            commands,
            spec,
            machine,
            known_carrier: None,
            inlet,
            source: SourceStage::Idle,
            closing_sources: 0,
            retry_at: None,
            probe: None,
            gop: GopCache::default(),
            viewers: Vec::new(),
            relays: Vec::new(),
            renditions,
            headers: None,
            children: Children::new(),
            signal: FeedSignal::default(),
            snapshot: Arc::new(SnapshotCell::new(first)),
            tick_due: now,
            is_changed: true,
            is_temporary,
            exit: None,
            paused_until: None,
            #[cfg(debug_assertions)]
            panics_next: None,
        }
    }

    pub(super) fn name(&self) -> &str {
        &self.spec.name
    }

    pub(super) fn snapshot(&self) -> Arc<SnapshotCell> {
        Arc::clone(&self.snapshot)
    }

    /// Runs until the feed ends, or moves to another thread.
    ///
    /// # Cancel safety
    /// When dropped, all connections are closed immediately.
    pub(super) async fn run(mut self) -> ActorEnd {
        self.register_here();
        let mut timer = DeadlineTimer::new(self.clock);
        // The actor limits its polls by time, so tokio's budget is not needed.
        let exit = unconstrained(poll_fn(|context| self.poll_guarded(context, &mut timer))).await;
        match exit {
            Exit::Move(to) => ActorEnd::Moved { to, actor: Box::new(self) },
            Exit::End => {
                self.finish().await;
                ActorEnd::Ended
            }
        }
    }

    /// Registers all sockets with the caller's runtime.
    fn register_here(&mut self) {
        self.register_source_here();
        for push in self.relays.iter_mut().flat_map(Relay::pushes) {
            push.register_here();
        }
        self.is_changed = true;
    }

    /// Closes all connections in order: pushes before the source.
    async fn finish(&mut self) {
        self.viewers.clear();
        self.probe = None;
        for relay in std::mem::take(&mut self.relays) {
            relay.retire(&mut self.children);
        }
        // Connections that do not close in time are aborted.
        let _pushes = timeout(CLOSE_TIMEOUT + CLOSE_MARGIN, self.children.finish()).await;
        self.close_source();
        let _source =
            timeout(super::source_stage::CLOSE_TIMEOUT + CLOSE_MARGIN, self.children.finish()).await;
        // A viewer reads the cause of a temporary feed after its end.
        if !self.is_temporary {
            self.change(|machine, now| machine.set_enabled(false, now));
        }
        self.publish_snapshot();
    }

    /// Polls, and handles a panic outside of the guarded parts: all connections restart.
    fn poll_guarded(&mut self, task: &mut Context<'_>, timer: &mut DeadlineTimer) -> Poll<Exit> {
        let polled = catch_unwind(AssertUnwindSafe(|| self.poll(task, timer)));
        polled.unwrap_or_else(|_| {
            tracing::error!(feed = self.spec.name, "feed panicked");
            self.handle_panic();
            task.waker().wake_by_ref();
            Poll::Pending
        })
    }

    fn handle_panic(&mut self) {
        self.paused_until = Some(self.clock.now() + PANIC_PAUSE);
        let message = "The service failed while running this feed.";
        self.fail_source(Cause::new(CauseCode::FeedInternal, message));
        for push in self.relays.iter_mut().flat_map(Relay::pushes) {
            let message = "The service failed while running the feed of this destination.";
            push.fail(Cause::new(CauseCode::PushInternal, message));
        }
    }

    fn poll(&mut self, task: &mut Context<'_>, timer: &mut DeadlineTimer) -> Poll<Exit> {
        let now = self.clock.now();
        if let Some(until) = self.paused_until {
            if now < until {
                self.wake_at(until, task, timer);
                return Poll::Pending;
            }
            self.paused_until = None;
        }
        self.handle_commands(task);
        self.handle_children(task);
        if let Some(exit) = self.exit.take() {
            return Poll::Ready(exit);
        }
        #[cfg(debug_assertions)]
        assert!(
            self.panics_next.take_if(|place| *place == super::PanicPlace::Actor).is_none(),
            "panic requested by a test"
        );
        let is_tick = now >= self.tick_due;
        if is_tick {
            self.tick_due = now + TICK_INTERVAL;
        }
        let mut has_more = self.poll_source(task, is_tick);
        self.poll_renditions(task, is_tick);
        has_more |= self.poll_relays(task, is_tick);
        if self.is_temporary && self.machine.state().retry_at().is_some() {
            self.exit = Some(Exit::End);
            has_more = true;
        }
        self.publish_if_due(is_tick);
        if has_more {
            task.waker().wake_by_ref();
        } else {
            let next = self.poll_timeout();
            self.wake_at(next, task, timer);
        }
        Poll::Pending
    }

    fn wake_at(&self, at: Duration, task: &mut Context<'_>, timer: &mut DeadlineTimer) {
        if timer.poll_deadline(at, task).is_ready() {
            task.waker().wake_by_ref();
        }
    }

    fn poll_timeout(&self) -> Duration {
        let source = self.source_timeout();
        let relays = self.relays.iter().filter_map(Relay::poll_timeout).min();
        [source, relays, self.renditions.poll_timeout()]
            .into_iter()
            .flatten()
            .fold(self.tick_due, Duration::min)
    }

    /// Passes an event to the state machine, and applies the result.
    pub(super) fn change(&mut self, event: impl FnOnce(&mut FeedMachine, Duration)) {
        let before = self.machine.state();
        event(&mut self.machine, self.clock.now());
        let after = self.machine.state();
        if std::mem::discriminant(&before) != std::mem::discriminant(&after) {
            let feed = &self.spec.name;
            let cause = self.machine.cause();
            let code = cause.map_or("", |cause| cause.code.code());
            let message = cause.map_or("", |cause| cause.message.as_str());
            tracing::info!(feed, state = after.as_str(), code, message, "feed");
        }
        let flows = after == FeedState::Flowing;
        if self.signal.flows != flows || self.signal.cause.as_ref() != self.machine.cause() {
            self.signal = FeedSignal { flows, cause: self.machine.cause().cloned() };
            self.is_changed = true;
        }
        self.is_changed |= before != after;
    }

    /// Handles the inlet's events and publishes its frames.
    pub(super) fn publish(&mut self) {
        for event in std::mem::take(&mut self.inlet.events) {
            match event {
                InletEvent::Flowing => self.change(FeedMachine::on_flowing),
                InletEvent::Silent(cause) => self.change(|machine, now| machine.on_silent(cause, now)),
                InletEvent::Warning(cause) => self.change(|machine, _| machine.on_warning(cause)),
            }
        }
        let now = self.clock.now();
        let mut frames = std::mem::take(&mut self.inlet.frames);
        for frame in frames.drain(..) {
            self.handle_headers(&frame.headers);
            self.gop.push(&frame);
            self.viewers.retain_mut(|viewer| viewer.send(&frame));
            self.renditions.push(&frame, now);
            for relay in &mut self.relays {
                relay.handle_frame(Rendition::default(), &frame, now);
            }
        }
        // Its memory is used again.
        self.inlet.frames = frames;
    }

    /// Passes the frames of renditions to the relays.
    fn poll_renditions(&mut self, task: &mut Context<'_>, is_tick: bool) {
        let now = self.clock.now();
        let (signal, gop) = (&self.signal, self.gop.frames());
        let made = self.renditions.poll(&mut RenditionContext { task, now, is_tick, signal, gop });
        for (rendition, frame) in made {
            for relay in &mut self.relays {
                relay.handle_frame(rendition, &frame, now);
            }
        }
    }

    /// Polls all relays. Returns true if some must be polled again at once.
    fn poll_relays(&mut self, task: &mut Context<'_>, is_tick: bool) -> bool {
        let deadline = Instant::now() + MAX_POLL;
        let mut has_more = false;
        let mut context = RelayContext {
            task,
            is_tick,
            stats: &mut self.inlet.stats,
            signal: &self.signal,
            renditions: &mut self.renditions,
            children: &mut self.children,
        };
        for relay in &mut self.relays {
            has_more |= relay.poll(&mut context, deadline);
        }
        has_more
    }

    fn publish_if_due(&mut self, is_tick: bool) {
        let mut is_changed = std::mem::take(&mut self.is_changed);
        is_changed |= self.renditions.take_change();
        for relay in &mut self.relays {
            is_changed |= relay.take_change();
        }
        if is_changed || is_tick {
            self.publish_snapshot();
        }
        if is_changed {
            self.changes.send_modify(|count| *count += 1);
        }
    }

    fn publish_snapshot(&mut self) {
        let now = self.clock.now();
        let publisher = match &self.source {
            SourceStage::Publishing(session) => Some(session.view()),
            _ => None,
        };
        let feed = feed_view(&self.spec, &self.machine, &mut self.inlet, &self.renditions, self.clock);
        let feed = FeedView { publisher, ..feed };
        let offered = self.inlet.stats.offered().to_vec();
        let renditions = &self.renditions;
        let relays = self.relays.iter_mut().map(|relay| RelaySnapshot {
            name: Arc::clone(&relay.name),
            revision: relay.revision,
            pushes: relay.views(renditions, now),
        });
        self.snapshot.store(FeedSnapshot::new(now, feed, offered, relays.collect()));
    }
}
