//! Feed with its relays and their pushes: the actor on a media thread, and the handle for the rest of the engine.

mod actor;
mod facts;
mod gop;
mod handlers;
mod probe;
mod signal;
mod snapshot;
mod source;
mod source_stage;
mod stats;
mod viewer;

use std::sync::Arc;
#[cfg(debug_assertions)]
use std::time::Duration;

use tokio::runtime::Handle;
use tokio::sync::{mpsc, oneshot, watch};
use tokio_util::task::AbortOnDropHandle;
use yonder_core::rendition::Rendition;
use yonder_ingest::Publisher;
use yonder_media::Frame;

use crate::clock::Clock;
use crate::output::hls::HlsStreams;
use crate::source::DigestHosts;
use crate::spec::{FeedSpec, HoldSpec, PushSpec};
use yonder_slate::SlateFolder;

use actor::{ActorEnd, FeedActor};
pub(crate) use gop::GopCache;
pub(crate) use signal::FeedSignal;
pub(crate) use snapshot::{FeedSnapshot, SnapshotCell};
pub(crate) use stats::FeedStats;

/// Maximum frames queued for a viewer on another thread; beyond it the viewer skips to a keyframe.
const VIEWER_QUEUE: usize = 2_048;

/// Location of a panic requested by a test.
#[cfg(debug_assertions)]
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PanicPlace {
    /// In the source of a feed.
    Source,
    /// In the output of a relay.
    Output,
    /// In the push to the first destination of a relay.
    Push,
    /// In the thread of the feed's first rendition.
    Rendition,
    /// In the actor itself.
    Actor,
}

/// Command for a feed's actor.
#[derive(Debug)]
pub(crate) enum FeedCommand {
    /// Change address or credentials.
    SetSpec(Box<FeedSpec>),
    /// Start a relay, or apply a changed specification.
    Apply {
        /// Name of the relay.
        relay: String,
        /// Revision of the specification.
        revision: u64,
        /// Pushes.
        pushes: Vec<PushSpec>,
        /// Holding picture.
        hold: HoldSpec,
        /// Make an HLS stream.
        hls: bool,
        /// Slate sources from before a restart, for a new relay.
        keyframes: Vec<(Rendition, Arc<Frame>)>,
    },
    /// Retry now, also when blocked.
    Retry,
    /// Receive from an encoder.
    Publish(Box<Publisher>),
    /// End the pushes of a relay in order.
    Remove(String),
    /// Begin or end a hold requested by an operator.
    Hold {
        /// Relay.
        relay: String,
        /// Hold.
        wanted: bool,
    },
    /// Close the connection of a push in order and reconnect at once.
    RollOver {
        /// Name of the relay.
        relay: String,
        /// Name of the destination.
        destination: String,
    },
    /// Return the last keyframe that a push sends; `None` if there is none.
    Keyframe {
        /// Name of the relay.
        relay: String,
        /// Name of the destination.
        destination: String,
        /// Receiver of the keyframe.
        reply: oneshot::Sender<Option<Arc<Frame>>>,
    },
    /// Send all frames, beginning with the last keyframe.
    Subscribe(mpsc::Sender<Arc<Frame>>),
    /// Move to another media thread.
    Move(usize),
    /// End everything in order.
    End,
    /// Panic, for tests.
    #[cfg(debug_assertions)]
    Panic(PanicPlace, String),
    /// Let the renditions do nothing for some time, for tests.
    #[cfg(debug_assertions)]
    StallRenditions(Duration),
}

/// Parameters of an actor.
#[derive(Debug, Clone)]
pub(crate) struct FeedSetup {
    pub(crate) clock: Clock,
    pub(crate) digest_hosts: DigestHosts,
    /// Notified of each change of a state.
    pub(crate) changes: watch::Sender<u64>,
    /// Folder of slate sources, which survive a restart.
    pub(crate) slates: Option<SlateFolder>,
    /// HLS streams of all relays.
    pub(crate) hls: HlsStreams,
}

/// Handle of a feed. The actor is aborted on drop.
#[derive(Debug)]
pub(crate) struct FeedHandle {
    commands: mpsc::UnboundedSender<FeedCommand>,
    snapshot: Arc<SnapshotCell>,
    /// Task that runs the actor, on one media thread after the other.
    keeper: AbortOnDropHandle<()>,
}

