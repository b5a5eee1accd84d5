//! What is written to a platform, and when.
//!
//! A unit is written the moment it is published, by the task that publishes it: to wake the push's own task for each
//! would cost more than the writing. That task is called upon only when the socket is full or something fails.

use std::io::{self, ErrorKind};
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::{Arc, Mutex, MutexGuard};
use std::time::Duration;

use bytes::BytesMut;
use tokio::sync::Notify;
use yonder_address::{RtmpServer, StreamKey};
use yonder_core::{Cause, CauseCode, PushMachine};
use yonder_media::{StreamHeaders, Track};
use yonder_rtmp::{MeasuredRates, Publisher, PublisherConfig, PublisherEvent};

use crate::causes;
use crate::feed::lock;
use crate::hub::{Cursor, Entry, Listener, Taken};
use crate::push::Push;
use crate::push::delivery::{
    KEYFRAME_WARNING, NO_PROGRESS, Steps, TICK, backlog, no_keyframe, warn_about_keyframe,
};
use crate::push::link::Link;

/// Bytes that may wait for the socket; what is beyond waits in the hub, where it costs nothing.
const HIGH_WATER: usize = 256 * 1024;

/// A connection, shared by the push's task and by those who publish.
#[derive(Debug)]
pub(super) struct Wire {
    state: Mutex<State>,
    /// Tells the task that there is something for it to do.
    call: Notify,
}

/// The dialogue, and how far the relay's units are written.
#[derive(Debug)]
pub(super) struct State {
    push: Arc<Push>,
    steps: Steps,
    publisher: Publisher,
    link: Link,
    cursor: Cursor,
    /// Since when the platform accepts units.
    accepted_at: Option<Duration>,
    /// A unit was sent, and everybody knows.
    live: bool,
    /// Decoding time that is zero on the wire.
    base: Option<i64>,
    last_dts: Option<i64>,
    headers: Option<Arc<StreamHeaders>>,
    progressed: Duration,
    ticked: Duration,
    /// The task waits for the socket.
    awaited: bool,
    /// What failed while a unit was written, for the task to end with.
    failure: Option<Cause>,
}

/// What one round of writing did.
#[derive(Debug, Default)]
struct Round {
    sent: u64,
    dropped: u64,
    written: usize,
}

impl Wire {
    /// The wire over `link`; it is given the relay's units from now on, for as long as somebody holds it.
    pub(super) fn open(
        push: &Arc<Push>,
        steps: Steps,
        link: Link,
        server: &RtmpServer,
        key: StreamKey,
    ) -> Arc<Self> {
        let now = push.clock.now();
        let config = PublisherConfig { server: server.clone(), key, seed: rand::random() };
        let state = State {
            push: Arc::clone(push),
            steps,
            publisher: Publisher::new(config),
            link,
            cursor: Cursor::default(),
            accepted_at: None,
            live: false,
            base: None,
            last_dts: None,
            headers: None,
            progressed: now,
            ticked: now,
            awaited: false,
            failure: None,
        };
        let wire = Arc::new(Self { state: Mutex::new(state), call: Notify::new() });
        let listener: Arc<dyn Listener> = Arc::clone(&wire) as Arc<dyn Listener>;
        push.output.hub.listen(&listener);
        wire
    }

    /// The state between any two of its methods is sound.
    pub(super) fn lock(&self) -> MutexGuard<'_, State> {
        lock(&self.state)
    }

    /// Resolves when the task has something to do that no socket tells it.
    pub(super) async fn needs_task(&self) {
        self.call.notified().await;
    }
}

impl Listener for Wire {
    fn handle_published(&self) {
        let mut state = self.lock();
        if state.accepted_at.is_none() || state.failure.is_some() {
            return;
        }
        // A fault of this push is nobody else's, least of all the feed's.
        let pumped = catch_unwind(AssertUnwindSafe(|| state.pump()));
        if let Err(cause) = pumped.unwrap_or_else(|_| Err(fault())) {
            state.failure = Some(cause);
        }
        if state.failure.is_some() || state.is_blocked() && !state.awaited {
            self.call.notify_one();
        }
    }
}

