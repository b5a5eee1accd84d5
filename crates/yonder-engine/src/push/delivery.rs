//! One delivery: dial the platform, run the dialogue, and send what the hub holds.

use std::io::{ErrorKind, IoSlice};
use std::net::Shutdown;
use std::sync::Arc;
use std::time::Duration;

use bytes::BytesMut;
use socket2::SockRef;
use tokio::net::TcpStream;
use tokio::sync::watch;
use tokio::time::{sleep_until, timeout};
use yonder_core::{Cause, CauseCode, PushMachine, PushState};
use yonder_media::{StreamHeaders, TICKS_PER_SECOND, Track};
use yonder_rtmp::{Publisher, PublisherConfig, PublisherEvent};

use crate::causes;
use crate::dial;
use crate::feed::lock;
use crate::hub::{Cursor, Entry, Taken};
use crate::view::StepView;

use super::Push;

/// Bytes that may wait for the socket; what is beyond waits in the hub, where it costs nothing.
const HIGH_WATER: usize = 256 * 1024;
/// Slices handed to one system call.
const SLICES: usize = 64;
/// A platform that takes nothing for so long is gone.
const NO_PROGRESS: Duration = Duration::from_secs(10);
/// Backlog at which a push counts as lagging, and at which it no longer does, in ticks.
const LAGGING_TICKS: i64 = 3 * TICKS_PER_SECOND / 2;
const CAUGHT_UP_TICKS: i64 = TICKS_PER_SECOND / 2;
/// An orderly end may take this long.
const CLOSE_PATIENCE: Duration = Duration::from_millis(1500);
/// How often the backlog is looked at.
const TICK: Duration = Duration::from_secs(1);

/// Runs until the platform ends it (an error) or the push is unwanted.
pub(super) async fn run(push: &Push) -> Result<(), Cause> {
    lock(&push.figures).steps.clear();
    let mut delivery = Delivery::new(push);
    let stream = tokio::select! {
        stream = delivery.reach() => stream?,
        () = push.hung_up() => return Ok(()),
    };
    let result = tokio::select! {
        result = delivery.run(&stream) => result,
        () = push.hung_up() => Ok(()),
    };
    if result.is_ok() {
        delivery.close(&stream).await;
    }
    lock(&push.figures).backlog = Duration::ZERO;
    result
}

struct Delivery<'a> {
    push: &'a Push,
    publisher: Publisher,
    head: watch::Receiver<u64>,
    cursor: Cursor,
    accepted: bool,
    began: Duration,
    /// Decoding time that is zero on the wire.
    base: Option<i64>,
    last_dts: Option<i64>,
    headers: Option<Arc<StreamHeaders>>,
    progressed: Duration,
    ticked: Duration,
}

impl<'a> Delivery<'a> {
    fn new(push: &'a Push) -> Self {
        let now = push.clock.now();
        let config = PublisherConfig {
            server: push.spec.server.clone(),
            key: push.spec.key.clone(),
            seed: rand::random(),
        };
        Self {
            push,
            publisher: Publisher::new(config),
            head: push.feed.hub.head(),
            cursor: Cursor::default(),
            accepted: false,
            began: now,
            base: None,
            last_dts: None,
            headers: None,
            progressed: now,
            ticked: now,
        }
    }

    fn note_step(&self, name: &'static str) {
        let after = self.push.clock.now().saturating_sub(self.began);
        lock(&self.push.figures).steps.push(StepView { name, after });
    }

    async fn reach(&self) -> Result<TcpStream, Cause> {
        let server = &self.push.spec.server;
        let target = format!("{}:{}", server.host, server.port);
        let addresses = dial::resolve(&server.host, server.port)
            .await
            .map_err(|error| causes::push_dial(&error, &target))?;
        self.note_step("name found");
        let stream = dial::connect(&addresses).await.map_err(|error| causes::push_dial(&error, &target))?;
        self.note_step("connected");
        Ok(stream)
    }

