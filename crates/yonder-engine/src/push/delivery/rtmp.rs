//! Delivery by RTMP, with TLS or without.

use std::io::ErrorKind;
use std::sync::Arc;
use std::time::Duration;

use bytes::BytesMut;
use tokio::sync::watch;
use tokio::time::timeout;
use yonder_address::RtmpServer;
use yonder_core::{Cause, CauseCode, PushMachine, PushState};
use yonder_media::{StreamHeaders, Track};
use yonder_rtmp::{MeasuredRates, Publisher, PublisherConfig, PublisherEvent};

use crate::alarm::Alarm;
use crate::causes;
use crate::dial;
use crate::feed::lock;
use crate::hub::{Cursor, Entry, Taken};
use crate::push::link::Link;
use crate::reach::{TLS_TIMEOUT, trust};
use crate::spec::{UplinkSpec, Way};
use crate::tls::TlsError;

use super::{CLOSE_PATIENCE, End, NO_PROGRESS, Push, Steps, TICK, backlog, ended};

/// Bytes that may wait for the socket; what is beyond waits in the hub, where it costs nothing.
const HIGH_WATER: usize = 256 * 1024;

pub(super) async fn run(push: &Push, server: &RtmpServer, way: &Way, better: &[Way]) -> Result<End, Cause> {
    let mut delivery = Delivery::new(push, server)?;
    let mut link = tokio::select! {
        link = delivery.reach(server, way.uplink.as_ref()) => link?,
        () = push.hung_up() => return Ok(End::Unwanted),
    };
    let result = tokio::select! {
        result = delivery.run(&mut link) => result.map(|()| End::Unwanted),
        end = ended(push, better) => Ok(end),
    };
    if result.is_ok() {
        delivery.close(&mut link).await;
    }
    result
}

struct Delivery<'a> {
    push: &'a Push,
    steps: Steps<'a>,
    publisher: Publisher,
    head: watch::Receiver<u64>,
    cursor: Cursor,
    accepted: bool,
    /// Decoding time that is zero on the wire.
    base: Option<i64>,
    last_dts: Option<i64>,
    headers: Option<Arc<StreamHeaders>>,
    progressed: Duration,
    ticked: Duration,
}

impl<'a> Delivery<'a> {
    fn new(push: &'a Push, server: &RtmpServer) -> Result<Self, Cause> {
        let key = push.spec.key.clone().ok_or_else(|| {
            Cause::new(CauseCode::PushKeyRefused, "There is no stream key, and RTMP needs one.")
        })?;
        let now = push.clock.now();
        let config = PublisherConfig { server: server.clone(), key, seed: rand::random() };
        Ok(Self {
            push,
            steps: Steps::begin(push),
            publisher: Publisher::new(config),
            head: push.program.hub.head(),
            cursor: Cursor::default(),
            accepted: false,
            base: None,
            last_dts: None,
            headers: None,
            progressed: now,
            ticked: now,
        })
    }

    async fn reach(&self, server: &RtmpServer, uplink: Option<&UplinkSpec>) -> Result<Link, Cause> {
        let addresses = self.steps.resolve(&server.host, server.port).await?;
        let target = format!("{}:{}", server.host, server.port);
        let stream = dial::connect(&addresses, uplink).await;
        let stream = stream.map_err(|error| causes::push_dial(&error, &target))?;
        self.steps.note("connected");
        if !server.tls {
            return Ok(Link::Plain(stream));
        }
        let trust = trust(self.push.spec.authority.as_ref());
        let secured = timeout(TLS_TIMEOUT, Link::secure(stream, &server.host, trust)).await;
        let link = secured
            .unwrap_or_else(|_| Err(TlsError::Failed("no answer".to_owned())))
            .map_err(|error| causes::push_tls(&error))?;
        self.steps.note("TLS agreed");
        Ok(link)
    }

    async fn run(&mut self, link: &mut Link) -> Result<(), Cause> {
        let mut input = BytesMut::with_capacity(4096);
        let mut signal = self.push.program.signal();
        signal.mark_changed();
        let mut alarm = Alarm::new(self.push.clock);
        let now = self.push.clock.now();
        self.progressed = now;
        self.publisher.start(now);
        loop {
            self.drain();
            self.fill();
            self.write(link)?;
            let waits_to_write = link.waits_to_write() || !self.publisher.outbox().is_empty();
            let wants_more = self.accepted && self.publisher.outbox().len() < HIGH_WATER;
            let deadline = self.next_deadline();
            tokio::select! {
                ready = link.readable() => {
                    ready.map_err(|error| broke(&error))?;
                    self.read(link, &mut input)?;
                }
                ready = link.writable(), if waits_to_write => ready.map_err(|error| broke(&error))?,
                _ = self.head.changed(), if wants_more => {}
                _ = signal.changed() => self.push.note_source(),
                () = alarm.until(deadline) => self.handle_deadline()?,
            }
        }
    }

    fn drain(&mut self) {
        while let Some(event) = self.publisher.poll_event() {
            match event {
                PublisherEvent::Greeted => self.steps.note("greeted"),
                PublisherEvent::Connected => self.steps.note("application accepted"),
                PublisherEvent::Accepted => {
                    self.steps.note("key accepted");
                    self.accepted = true;
                }
            }
        }
    }

    fn read(&mut self, link: &mut Link, input: &mut BytesMut) -> Result<(), Cause> {
        match link.try_read(input) {
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
            let Taken::Entry { entry, skipped, .. } = self.push.program.hub.take(&mut self.cursor) else {
                break;
            };
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
            self.steps.note("first keyframe");
            self.push.change(PushMachine::on_live);
            // What the hub held may be all there is: the feed may have gone meanwhile, or the picture be the holding one.
            self.push.note_source();
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
                let rates = self.rates();
                self.publisher.send_headers(&entry.headers, rates, timestamp);
            }
            self.headers = Some(Arc::clone(&entry.headers));
        }
        self.publisher.send_body(entry.body(), timestamp);
        self.last_dts = Some(dts);
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

    /// Writes until the outbox is empty or the socket is full.
    fn write(&mut self, link: &mut Link) -> Result<(), Cause> {
        let written = link.try_write(self.publisher.outbox()).map_err(|error| broke(&error))?;
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
            backlog::judge(self.push, self.last_dts);
        }
        Ok(())
    }

    /// Ends the broadcast in order, if the platform still listens: says goodbye, and waits until the platform has
    /// heard it. Closing at once could take back what it has not read yet.
    async fn close(&mut self, link: &mut Link) {
        self.publisher.close();
        let farewell = async {
            while self.write(link).is_ok() && (link.waits_to_write() || !self.publisher.outbox().is_empty()) {
                if link.writable().await.is_err() {
                    return;
                }
            }
            link.finish();
            read_to_end(link).await;
        };
        // A platform that does not listen cannot be told.
        let _told = timeout(CLOSE_PATIENCE, farewell).await;
    }
}

/// Reads, and leaves aside, whatever still comes until the peer closes.
async fn read_to_end(link: &mut Link) {
    let mut rest = BytesMut::new();
    while link.readable().await.is_ok() {
        rest.clear();
        match link.try_read(&mut rest) {
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
