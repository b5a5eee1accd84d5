//! What a relay sends to all of its pushes: its feed, or the holding picture.

mod supervisor;

use std::sync::{Arc, Mutex};
use std::time::{Duration, SystemTime};

use tokio::sync::{Notify, watch};
use yonder_core::{Cause, HoldMachine, Showing, Source};
use yonder_media::{AccessUnit, StreamHeaders, Track};

use crate::feed::{Feed, lock};
use crate::holding::{Picture, Round, Sequence, Wanted};
use crate::hub::{Entry, Hub};
use crate::spec::HoldSpec;

pub(crate) use supervisor::supervise;

/// What pushes must know of their relay.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct ProgramSignal {
    /// What there is to send.
    pub(crate) source: Source,
    /// Why it is not the feed, where nobody wanted that.
    pub(crate) cause: Option<Cause>,
}

/// Whose units go out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Sending {
    /// The feed's.
    Feed,
    /// The holding picture's, whatever the feed does.
    Holding,
    /// The holding picture's, until the feed has a keyframe.
    Returning,
}

#[derive(Debug)]
struct Outlet {
    sending: Sending,
    /// Decoding times given out last, of picture and sound.
    last: (Option<i64>, Option<i64>),
    /// The feed's last keyframe, with its headers.
    keyframe: Option<Arc<Entry>>,
    /// When the feed last had a picture.
    pictured: Option<Duration>,
}

impl Outlet {
    fn last_of(&mut self, track: Track) -> &mut Option<i64> {
        match track {
            Track::Video => &mut self.last.0,
            Track::Audio => &mut self.last.1,
        }
    }

    /// Where the holding picture may begin.
    fn end(&self) -> Option<i64> {
        self.last.0.max(self.last.1)
    }
}

/// What a relay sends, shared by its feed, its pushes, and the task that decides.
#[derive(Debug)]
pub(crate) struct Program {
    /// Name of the relay.
    pub(crate) relay: String,
    pub(crate) feed: Arc<Feed>,
    pub(crate) hub: Hub,
    outlet: Mutex<Outlet>,
    machine: Mutex<HoldMachine>,
    spec: Mutex<HoldSpec>,
    signal: watch::Sender<ProgramSignal>,
    changes: watch::Sender<u64>,
    wake: Notify,
}

impl Program {
    pub(crate) fn new(
        relay: &str,
        feed: Arc<Feed>,
        spec: HoldSpec,
        changes: watch::Sender<u64>,
    ) -> Arc<Self> {
        let mut machine = HoldMachine::new(spec.after);
        machine.want_hold(spec.wanted);
        let outlet = Outlet { sending: Sending::Feed, last: (None, None), keyframe: None, pictured: None };
        Arc::new(Self {
            relay: relay.to_owned(),
            feed,
            hub: Hub::default(),
            outlet: Mutex::new(outlet),
            machine: Mutex::new(machine),
            spec: Mutex::new(spec),
            signal: watch::Sender::default(),
            changes,
            wake: Notify::new(),
        })
    }

    pub(crate) fn signal(&self) -> watch::Receiver<ProgramSignal> {
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

    /// Takes what the feed has; it goes out unless the holding picture does.
    pub(crate) fn offer(&self, entry: &Arc<Entry>) {
        let mut outlet = lock(&self.outlet);
        let unit = &entry.unit;
        if unit.track == Track::Video {
            outlet.pictured = Some(self.feed.clock.now());
            if unit.keyframe {
                outlet.keyframe = Some(Arc::clone(entry));
            }
        }
        let returns = match outlet.sending {
            Sending::Holding => return,
            Sending::Feed => false,
            Sending::Returning => {
                let begins = unit.track == Track::Video && unit.keyframe;
                if !begins || outlet.end().is_some_and(|end| unit.dts <= end) {
                    return;
                }
                outlet.sending = Sending::Feed;
                true
            }
        };
        self.send(&mut outlet, entry);
        drop(outlet);
        if returns {
            self.tell();
        }
    }

    /// Time never steps back, whoever it is that sends.
    fn send(&self, outlet: &mut Outlet, entry: &Arc<Entry>) {
        let last = outlet.last_of(entry.unit.track);
        if last.is_some_and(|last| entry.unit.dts <= last) {
            return;
        }
        *last = Some(entry.unit.dts);
        self.hub.publish(Arc::clone(entry));
    }

    /// Sends a unit of the holding picture, unless the feed sends again.
    fn send_held(&self, unit: AccessUnit, headers: &Arc<StreamHeaders>) {
        let mut outlet = lock(&self.outlet);
        if outlet.sending != Sending::Feed {
            self.send(&mut outlet, &Arc::new(Entry::new(unit, Arc::clone(headers))));
        }
    }

    fn sends_feed(&self) -> bool {
        lock(&self.outlet).sending == Sending::Feed
    }

    fn picture(&self) -> Option<Arc<Picture>> {
        lock(&self.spec).picture.clone()
    }

    /// Looks at the feed and at the time.
    fn decide(&self) -> Showing {
        let flows = self.feed.signal().borrow().flows;
        let pictured = lock(&self.outlet).pictured;
        let now = self.feed.clock.now();
        let mut machine = lock(&self.machine);
        machine.on_feed(flows, pictured, now);
        machine.decide(now)
    }

    /// The same picture, without a look at its samples.
    fn has_picture(&self, other: Option<&Arc<Picture>>) -> bool {
        match (&lock(&self.spec).picture, other) {
            (Some(own), Some(other)) => Arc::ptr_eq(own, other),
            (own, other) => own.is_none() && other.is_none(),
        }
    }

    /// What a holding picture is made from now.
    fn wanted(&self) -> Option<Wanted> {
        let (keyframe, pictured) = {
            let outlet = lock(&self.outlet);
            (outlet.keyframe.clone()?, outlet.pictured)
        };
        let clock = self.feed.clock;
        let fps = lock(&self.feed.figures).video(clock.now()).and_then(|video| video.fps);
        let by_a_person = lock(&self.machine).is_wanted();
        let away_since: Option<SystemTime> = pictured.filter(|_| !by_a_person).map(|at| clock.wall(at));
        let picture = self.picture();
        Some(Wanted { keyframe, fps, name: self.relay.clone(), away_since, picture })
    }

    /// The holding picture takes over after what was sent last, or so long ago that a late unit of the feed does
    /// not come before it.
    fn begin_holding(&self, round: Round, lag: i64) -> Option<Sequence> {
        let now = self.feed.ticks_now()?;
        let mut outlet = lock(&self.outlet);
        let start = outlet.end().map_or(now - lag, |end| (end + round.frame_ticks()).max(now - lag));
        outlet.sending = Sending::Holding;
        Some(Sequence::new(round, start))
    }

    /// The feed's next keyframe ends the holding picture, unless a person wants that.
    fn follow_wish(&self) {
        let wanted = lock(&self.machine).is_wanted();
        let mut outlet = lock(&self.outlet);
        if outlet.sending != Sending::Feed {
            outlet.sending = if wanted { Sending::Holding } else { Sending::Returning };
        }
    }

    /// Passes on what there is to send.
    fn tell(&self) {
        let feed = self.feed.signal().borrow().clone();
        let source = match lock(&self.outlet).sending {
            Sending::Feed if feed.flows => Source::Feed,
            Sending::Feed => Source::Away,
            Sending::Holding | Sending::Returning => Source::Holding,
        };
        let signal = ProgramSignal { source, cause: feed.cause.filter(|_| source != Source::Feed) };
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