    async fn run(&mut self, stream: &TcpStream) -> Result<(), Cause> {
        let mut input = BytesMut::with_capacity(4096);
        let mut signal = self.push.feed.signal();
        signal.mark_changed();
        let now = self.push.clock.now();
        self.progressed = now;
        self.publisher.start(now);
        loop {
            self.drain();
            self.fill();
            self.write(stream)?;
            let waits_to_write = !self.publisher.outbox().is_empty();
            let wants_more = self.accepted && self.publisher.outbox().len() < HIGH_WATER;
            let deadline = self.next_deadline();
            tokio::select! {
                ready = stream.readable() => {
                    ready.map_err(|error| broke(&error))?;
                    self.read(stream, &mut input)?;
                }
                ready = stream.writable(), if waits_to_write => ready.map_err(|error| broke(&error))?,
                _ = self.head.changed(), if wants_more => {}
                _ = signal.changed() => self.push.note_feed(),
                () = sleep_until(self.push.clock.instant(deadline)) => self.handle_deadline()?,
            }
        }
    }

    fn drain(&mut self) {
        while let Some(event) = self.publisher.poll_event() {
            match event {
                PublisherEvent::Greeted => self.note_step("greeted"),
                PublisherEvent::Connected => self.note_step("application accepted"),
                PublisherEvent::Accepted => {
                    self.note_step("key accepted");
                    self.accepted = true;
                }
            }
        }
    }

    fn read(&mut self, stream: &TcpStream, input: &mut BytesMut) -> Result<(), Cause> {
        input.reserve(4096);
        match stream.try_read_buf(input) {
            Ok(0) => Err(self.closed_by_platform()),
            Ok(_) => self
                .publisher
                .handle_input(input, self.push.clock.now())
                .map_err(|error| causes::push(&error)),
            Err(error) if error.kind() == ErrorKind::WouldBlock => Ok(()),
            Err(error) => Err(broke(&error)),
        }
    }

    fn closed_by_platform(&self) -> Cause {
        let message = if self.accepted {
            "The platform closed the connection.".to_owned()
        } else {
            let waiting = self.publisher.step().waits_for();
            format!("The platform closed the connection while we waited for {waiting}.")
        };
        Cause::new(CauseCode::PushClosedByPlatform, message)
    }