impl State {
    pub(super) fn start(&mut self) {
        let now = self.push.clock.now();
        self.progressed = now;
        self.publisher.start(now);
    }

    /// Writes what there is; tells whether the socket must be waited for, and until when at most.
    pub(super) fn pump_for_task(&mut self) -> Result<(bool, Duration), Cause> {
        if let Some(cause) = self.failure.take() {
            return Err(cause);
        }
        self.pump()?;
        self.awaited = self.is_blocked();
        Ok((self.awaited, self.next_deadline()))
    }

    fn is_blocked(&self) -> bool {
        self.link.waits_to_write() || !self.publisher.is_flushed()
    }

    /// Moves units from the hub to the socket until there are none, or the socket is full.
    fn pump(&mut self) -> Result<(), Cause> {
        self.drain();
        let mut round = Round::default();
        loop {
            let exhausted = self.fill(&mut round);
            round.written += self.link.try_write(self.publisher.outbox()).map_err(|error| broke(&error))?;
            if exhausted || self.is_blocked() {
                break;
            }
        }
        self.note(&round);
        Ok(())
    }

    fn drain(&mut self) {
        while let Some(event) = self.publisher.poll_event() {
            match event {
                PublisherEvent::Greeted => self.steps.note("greeted"),
                PublisherEvent::Connected => self.steps.note("application accepted"),
                PublisherEvent::Accepted => {
                    self.steps.note("key accepted");
                    self.accepted_at = Some(self.push.clock.now());
                }
            }
        }
    }

    /// Moves units into the outbox, as far as there is room; true when the hub has no more.
    fn fill(&mut self, round: &mut Round) -> bool {
        if self.accepted_at.is_none() {
            return true;
        }
        while self.publisher.outbox().len() < HIGH_WATER {
            let Taken::Entry { entry, skipped, .. } = self.push.output.hub.take(&mut self.cursor) else {
                return true;
            };
            round.dropped += skipped;
            round.sent += u64::from(entry.unit.track == Track::Video);
            self.send(&entry);
        }
        false
    }

    fn send(&mut self, entry: &Arc<Entry>) {
        let dts = entry.unit.dts;
        let base = *self.base.get_or_insert(dts);
        // Modulo 2^32: RTMP time wraps after 49.7 days and receivers expect it to.
        let milliseconds = dts.saturating_sub(base).max(0) / 90;
        let timestamp = u32::try_from(milliseconds & 0xffff_ffff).unwrap_or_default();
        let known = self.headers.as_ref().is_some_and(|known| Arc::ptr_eq(known, &entry.headers));
        if !known {
            if self.headers.as_ref().is_none_or(|known| **known != *entry.headers) {
                let rates = self.rates();
                self.publisher.send_headers(&entry.headers, rates, timestamp);
            }
            self.headers = Some(Arc::clone(&entry.headers));
        }
        self.publisher.send_body(entry.body(), timestamp);
        if entry.unit.track == Track::Video {
            self.last_dts = Some(dts);
        }
    }

    /// What was measured of the feed so far; at its beginning that is nothing.
    fn rates(&self) -> MeasuredRates {
        let video = lock(&self.push.feed.figures).video(self.push.clock.now());
        let number = |kbps: u64| u32::try_from(kbps).ok().filter(|kbps| *kbps > 0).map(f64::from);
        MeasuredRates {
            fps: video.as_ref().and_then(|video| video.fps),
            video_kbps: video.as_ref().and_then(|video| number(video.kbps)),
            audio_kbps: None,
        }
    }

    fn note(&mut self, round: &Round) {
        // Nothing to write is no lack of progress.
        if round.written > 0 || !self.is_blocked() {
            self.progressed = self.push.clock.now();
        }
        if round.written > 0 || round.sent + round.dropped > 0 {
            let mut figures = lock(&self.push.figures);
            figures.frames_sent += round.sent;
            figures.frames_dropped += round.dropped;
            figures.add_bytes(round.written, self.progressed);
        }
        if !self.live && round.sent + round.dropped > 0 {
            self.live = true;
            self.steps.note("first keyframe");
            self.push.change(PushMachine::on_live);
            // What the hub held may be all there is: the feed may have gone meanwhile, or the picture be the holding one.
            self.push.note_source();
        }
    }