impl FeedHandle {
    /// Starts a feed on one of `threads`. The keeper task runs on `runtime`.
    pub(crate) fn start(
        setup: FeedSetup,
        spec: FeedSpec,
        runtime: &Handle,
        threads: Arc<[Handle]>,
        thread: usize,
    ) -> Self {
        Self::keep(FeedActorBuilder { setup, spec, is_temporary: false }, runtime, threads, thread)
    }

    /// Starts a temporary feed for viewers: it ends with the first failure.
    pub(crate) fn start_temporary(
        clock: Clock,
        digest_hosts: DigestHosts,
        spec: FeedSpec,
        runtime: &Handle,
    ) -> Self {
        let (changes, hls) = (watch::Sender::new(0), HlsStreams::default());
        let setup = FeedSetup { clock, digest_hosts, changes, slates: None, hls };
        let builder = FeedActorBuilder { setup, spec, is_temporary: true };
        Self::keep(builder, runtime, Arc::from([runtime.clone()]), 0)
    }

    fn keep(builder: FeedActorBuilder, runtime: &Handle, threads: Arc<[Handle]>, thread: usize) -> Self {
        let (commands, inbox) = mpsc::unbounded_channel();
        let FeedActorBuilder { setup, spec, is_temporary } = builder;
        let actor = FeedActor::new(setup, spec, inbox, is_temporary);
        let snapshot = actor.snapshot();
        let keeper = AbortOnDropHandle::new(runtime.spawn(keep(actor, threads, thread)));
        Self { commands, snapshot, keeper }
    }

    /// Sends a command.
    pub(crate) fn send(&self, command: FeedCommand) {
        // The actor may have ended.
        let _unused = self.commands.send(command);
    }

    /// Returns the last snapshot.
    pub(crate) fn snapshot(&self) -> Arc<FeedSnapshot> {
        self.snapshot.load()
    }

    /// Returns the cell with the snapshots.
    pub(crate) fn snapshots(&self) -> Arc<SnapshotCell> {
        Arc::clone(&self.snapshot)
    }

    /// Returns a handle for subscriptions that does not keep the feed alive.
    pub(crate) fn subscriber(&self) -> Subscriber {
        Subscriber(self.commands.downgrade())
    }

    /// Subscribes to the frames from the last keyframe on. The channel closes at the end of the feed.
    pub(crate) fn subscribe(&self) -> mpsc::Receiver<Arc<Frame>> {
        self.subscriber().subscribe()
    }

    /// Returns true once the feed has ended.
    pub(crate) fn has_ended(&self) -> bool {
        self.keeper.is_finished()
    }

    /// Ends the feed in order, and waits for the end.
    ///
    /// # Cancel safety
    /// When dropped, the feed is aborted.
    pub(crate) async fn end(self) {
        self.send(FeedCommand::End);
        // An aborted feed has ended as well.
        let _ended = self.keeper.await;
    }
}

/// Handle for viewers that does not keep the feed alive.
#[derive(Debug, Clone)]
pub(crate) struct Subscriber(mpsc::WeakUnboundedSender<FeedCommand>);

impl Subscriber {
    /// Requests an immediate retry.
    pub(crate) fn retry(&self) {
        if let Some(commands) = self.0.upgrade() {
            // The feed may have ended.
            let _unused = commands.send(FeedCommand::Retry);
        }
    }

    /// Subscribes to the frames from the last keyframe on. The channel closes at the end of the feed.
    pub(crate) fn subscribe(&self) -> mpsc::Receiver<Arc<Frame>> {
        let (sender, frames) = mpsc::channel(VIEWER_QUEUE);
        if let Some(commands) = self.0.upgrade() {
            // The channel closes if the feed has ended.
            let _unused = commands.send(FeedCommand::Subscribe(sender));
        }
        frames
    }
}

struct FeedActorBuilder {
    setup: FeedSetup,
    spec: FeedSpec,
    is_temporary: bool,
}

/// Runs an actor to its end, on one media thread after the other.
async fn keep(mut actor: FeedActor, threads: Arc<[Handle]>, mut thread: usize) {
    let name = actor.name().to_owned();
    loop {
        let Some(handle) = threads.get(thread).or_else(|| threads.first()) else { return };
        match AbortOnDropHandle::new(handle.spawn(actor.run())).await {
            Ok(ActorEnd::Moved { to, actor: moved }) => {
                tracing::info!(feed = name, from = thread, to, "feed moved to another media thread");
                actor = *moved;
                thread = to;
            }
            Ok(ActorEnd::Ended) => return,
            Err(error) => {
                if error.is_panic() {
                    tracing::error!(feed = name, %error, "feed panicked while it ended");
                }
                return;
            }
        }
    }
}
