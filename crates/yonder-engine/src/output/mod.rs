//! Output of a relay: switches its pushes between a source and the slate. The source is the feed, or a rendition of it.
//!
//! The output has its own timeline ([`Splice`]): a source is placed at its first keyframe, so that a late keyframe, a
//! wrong camera clock, or a slate that ran ahead never keeps a source off the output.

pub(crate) mod hls;
pub(crate) mod ring;
pub(crate) mod signal;
mod slate;

use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Arc;
use std::task::Context;
use std::time::{Duration, Instant};

use yonder_core::rendition::Rendition;
use yonder_core::{Cause, CauseCode, HoldMachine, Source};
use yonder_media::splice::Splice;
use yonder_media::{Frame, StreamHeaders, Track};

use crate::children::Children;
use crate::clock::Clock;
use crate::feed::{FeedSignal, FeedStats};
use crate::ids::OutputId;
use crate::push::{Push, PushContext};
use crate::spec::HoldSpec;
use crate::view::PushView;
use yonder_slate::{SlateFolder, SlateKey};

use self::slate::SlateStage;
use hls::HlsOutput;
use ring::Ring;
use signal::OutputSignal;

/// Interval at which the slate source is saved.
const SAVE_INTERVAL: Duration = Duration::from_secs(10 * 60);
/// Maximum delay of audio until the next video frame, with which it is written: a separate write for each audio frame
/// would nearly triple the number of system calls.
const MAX_AUDIO_HOLD: Duration = Duration::from_millis(40);

/// Returns the name under which the slate source of an output is stored.
pub(crate) fn slate_key(relay: &str, rendition: Rendition) -> SlateKey {
    let version = if rendition.is_original() { String::new() } else { rendition.to_string() };
    SlateKey { relay: relay.to_owned(), version }
}

/// Active source.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum ActiveSource {
    /// The feed.
    Feed,
    /// Slate, independently of the feed.
    Slate,
    /// Slate, until the feed's next keyframe.
    SlateUntilKeyframe,
}

/// Output of a relay, with its pushes.
#[derive(Debug)]
pub(crate) struct RelayOutput {
    pub(crate) id: OutputId,
    /// Version of the feed that is sent.
    pub(crate) rendition: Rendition,
    /// Name of the relay.
    name: Arc<str>,
    clock: Clock,
    ring: Ring,
    splice: Splice,
    source: ActiveSource,
    signal: OutputSignal,
    /// Last keyframe of the source.
    keyframe: Option<Arc<Frame>>,
    /// Time of the source's last video frame.
    last_frame_at: Option<Duration>,
    /// When the keyframe was last saved, with its headers.
    saved: Option<(Duration, Arc<StreamHeaders>)>,
    /// Folder of slate sources, which survive a restart.
    slates: Option<SlateFolder>,
    machine: HoldMachine,
    spec: HoldSpec,
    slate: SlateStage,
    hls: Option<HlsOutput>,
    pushes: Vec<Push>,
    /// Index of the first push of the next poll, which rotates for fairness.
    first_push: usize,
    /// When delayed audio is written without a video frame.
    audio_due: Option<Duration>,
    /// A state has changed and must be published.
    is_changed: bool,
    /// It has received no frames yet.
    is_new: bool,
    #[cfg(debug_assertions)]
    panics_next: bool,
}

/// State of the source that an output uses.
pub(crate) struct OutputContext<'a, 'w> {
    pub(crate) task: &'a mut Context<'w>,
    /// This poll is a tick, with evaluations.
    pub(crate) is_tick: bool,
    pub(crate) stats: &'a mut FeedStats,
    pub(crate) signal: &'a FeedSignal,
    /// Cause while the rendition skips frames.
    pub(crate) overload: Option<&'a Cause>,
    pub(crate) children: &'a mut Children,
}

impl RelayOutput {
    /// Creates an output. `keyframe` is its slate source from before a restart, stored in `slates`.
    pub(crate) fn new(
        id: OutputId,
        name: &str,
        rendition: Rendition,
        clock: Clock,
        spec: HoldSpec,
        (slates, keyframe): (Option<SlateFolder>, Option<Arc<Frame>>),
    ) -> Self {
        let mut machine = HoldMachine::new(spec.after);
        machine.request_hold(spec.wanted);
        if keyframe.is_some() {
            // The relay was running when the service ended, so the broadcast may still exist.
            machine.on_slate_known();
        }
        Self {
            id,
            rendition,
            name: name.into(),
            clock,
            ring: Ring::default(),
            splice: Splice::default(),
            source: ActiveSource::Feed,
            signal: OutputSignal::default(),
            keyframe,
            last_frame_at: None,
            saved: None,
            slates,
            machine,
            spec,
            slate: SlateStage::default(),
            hls: None,
            pushes: Vec::new(),
            first_push: 0,
            audio_due: None,
            is_changed: true,
            is_new: true,
            #[cfg(debug_assertions)]
            panics_next: false,
        }
    }

