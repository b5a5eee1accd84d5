//! Output of a relay: switches all of its pushes between the feed and the slate.
//!
//! The output owns its time ([`Splice`]): whichever source takes over is placed at its first keyframe, so that a late
//! keyframe, a camera whose clock is wrong, or a slate that ran ahead never keeps a source off the output.

mod supervisor;

use std::sync::{Arc, Mutex};
use std::time::{Duration, SystemTime};

use tokio::sync::{Notify, watch};
use yonder_core::{Cause, HoldDecision, HoldMachine, Source};
use yonder_media::splice::Splice;
use yonder_media::{AccessUnit, StreamHeaders, Track};

use crate::feed::{Feed, lock};
use crate::hub::{Entry, Hub};
use crate::slate::{self, Picture, SlateFolder, SlateGop, SlatePlayer, SlateRequest};
use crate::spec::HoldSpec;

pub(crate) use supervisor::supervise;

/// Interval at which the source of the slate is saved.
const SAVE_INTERVAL: Duration = Duration::from_secs(10 * 60);

/// State of the output as pushes need it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct OutputSignal {
    /// Source on the output.
    pub(crate) source: Source,
    /// Why it is not the feed; `None` when a person chose the slate.
    pub(crate) cause: Option<Cause>,
}

/// Source whose units go out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum ActiveSource {
    /// The feed.
    Feed,
    /// The slate, whatever the feed does.
    Slate,
    /// The slate, until the feed's next keyframe.
    SlateUntilKeyframe,
}

#[derive(Debug)]
struct OutputState {
    source: ActiveSource,
    splice: Splice,
    /// The feed's last keyframe, with its headers.
    keyframe: Option<Arc<Entry>>,
    /// When the feed last had a video frame.
    last_frame_at: Option<Duration>,
    /// When the keyframe was last saved, and the headers that it had.
    saved: Option<(Duration, Arc<StreamHeaders>)>,
}

/// Output of a relay, shared by its feed, its pushes and its supervisor.
#[derive(Debug)]
pub(crate) struct RelayOutput {
    /// Name of the relay.
    pub(crate) relay: String,
    pub(crate) feed: Arc<Feed>,
    pub(crate) hub: Hub,
    state: Mutex<OutputState>,
    machine: Mutex<HoldMachine>,
    spec: Mutex<HoldSpec>,
    signal: watch::Sender<OutputSignal>,
    changes: watch::Sender<u64>,
    wake: Notify,
    /// Where the slate's source is kept over a restart.
    slates: Option<SlateFolder>,
}

impl RelayOutput {
    pub(crate) fn new(
        relay: &str,
        feed: Arc<Feed>,
        spec: HoldSpec,
        changes: watch::Sender<u64>,
        slates: Option<SlateFolder>,
    ) -> Arc<Self> {
        let mut machine = HoldMachine::new(spec.after);
        machine.want_hold(spec.wanted);
        let keyframe = slates.as_ref().and_then(|slates| slates.load(relay));
        if keyframe.is_some() {
            // The service ended while the relay ran, so that the broadcast may still be there.
            machine.on_slate_known();
        }
        let state = OutputState {
            source: ActiveSource::Feed,
            splice: Splice::default(),
            keyframe,
            last_frame_at: None,
            saved: None,
        };
        Arc::new(Self {
            relay: relay.to_owned(),
            feed,
            hub: Hub::default(),
            state: Mutex::new(state),
            machine: Mutex::new(machine),
            spec: Mutex::new(spec),
            signal: watch::Sender::default(),
            changes,
            wake: Notify::new(),
            slates,
        })
    }

    pub(crate) fn signal(&self) -> watch::Receiver<OutputSignal> {
        self.signal.subscribe()
    }

    /// Holds or resumes, or changes when and with what.
    pub(crate) fn set_hold(&self, spec: HoldSpec) {
        {
            let mut machine = lock(&self.machine);
            machine.set_after(spec.after);
            machine.want_hold(spec.wanted);
        }
        *lock(&self.spec) = spec;
        self.wake.notify_one();
    }

    /// Handles a unit of the feed: it goes out unless the slate is on the output. A keyframe brings the feed back where
    /// that is wanted.
    pub(crate) fn handle_feed_unit(&self, entry: &Arc<Entry>) {
        let mut state = lock(&self.state);
        let is_keyframe = entry.unit.track == Track::Video && entry.unit.keyframe;
        if entry.unit.track == Track::Video {
            state.last_frame_at = Some(self.feed.clock.now());
        }
        if is_keyframe {
            state.keyframe = Some(Arc::clone(entry));
            self.save_slate(&mut state, entry);
        }
        let returns = match state.source {
            ActiveSource::Slate => return,
            ActiveSource::SlateUntilKeyframe if !is_keyframe => return,
            ActiveSource::SlateUntilKeyframe => {
                state.source = ActiveSource::Feed;
                state.splice.cut();
                true
            }
            ActiveSource::Feed => false,
        };
        self.send(&mut state, entry);
        drop(state);
        if returns {
            self.publish_signal();
            // The slate's supervisor has nothing left to send.
            self.wake.notify_one();
        }
    }

