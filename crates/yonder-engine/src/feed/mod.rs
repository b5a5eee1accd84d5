//! A feed with its relays and their pushes: one actor on one media thread, and the handle by which the rest of the engine
//! reaches it.

mod actor;
mod figures;
mod gop;
mod probe;
mod snapshot;
mod source;

use std::sync::Arc;

use tokio::runtime::Handle;
use tokio::sync::{mpsc, watch};
use tokio_util::task::AbortOnDropHandle;
use yonder_core::Cause;
use yonder_media::Frame;

use crate::clock::Clock;
use crate::spec::{FeedSpec, HoldSpec, PushSpec};
use yonder_slate::SlateFolder;

use actor::{ActorEnd, FeedActor};
pub(crate) use figures::FeedFigures;
pub(crate) use snapshot::{FeedSnapshot, SnapshotCell};

/// Frames that may wait for a viewer on another thread. One that is further behind skips to a keyframe.
const VIEWER_QUEUE: usize = 2_048;

/// State of a feed as its relays need it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct FeedSignal {
    /// Video arrives.
    pub(crate) flows: bool,
    /// Why it does not, or what is wrong with it.
    pub(crate) cause: Option<Cause>,
}

/// Place of a panic that a test asks for.
#[cfg(debug_assertions)]
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PanicPlace {
    /// In the source of a feed.
    Source,
    /// In the output of a relay.
    Output,
    /// In the push to the first destination of a relay.
    Push,
    /// In the actor itself.
    Actor,
}

/// Request to a feed's actor.
#[derive(Debug)]
pub(crate) enum FeedCommand {
    /// Pull from another address, or with other credentials.
    SetSpec(FeedSpec),
    /// Start a relay, or bring it to the given shape.
    Apply {
        /// Name of the relay.
        relay: String,
        /// Number of this application.
        revision: u64,
        /// Its pushes.
        pushes: Vec<PushSpec>,
        /// Its holding picture.
        hold: HoldSpec,
        /// Source of its slate from before a restart, for a relay that is new.
        keyframe: Option<Arc<Frame>>,
    },
    /// Dial now, also after a failure that waits for a person.
    Retry,
    /// End a relay's pushes in order.
    Remove(String),
    /// Begins or ends a hold that a person has asked for.
    Hold {
        /// Relay.
        relay: String,
        /// Show the holding picture.
        wanted: bool,
    },
    /// End a push in order and connect again at once.
    RollOver {
        /// Name of the relay.
        relay: String,
        /// Name of the destination.
        destination: String,
    },
    /// Send every frame, beginning with the last keyframe.
    Subscribe(mpsc::Sender<Arc<Frame>>),
    /// Continue on the media thread with this number.
    Move(usize),
    /// End everything in order.
    End,
    /// Panic, as a fault would.
    #[cfg(debug_assertions)]
    Panic(PanicPlace, String),
}

/// Everything that an actor is started with.
#[derive(Debug, Clone)]
pub(crate) struct FeedSetup {
    pub(crate) clock: Clock,
    /// Changes whenever a state changed.
    pub(crate) changes: watch::Sender<u64>,
    /// Folder with the sources of slates, which outlive a restart.
    pub(crate) slates: Option<SlateFolder>,
}

/// Handle of a feed. When it is dropped the actor is aborted.
#[derive(Debug)]
pub(crate) struct FeedHandle {
    commands: mpsc::UnboundedSender<FeedCommand>,
    snapshot: Arc<SnapshotCell>,
    /// Starts the actor on its thread, and again on another when it moves.
    keeper: AbortOnDropHandle<()>,
}

impl FeedHandle {
    /// Starts a feed on one of `threads`. The handle's own task runs on `runtime`.
    pub(crate) fn start(
        setup: FeedSetup,
        spec: FeedSpec,
        runtime: &Handle,
        threads: Arc<[Handle]>,
        thread: usize,
    ) -> Self {
        Self::keep(FeedActorBuilder { setup, spec, is_temporary: false }, runtime, threads, thread)
    }

    /// Starts a feed for a viewer alone: it ends with the first failure.
    pub(crate) fn start_temporary(clock: Clock, spec: FeedSpec, runtime: &Handle) -> Self {
        let setup = FeedSetup { clock, changes: watch::Sender::new(0), slates: None };
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

    /// Sends a request.
    pub(crate) fn send(&self, command: FeedCommand) {
        // An actor that has ended has nothing to do.
        let _unused = self.commands.send(command);
    }

    /// Returns the last snapshot.
    pub(crate) fn snapshot(&self) -> Arc<FeedSnapshot> {
        self.snapshot.load()
    }

    /// Returns where snapshots are published.
    pub(crate) fn snapshots(&self) -> Arc<SnapshotCell> {
        Arc::clone(&self.snapshot)
    }

    /// Returns a handle for subscriptions, which does not keep the feed alive.
    pub(crate) fn subscriber(&self) -> Subscriber {
        Subscriber(self.commands.downgrade())
    }

    /// Returns the frames from the last keyframe on. The channel is closed when the feed ends.
    pub(crate) fn subscribe(&self) -> mpsc::Receiver<Arc<Frame>> {
        self.subscriber().subscribe()
    }

    /// True once the feed has ended.
    pub(crate) fn has_ended(&self) -> bool {
        self.keeper.is_finished()
    }

    /// Ends the feed in order, and waits for the end.
    ///
    /// # Cancel safety
    /// When dropped, the feed is aborted.
    pub(crate) async fn end(self) {
        self.send(FeedCommand::End);
        // It has ended as well when it was aborted.
        let _ended = self.keeper.await;
    }
}

/// Handle of a feed for its viewers, which does not keep it alive.
#[derive(Debug, Clone)]
pub(crate) struct Subscriber(mpsc::WeakUnboundedSender<FeedCommand>);

impl Subscriber {
    /// Has the feed dialed now.
    pub(crate) fn retry(&self) {
        if let Some(commands) = self.0.upgrade() {
            // A feed that has ended has nothing to dial.
            let _unused = commands.send(FeedCommand::Retry);
        }
    }

    /// Returns the frames from the last keyframe on. The channel is closed when the feed ends.
    pub(crate) fn subscribe(&self) -> mpsc::Receiver<Arc<Frame>> {
        let (sender, frames) = mpsc::channel(VIEWER_QUEUE);
        if let Some(commands) = self.0.upgrade() {
            // A feed that has ended closes the channel.
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

/// Runs an actor to its end, on one thread after the other.
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
