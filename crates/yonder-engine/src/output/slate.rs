//! Slate of a relay's output: rendered when the [`HoldMachine`](yonder_core::HoldMachine) requests it, and played until
//! the feed is back.

use std::sync::Arc;
use std::time::{Duration, SystemTime};

use yonder_core::HoldDecision;
use yonder_media::Frame;

use crate::children::{Child, ChildEvent, Children};
use crate::feed::FeedStats;
use yonder_slate::{Picture, SlateGop, SlatePlayer, SlateRequest};

use super::{ActiveSource, OutputContext, RelayOutput};

/// Retry interval after a failed rendering.
const RETRY_INTERVAL: Duration = Duration::from_secs(5);

/// Slate with the user's picture that it shows.
#[derive(Debug)]
struct Playing {
    player: SlatePlayer,
    picture: Option<Arc<Picture>>,
}

/// State of the slate.
#[derive(Debug, Default)]
pub(super) struct SlateStage {
    /// Child that renders a slate with this picture.
    rendering: Option<(Child, Option<Arc<Picture>>)>,
    /// Rendered slate, with its picture.
    ready: Option<(SlateGop, Option<Arc<Picture>>)>,
    /// Slate on the output.
    playing: Option<Playing>,
    /// Time of the retry after a failed rendering.
    retry_at: Option<Duration>,
    /// Next time at which the slate is due.
    pub(super) due: Option<Duration>,
}

/// Returns true if both are the same object; samples are not compared.
fn is_same(one: Option<&Arc<Picture>>, other: Option<&Arc<Picture>>) -> bool {
    match (one, other) {
        (Some(one), Some(other)) => Arc::ptr_eq(one, other),
        (one, other) => one.is_none() && other.is_none(),
    }
}

impl RelayOutput {
    /// Applies the decisions of the state machine.
    pub(super) fn poll_slate(&mut self, now: Duration, context: &mut OutputContext<'_, '_>) {
        self.machine.on_feed(context.signal.flows, self.last_frame_at, now);
        let decision = self.machine.decide(now);
        self.slate.due = match decision {
            HoldDecision::Feed if self.slate.playing.is_none() => {
                self.slate = SlateStage::default();
                return;
            }
            HoldDecision::Feed => None,
            HoldDecision::FeedUntil(until) => {
                // Rendered ahead, so that the slate is ready in time.
                self.prepare_slate(now, context);
                Some(until)
            }
            HoldDecision::Slate => {
                self.prepare_slate(now, context);
                self.begin_slate_if_ready(now);
                self.slate.retry_at
            }
        };
        self.apply_hold_request();
        self.play_slate(now);
    }

    /// Starts rendering, unless a slate with the present picture exists.
    fn prepare_slate(&mut self, now: Duration, context: &mut OutputContext<'_, '_>) {
        let picture = self.spec.picture.clone();
        let has = |other: &Option<Arc<Picture>>| is_same(picture.as_ref(), other.as_ref());
        let stage = &self.slate;
        if stage.playing.as_ref().is_some_and(|playing| has(&playing.picture))
            || stage.ready.as_ref().is_some_and(|(_, other)| has(other))
            || stage.rendering.as_ref().is_some_and(|(_, other)| has(other))
            || stage.retry_at.is_some_and(|at| now < at)
        {
            return;
        }
        self.slate.retry_at = None;
        if let Some(request) = self.slate_request(context.stats, now) {
            let child = self.start_rendering(request, context.children);
            self.slate.rendering = Some((child, picture));
        }
    }

    fn start_rendering(&self, request: SlateRequest, children: &mut Children) -> Child {
        let (id, name) = (self.id, Arc::clone(&self.name));
        let work = async move {
            let rendered = yonder_slate::render_on_own_thread(request).await;
            let rendered = rendered.inspect_err(|error| {
                tracing::error!(relay = &*name, %error, "slate could not be rendered");
            });
            ChildEvent::SlateRendered(id, rendered.ok())
        };
        children.spawn(work, move |panic| {
            tracing::error!(panic, "rendering a slate panicked");
            ChildEvent::SlateRendered(id, None)
        })
    }

    /// Handles the result of a rendering.
    pub(crate) fn handle_rendered(&mut self, gop: Option<SlateGop>, now: Duration) {
        let Some((_, picture)) = self.slate.rendering.take() else { return };
        match gop {
            Some(gop) => self.slate.ready = Some((gop, picture)),
            None => self.slate.retry_at = Some(now + RETRY_INTERVAL),
        }
    }

    /// Returns the parameters of a slate; `None` before the feed's first keyframe.
    pub(super) fn slate_request(&self, stats: &mut FeedStats, now: Duration) -> Option<SlateRequest> {
        let keyframe = self.keyframe.clone()?;
        let fps = stats.video(now).and_then(|video| video.fps);
        let is_away = !self.machine.is_wanted();
        let away_since: Option<SystemTime> =
            self.last_frame_at.filter(|_| is_away).map(|at| self.clock.wall(at));
        let picture = self.spec.picture.clone();
        Some(SlateRequest { keyframe, fps, name: self.name.to_string(), away_since, picture })
    }

    fn begin_slate_if_ready(&mut self, now: Duration) {
        if let Some((gop, picture)) = self.slate.ready.take() {
            self.begin_slate(gop, picture, now);
        }
    }

    /// Puts a slate on the output; its first frame is due now.
    pub(super) fn begin_slate(&mut self, gop: SlateGop, picture: Option<Arc<Picture>>, now: Duration) {
        self.source = ActiveSource::Slate;
        self.splice.cut();
        let player = SlatePlayer::new(gop, self.clock.ticks(now));
        self.slate.playing = Some(Playing { player, picture });
        tracing::info!(relay = &*self.name, "slate on the output");
    }

    /// Removes the slate, when the feed is on the output.
    pub(super) fn end_slate(&mut self) {
        self.slate.playing = None;
        tracing::info!(relay = &*self.name, "feed on the output");
    }

    /// Lets the feed's next keyframe end the slate, unless an operator requests the hold.
    pub(super) fn apply_hold_request(&mut self) {
        if self.source != ActiveSource::Feed {
            self.source =
                if self.machine.is_wanted() { ActiveSource::Slate } else { ActiveSource::SlateUntilKeyframe };
        }
    }

    /// Sends the frames of the slate that are due.
    pub(super) fn play_slate(&mut self, now: Duration) {
        let ticks = self.clock.ticks(now);
        let Some(mut playing) = self.slate.playing.take() else { return };
        while playing.player.next_dts() <= ticks {
            let unit = playing.player.next_unit();
            self.send(&Arc::new(Frame::new(unit, Arc::clone(playing.player.headers()))), now);
        }
        let next = self.clock.time_of(playing.player.next_dts());
        self.slate.due = Some(self.slate.due.map_or(next, |due| due.min(next)));
        self.slate.playing = Some(playing);
    }
}