    /// Saves the keyframe for a slate after a restart, now and then.
    fn save_slate(&self, state: &mut OutputState, keyframe: &Arc<Entry>) {
        let Some(slates) = &self.slates else { return };
        let now = self.feed.clock.now();
        let is_fresh = state.saved.as_ref().is_some_and(|(at, headers)| {
            now.saturating_sub(*at) < SAVE_INTERVAL && Arc::ptr_eq(headers, &keyframe.headers)
        });
        if !is_fresh {
            state.saved = Some((now, Arc::clone(&keyframe.headers)));
            slate::save(slates, &self.relay, keyframe);
        }
    }

    fn send(&self, state: &mut OutputState, entry: &Arc<Entry>) {
        let unit = &entry.unit;
        let Some(times) = state.splice.place(unit, self.feed.clock.ticks_now()) else { return };
        if (times.dts, times.pts) == (unit.dts, unit.pts) {
            self.hub.publish(Arc::clone(entry));
            return;
        }
        let moved = AccessUnit { dts: times.dts, pts: times.pts, ..unit.clone() };
        self.hub.publish(Arc::new(Entry::new(moved, Arc::clone(&entry.headers))));
    }

    /// Sends a unit of the slate, unless the feed is on the output again.
    fn send_slate(&self, unit: AccessUnit, headers: &Arc<StreamHeaders>) {
        let mut state = lock(&self.state);
        if state.source != ActiveSource::Feed {
            self.send(&mut state, &Arc::new(Entry::new(unit, Arc::clone(headers))));
        }
    }

    fn is_on_feed(&self) -> bool {
        lock(&self.state).source == ActiveSource::Feed
    }

    fn picture(&self) -> Option<Arc<Picture>> {
        lock(&self.spec).picture.clone()
    }

    /// Evaluates the feed's state and the time.
    fn decide(&self) -> HoldDecision {
        let flows = self.feed.signal().borrow().flows;
        let last_frame_at = lock(&self.state).last_frame_at;
        let now = self.feed.clock.now();
        let mut machine = lock(&self.machine);
        machine.on_feed(flows, last_frame_at, now);
        machine.decide(now)
    }

    /// True when `other` is the present picture; samples are not compared.
    fn has_picture(&self, other: Option<&Arc<Picture>>) -> bool {
        match (&lock(&self.spec).picture, other) {
            (Some(own), Some(other)) => Arc::ptr_eq(own, other),
            (own, other) => own.is_none() && other.is_none(),
        }
    }

    /// Everything that a slate is made from now; `None` before the feed's first keyframe.
    fn slate_request(&self) -> Option<SlateRequest> {
        let (keyframe, last_frame_at) = {
            let state = lock(&self.state);
            (state.keyframe.clone()?, state.last_frame_at)
        };
        let clock = self.feed.clock;
        let fps = lock(&self.feed.figures).video(clock.now()).and_then(|video| video.fps);
        let by_a_person = lock(&self.machine).is_wanted();
        let away_since: Option<SystemTime> = last_frame_at.filter(|_| !by_a_person).map(|at| clock.wall(at));
        let picture = self.picture();
        Some(SlateRequest { keyframe, fps, name: self.relay.clone(), away_since, picture })
    }

    /// Puts a slate on the output; its first frame is due now.
    fn begin_slate(&self, gop: SlateGop) -> SlatePlayer {
        let mut state = lock(&self.state);
        state.source = ActiveSource::Slate;
        state.splice.cut();
        SlatePlayer::new(gop, self.feed.clock.ticks_now())
    }

    /// The feed's next keyframe ends the slate, unless a person wants the slate.
    fn apply_hold_request(&self) {
        let wanted = lock(&self.machine).is_wanted();
        let mut state = lock(&self.state);
        if state.source != ActiveSource::Feed {
            state.source = if wanted { ActiveSource::Slate } else { ActiveSource::SlateUntilKeyframe };
        }
    }

    /// Publishes the source on the output to the pushes.
    fn publish_signal(&self) {
        let feed = self.feed.signal().borrow().clone();
        let source = match lock(&self.state).source {
            ActiveSource::Feed if feed.flows => Source::Feed,
            ActiveSource::Feed => Source::Away,
            ActiveSource::Slate | ActiveSource::SlateUntilKeyframe => Source::Holding,
        };
        let signal = OutputSignal { source, cause: feed.cause.filter(|_| source != Source::Feed) };
        let changed = self.signal.send_if_modified(|current| {
            let differs = *current != signal;
            *current = signal;
            differs
        });
        if changed {
            self.changes.send_modify(|count| *count += 1);
        }
    }
}

#[cfg(test)]
mod tests;