    pub(super) fn read(&mut self, input: &mut BytesMut) -> Result<(), Cause> {
        match self.link.try_read(input) {
            Ok(0) => Err(self.closed_by_platform()),
            Ok(_) => self
                .publisher
                .handle_input(input, self.push.clock.now())
                .map_err(|error| causes::push(&self.push, &error)),
            Err(error) if error.kind() == ErrorKind::WouldBlock => Ok(()),
            Err(error) => Err(broke(&error)),
        }
    }

    fn closed_by_platform(&self) -> Cause {
        if let Some(waited) = self.waited_for_keyframe()
            && waited >= KEYFRAME_WARNING
        {
            return no_keyframe(waited);
        }
        let message = if self.accepted_at.is_some() {
            "The platform closed the connection.".to_owned()
        } else {
            let waiting = self.publisher.step().waits_for();
            format!("The platform closed the connection while we waited for {waiting}.")
        };
        Cause::new(CauseCode::PushClosedByPlatform, message)
    }

    /// How long the platform has been waiting for the first unit; `None` before it accepts units and once one was sent.
    fn waited_for_keyframe(&self) -> Option<Duration> {
        let since = self.accepted_at.filter(|_| !self.live)?;
        Some(self.push.clock.now().saturating_sub(since))
    }

    fn next_deadline(&self) -> Duration {
        let tick = (self.ticked + TICK).min(self.progressed + NO_PROGRESS);
        self.publisher.poll_timeout().map_or(tick, |deadline| deadline.min(tick))
    }

    pub(super) fn handle_deadline(&mut self) -> Result<(), Cause> {
        let now = self.push.clock.now();
        self.publisher.handle_timeout(now).map_err(|error| causes::push(&self.push, &error))?;
        if now.saturating_sub(self.progressed) >= NO_PROGRESS && self.is_blocked() {
            let message = format!("The platform has taken no data for {} s.", NO_PROGRESS.as_secs());
            return Err(Cause::new(CauseCode::PushNoAnswer, message));
        }
        if now >= self.ticked + TICK {
            self.ticked = now;
            match self.waited_for_keyframe() {
                Some(waited) => warn_about_keyframe(&self.push, waited),
                None => backlog::judge(&self.push, self.last_dts),
            }
        }
        Ok(())
    }

    /// The last words; no unit is written after them.
    pub(super) fn say_goodbye(&mut self) {
        self.accepted_at = None;
        self.publisher.close();
    }

    /// Writes what waits; true while the socket must be waited for. When all is written the stream ends.
    pub(super) fn write_farewell(&mut self) -> io::Result<bool> {
        let written = self.link.try_write(self.publisher.outbox())?;
        lock(&self.push.figures).add_bytes(written, self.push.clock.now());
        let blocked = self.is_blocked();
        if !blocked {
            self.link.finish();
        }
        Ok(blocked)
    }

    /// Reads, and leaves aside, what still comes; false when the peer has closed.
    pub(super) fn read_rest(&mut self, rest: &mut BytesMut) -> bool {
        rest.clear();
        match self.link.try_read(rest) {
            Ok(count) => count > 0,
            Err(error) => error.kind() == ErrorKind::WouldBlock,
        }
    }
}

fn fault() -> Cause {
    tracing::error!("a push failed inside the service");
    Cause::new(CauseCode::PushInternal, "The service failed while pushing to this destination.")
}

pub(super) fn broke(error: &io::Error) -> Cause {
    let code = if error.kind() == ErrorKind::TimedOut {
        CauseCode::PushNoAnswer
    } else {
        CauseCode::PushClosedByPlatform
    };
    Cause::new(code, format!("The connection to the platform broke ({error})."))
}