    /// Applies the specification of the holding picture.
    pub(crate) fn set_hold(&mut self, spec: HoldSpec) {
        self.machine.set_after(spec.after);
        self.machine.request_hold(spec.wanted);
        self.spec = spec;
    }

    /// Begins or ends a hold requested by an operator.
    pub(crate) fn request_hold(&mut self, wanted: bool) {
        self.machine.request_hold(wanted);
        self.spec.wanted = wanted;
    }

    /// Adds a push.
    pub(crate) fn add_push(&mut self, mut push: Push) {
        push.set_source(&self.signal);
        self.pushes.push(push);
        self.is_changed = true;
    }

    /// Sets the HLS stream.
    pub(crate) fn set_hls(&mut self, hls: HlsOutput) {
        self.hls = Some(hls);
    }

    /// Removes the HLS stream, and returns it with the rendition.
    pub(crate) fn take_hls(&mut self) -> Option<(Rendition, HlsOutput)> {
        self.hls.take().map(|hls| (self.rendition, hls))
    }

    /// Returns true if it has a push or an HLS stream.
    pub(crate) fn is_used(&self) -> bool {
        self.hls.is_some() || !self.pushes.is_empty()
    }

    /// Removes all pushes, and returns them.
    pub(crate) fn take_pushes(&mut self) -> Vec<Push> {
        std::mem::take(&mut self.pushes)
    }

    /// Returns true at the first call.
    pub(crate) fn take_new(&mut self) -> bool {
        std::mem::take(&mut self.is_new)
    }

    /// Ends all pushes in order.
    pub(crate) fn retire(self, children: &mut Children) {
        for push in self.pushes {
            push.retire(children);
        }
    }

    pub(crate) fn pushes(&mut self) -> &mut [Push] {
        &mut self.pushes
    }

    /// Returns the state of the output.
    pub(crate) fn signal(&self) -> &OutputSignal {
        &self.signal
    }

    /// Handles a frame of the source: it is sent unless the slate is active. A keyframe returns to the source if that is
    /// requested.
    pub(crate) fn handle_frame(&mut self, frame: &Arc<Frame>, now: Duration) {
        #[cfg(debug_assertions)]
        assert!(!std::mem::take(&mut self.panics_next), "panic requested by a test");
        if frame.unit.track == Track::Video {
            self.last_frame_at = Some(now);
        }
        if frame.is_keyframe() {
            self.keyframe = Some(Arc::clone(frame));
            self.save_slate(frame, now);
        }
        match self.source {
            ActiveSource::Slate => return,
            ActiveSource::SlateUntilKeyframe if !frame.is_keyframe() => return,
            ActiveSource::SlateUntilKeyframe => {
                self.source = ActiveSource::Feed;
                self.splice.cut();
                self.end_slate();
            }
            ActiveSource::Feed => {}
        }
        self.send(frame, now);
    }

    /// Saves the keyframe as slate source, at intervals.
    fn save_slate(&mut self, keyframe: &Arc<Frame>, now: Duration) {
        let Some(folder) = &self.slates else { return };
        let is_fresh = self.saved.as_ref().is_some_and(|(at, headers)| {
            now.saturating_sub(*at) < SAVE_INTERVAL && Arc::ptr_eq(headers, &keyframe.headers)
        });
        if !is_fresh {
            self.saved = Some((now, Arc::clone(&keyframe.headers)));
            yonder_slate::save(folder, slate_key(&self.name, self.rendition), keyframe);
        }
    }

    /// Places a frame on the output. Audio is delayed until the next video frame, if there is video.
    fn send(&mut self, frame: &Arc<Frame>, now: Duration) {
        let Some(times) = self.splice.place(&frame.unit, self.clock.ticks(now)) else { return };
        if let Some(hls) = &mut self.hls {
            hls.handle_frame(frame, times);
        }
        let pushes = &self.pushes;
        let slowest = || pushes.iter().filter_map(Push::position).min();
        self.ring.push(Arc::clone(frame), times, slowest);
        if frame.unit.track == Track::Video || frame.headers.video.is_none() {
            self.request_pump();
        } else {
            self.audio_due.get_or_insert(now + MAX_AUDIO_HOLD);
        }
    }