    /// Moves entries from the hub into the outbox, as far as there is room.
    fn fill(&mut self) {
        if !self.accepted {
            return;
        }
        let mut dropped = 0;
        let mut sent = 0;
        while self.publisher.outbox().len() < HIGH_WATER {
            let Taken::Entry { entry, skipped } = self.push.feed.hub.take(&mut self.cursor) else { break };
            dropped += skipped;
            sent += u64::from(entry.unit.track == Track::Video);
            self.send(&entry);
        }
        if sent + dropped == 0 {
            return;
        }
        {
            let mut figures = lock(&self.push.figures);
            figures.frames_sent += sent;
            figures.frames_dropped += dropped;
        }
        if self.push.state() == PushState::Dialing {
            self.note_step("first keyframe");
            self.push.change(PushMachine::on_live);
            // What the hub held may be all there is: the feed may have gone meanwhile.
            self.push.note_feed();
        }
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
                self.publisher.send_headers(&entry.headers, timestamp);
            }
            self.headers = Some(Arc::clone(&entry.headers));
        }
        self.publisher.send_body(entry.body(), timestamp);
        self.last_dts = Some(dts);
    }

    /// Writes until the outbox is empty or the socket is full.
    fn write(&mut self, stream: &TcpStream) -> Result<(), Cause> {
        let outbox = self.publisher.outbox();
        let mut written = 0;
        while !outbox.is_empty() {
            let mut slices = [IoSlice::new(&[]); SLICES];
            let filled = outbox.io_slices(&mut slices);
            match stream.try_write_vectored(slices.split_at(filled).0) {
                Ok(count) => {
                    outbox.advance(count);
                    written += count;
                }
                Err(error) if error.kind() == ErrorKind::WouldBlock => break,
                Err(error) => return Err(broke(&error)),
            }
        }
        let now = self.push.clock.now();
        if written > 0 {
            self.progressed = now;
            lock(&self.push.figures).add_bytes(written, now);
        } else if self.publisher.outbox().is_empty() {
            // Nothing to write is no lack of progress.
            self.progressed = now;
        }
        Ok(())
    }

    fn next_deadline(&self) -> Duration {
        let tick = (self.ticked + TICK).min(self.progressed + NO_PROGRESS);
        self.publisher.poll_timeout().map_or(tick, |deadline| deadline.min(tick))
    }

    fn handle_deadline(&mut self) -> Result<(), Cause> {
        let now = self.push.clock.now();
        self.publisher.handle_timeout(now).map_err(|error| causes::push(&error))?;
        if now.saturating_sub(self.progressed) >= NO_PROGRESS {
            let message = format!("The platform has taken no data for {} s.", NO_PROGRESS.as_secs());
            return Err(Cause::new(CauseCode::PushNoAnswer, message));
        }
        if now >= self.ticked + TICK {
            self.ticked = now;
            self.judge_backlog();
        }
        Ok(())
    }

    fn judge_backlog(&self) {
        let newest = self.push.feed.hub.newest_dts();
        let backlog = match (newest, self.last_dts) {
            (Some(newest), Some(last)) => (newest - last).max(0),
            _ => 0,
        };
        let (kbps, backlog_time) = {
            let mut figures = lock(&self.push.figures);
            figures.backlog = Duration::from_millis(u64::try_from(backlog / 90).unwrap_or_default());
            (figures.rate.kbps(self.push.clock.now()), figures.backlog)
        };
        if backlog > LAGGING_TICKS {
            let needed = lock(&self.push.feed.figures).video(self.push.clock.now()).map_or(0, |v| v.kbps);
            let message = format!(
                "The way to this destination carries {kbps} kbit/s and the push needs {needed} kbit/s; it is {:.1} s behind.",
                backlog_time.as_secs_f64()
            );
            let cause = Cause::new(CauseCode::PushTooSlow, message);
            self.push.change(|machine, now| machine.on_backlog(Some(cause), now));
        } else if backlog < CAUGHT_UP_TICKS && self.push.state() == PushState::Lagging {
            self.push.change(|machine, now| machine.on_backlog(None, now));
        }
    }

    /// Ends the broadcast in order, if the platform still listens: says goodbye, and waits until the platform has
    /// heard it. Closing at once could take back what it has not read yet.
    async fn close(&mut self, stream: &TcpStream) {
        self.publisher.close();
        let farewell = async {
            while self.write(stream).is_ok() && !self.publisher.outbox().is_empty() {
                if stream.writable().await.is_err() {
                    return;
                }
            }
            if SockRef::from(stream).shutdown(Shutdown::Write).is_ok() {
                read_to_end(stream).await;
            }
        };
        // A platform that does not listen cannot be told.
        let _told = timeout(CLOSE_PATIENCE, farewell).await;
    }
}

/// Reads, and leaves aside, whatever still comes until the peer closes.
async fn read_to_end(stream: &TcpStream) {
    let mut rest = [0; 1024];
    while stream.readable().await.is_ok() {
        match stream.try_read(&mut rest) {
            Ok(0) => return,
            Ok(_) => {}
            Err(error) if error.kind() == ErrorKind::WouldBlock => {}
            Err(_) => return,
        }
    }
}

fn broke(error: &std::io::Error) -> Cause {
    let code = if error.kind() == ErrorKind::TimedOut {
        CauseCode::PushNoAnswer
    } else {
        CauseCode::PushClosedByPlatform
    };
    Cause::new(code, format!("The connection to the platform broke ({error})."))
}