    fn request_pump(&mut self) {
        self.audio_due = None;
        for push in &mut self.pushes {
            push.request_pump();
        }
    }

    /// Passes the active source to the pushes.
    fn update_signal(&mut self, feed: &FeedSignal) {
        let source = match self.source {
            ActiveSource::Feed if feed.flows => Source::Feed,
            ActiveSource::Feed => Source::Away,
            ActiveSource::Slate | ActiveSource::SlateUntilKeyframe => Source::Holding,
        };
        let has_cause = source != Source::Feed;
        if self.signal.source == source
            && self.signal.cause.as_ref() == feed.cause.as_ref().filter(|_| has_cause)
        {
            return;
        }
        self.signal = OutputSignal { source, cause: feed.cause.clone().filter(|_| has_cause) };
        for push in &mut self.pushes {
            push.set_source(&self.signal);
        }
        self.is_changed = true;
    }

    /// Handles the slate and all pushes. Polling of pushes stops after `deadline`; returns true if some remain to be polled.
    pub(crate) fn poll(&mut self, context: &mut OutputContext<'_, '_>, deadline: Instant) -> bool {
        let now = self.clock.now();
        self.poll_slate(now, context);
        self.update_signal(context.signal);
        if self.audio_due.is_some_and(|due| now >= due) {
            self.request_pump();
        }
        self.poll_pushes(now, context, deadline)
    }

    fn poll_pushes(&mut self, now: Duration, context: &mut OutputContext<'_, '_>, deadline: Instant) -> bool {
        let count = self.pushes.len();
        let first = self.first_push;
        let mut has_more = false;
        for turn in 0..count {
            let at = (first + turn) % count;
            let Some(push) = self.pushes.get_mut(at) else { continue };
            let mut push_context = PushContext {
                task: &mut *context.task,
                now,
                is_tick: context.is_tick,
                ring: &mut self.ring,
                stats: &mut *context.stats,
                overload: context.overload,
                signal: &self.signal,
            };
            has_more |= push.poll(&mut push_context, &mut *context.children);
            if turn + 1 < count && Instant::now() >= deadline {
                self.first_push = (at + 1) % count;
                return true;
            }
        }
        has_more
    }

    /// Returns the next time at which [`Self::poll`] is due.
    pub(crate) fn poll_timeout(&self) -> Option<Duration> {
        let pushes = self.pushes.iter().filter_map(Push::poll_timeout).min();
        [pushes, self.audio_due, self.slate.due].into_iter().flatten().min()
    }

    /// Handles a panic while a frame was placed: the pushes restart, and time on the output never steps back.
    fn handle_panic(&mut self) {
        tracing::error!(relay = &*self.name, "output panicked");
        self.splice.cut();
        if let Some(hls) = &mut self.hls {
            hls.cut();
        }
        for push in &mut self.pushes {
            let message = "The service failed while preparing frames for this destination.";
            push.fail(Cause::new(CauseCode::PushInternal, message));
            push.set_source(&self.signal);
        }
        self.is_changed = true;
    }

    /// Runs `work` on this output, and handles a panic.
    pub(crate) fn guard<T: Default>(&mut self, work: impl FnOnce(&mut Self) -> T) -> T {
        let worked = catch_unwind(AssertUnwindSafe(|| work(self)));
        worked.unwrap_or_else(|_| {
            self.handle_panic();
            T::default()
        })
    }

    /// Makes the next frame panic, for tests.
    #[cfg(debug_assertions)]
    pub(crate) fn panic_next(&mut self) {
        self.panics_next = true;
    }

    /// Returns true once something has changed since the last call.
    pub(crate) fn take_change(&mut self) -> bool {
        let mut is_changed = std::mem::take(&mut self.is_changed);
        for push in &mut self.pushes {
            is_changed |= push.take_change();
        }
        is_changed
    }

    /// Returns the views of the pushes.
    pub(crate) fn views(&mut self, now: Duration) -> Vec<PushView> {
        self.pushes.iter_mut().map(|push| push.view(now)).collect()
    }
}

#[cfg(test)]
mod tests;
