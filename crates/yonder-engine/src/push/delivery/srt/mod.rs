//! Delivery by SRT: transport packets, seven to a datagram, each at its time.

mod batch;
mod port;

use std::collections::VecDeque;
use std::io::ErrorKind;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use bytes::{Bytes, BytesMut};
use tokio::sync::watch;
use yonder_address::{SrtServer, stream_id};
use yonder_core::{Cause, CauseCode, PushMachine};
use yonder_media::Track;
use yonder_media::ts::Chunk;
use yonder_srt::{Caller, CallerConfig, CallerEvent, Figures, KeyRefresh, Packet};

use crate::alarm::Alarm;
use crate::causes;
use crate::dial::{self, DialError};
use crate::feed::lock;
use crate::hub::{Cursor, Taken};
use crate::reach::answering;
use crate::spec::UplinkSpec;
use crate::view::LinkView;

use super::{
    End, KEYFRAME_WARNING, Push, Steps, TICK, backlog, no_keyframe, wait_for_end, warn_about_keyframe,
};

use batch::Batch;
use port::Port;

/// Payload bytes that may wait in the connection; what is beyond waits in the hub, where it costs nothing.
const HIGH_WATER: usize = 1024 * 1024;
/// Datagrams due within this are sent together: each wake-up costs as much as many datagrams. A burst is of ten
/// milliseconds of the stream at most, which any line's buffer holds and the latency of the connection smooths.
const GRAIN: Duration = Duration::from_millis(10);
/// And later by this much, so that the peer's words, which come every ten milliseconds, mostly come first: what they
/// wake sends what is due as well.
const SLACK: Duration = Duration::from_millis(3);
/// A port without room is tried again after this.
const NO_ROOM: Duration = Duration::from_millis(2);
/// A push this far behind its own schedule hurries.
const BEHIND: Duration = Duration::from_millis(60);
/// How much faster a push sends that has to catch up: after it joined, or after the machine was busy.
const HURRY: u32 = 8;
/// Losses are judged over so many ticks, and are too many from this share on, in hundredths: repairs then take so
/// much of the way that they do not come in time.
const LOSS_TICKS: usize = 4;
const TOO_MANY_LOST: u64 = 15;
/// Failures of the socket are logged at most this often.
const ERROR_LOG_INTERVAL: Duration = Duration::from_secs(60);
/// Fewer packets than this say nothing about a share.
const ENOUGH: u64 = 200;

pub(super) async fn run(
    push: &Arc<Push>,
    server: &SrtServer,
    uplink: Option<&UplinkSpec>,
) -> Result<End, Cause> {
    let mut delivery = Delivery::reach(push, server, uplink).await?;
    let result = tokio::select! {
        result = delivery.run() => result.map(|()| End::Disabled),
        end = wait_for_end(push) => Ok(end),
    };
    if result.is_ok() {
        delivery.close().await;
    }
    result
}

struct Delivery<'a> {
    push: &'a Push,
    steps: Steps,
    port: Port,
    peer: SocketAddr,
    caller: Caller,
    encrypted: bool,
    latency: Duration,
    head: watch::Receiver<u64>,
    cursor: Cursor,
    /// Since when the listener accepts packets.
    connected_at: Option<Duration>,
    live: bool,
    /// When the last packet that was handed over is to be sent.
    scheduled: Duration,
    last_dts: Option<i64>,
    /// Datagrams that were made but not taken by the socket yet.
    batch: Batch,
    /// The one after them.
    next: BytesMut,
    /// Something that is no data, to be sent behind what is.
    word: BytesMut,
    ticked: Duration,
    dropped: u64,
    /// Failures of the socket since the handshake, and when one was last logged.
    socket_errors: u64,
    error_logged_at: Option<Duration>,
    /// Packets sent and lost, at the last ticks.
    counts: VecDeque<(u64, u64)>,
}

impl<'a> Delivery<'a> {
    async fn reach(
        push: &'a Arc<Push>,
        server: &SrtServer,
        uplink: Option<&UplinkSpec>,
    ) -> Result<Self, Cause> {
        let steps = Steps::begin(push);
        let addresses = tokio::select! {
            found = steps.resolve(&server.host, server.port) => found?,
            () = push.hung_up() => Vec::new(),
        };
        let target = format!("{}:{}", server.host, server.port);
        let Some(peer) = answering(server, &addresses, uplink).await else {
            return Err(causes::push_dial(&DialError::Unreachable("no address".to_owned()), &target));
        };
        let id = stream_id(server, push.spec.key.as_ref()).map_err(|error| {
            Cause::new(CauseCode::PushKeyRefused, format!("No stream ID could be made: {error}."))
        })?;
        let socket = dial::datagrams(peer, uplink).await;
        let socket = socket.map_err(|error| causes::push_dial(&error, &target))?;
        let unreachable = |error: std::io::Error| causes::push_dial(&dial::connect_error(&error), &target);
        let port = Port::new(socket, peer).map_err(unreachable)?;
        let batch = port.batch();
        let now = push.clock.now();
        let config = CallerConfig {
            stream_id: id,
            encryption: push.spec.encryption.clone(),
            latency: Duration::from_millis(u64::from(server.latency_ms)),
            refresh: KeyRefresh::default(),
            address: port.local_addr().map_err(unreachable)?.ip(),
            induction_only: false,
            entropy: Box::new(|out| rand::fill(out)),
        };
        let (encrypted, latency) = (config.encryption.is_some(), config.latency);
        // Deriving keys from a passphrase takes milliseconds, which belong on no media thread.
        let caller = tokio::task::spawn_blocking(move || Caller::new(config, now)).await;
        let caller = caller
            .map_err(|_| Cause::new(CauseCode::PushInternal, "The encryption keys could not be made."))?;
        Ok(Self {
            push,
            steps,
            port,
            peer,
            encrypted,
            latency,
            caller,
            head: push.output.hub.head(),
            cursor: Cursor::default(),
            connected_at: None,
            live: false,
            scheduled: now,
            last_dts: None,
            batch,
            next: BytesMut::new(),
            word: BytesMut::new(),
            ticked: now,
            dropped: 0,
            socket_errors: 0,
            error_logged_at: None,
            counts: VecDeque::new(),
        })
    }

    async fn run(&mut self) -> Result<(), Cause> {
        let mut signal = self.push.output.signal();
        signal.mark_changed();
        let mut alarm = Alarm::new(self.push.clock);
        let mut inbox = Vec::new();
        loop {
            self.drain();
            self.fill();
            self.transmit()?;
            if let Some(cause) = self.caller.closed().and_then(causes::push_srt_closed) {
                return Err(self.blame_keyframe(cause));
            }
            let wants_more = self.connected_at.is_some() && self.caller.backlog() < HIGH_WATER;
            let tick = self.ticked + TICK;
            let due = self.caller.poll_timeout().map_or(tick, |due| due.min(tick));
            let deadline = if self.batch.is_empty() { due + SLACK } else { self.push.clock.now() + NO_ROOM };
            tokio::select! {
                received = self.port.receive(&mut inbox) => {
                    if let Err(error) = received {
                        self.handle_socket_error(&error)?;
                    }
                    self.read(&mut inbox)?;
                }
                _ = self.head.changed(), if wants_more => {}
                _ = signal.changed() => self.push.note_source(),
                () = alarm.until(deadline) => {}
            }
            let now = self.push.clock.now();
            self.caller.handle_timeout(now).map_err(|error| causes::push_srt(self.push, &error))?;
            if now >= tick {
                self.ticked = now;
                match self.connected_at {
                    Some(since) if !self.live => warn_about_keyframe(self.push, now.saturating_sub(since)),
                    _ => self.judge(),
                }
            }
        }
    }

    /// Handles a failure of the socket. Before the handshake is done it is the answer. Afterwards it is one lost datagram: a
    /// router's ICMP message, a route that is away for a moment, a full connection table. Retransmission and the timeout of the
    /// connection deal with it.
    fn handle_socket_error(&mut self, error: &std::io::Error) -> Result<(), Cause> {
        if self.connected_at.is_none() {
            let target = self.peer.to_string();
            let error = match error.kind() {
                ErrorKind::ConnectionRefused => DialError::Refused,
                _ => dial::connect_error(error),
            };
            return Err(causes::push_dial(&error, &target));
        }
        let now = self.push.clock.now();
        self.socket_errors += 1;
        if self.error_logged_at.is_none_or(|at| now.saturating_sub(at) >= ERROR_LOG_INTERVAL) {
            self.error_logged_at = Some(now);
            let (relay, destination) = (&self.push.relay, &self.push.spec.destination);
            tracing::info!(relay, destination, %error, errors = self.socket_errors, "SRT socket failed, waiting it out");
        }
        Ok(())
    }

    /// The feed's lack of a keyframe, where that is why a connection has ended; else `cause`.
    fn blame_keyframe(&self, cause: Cause) -> Cause {
        let waited =
            self.connected_at.filter(|_| !self.live).map(|since| self.push.clock.now().saturating_sub(since));
        waited.filter(|waited| *waited >= KEYFRAME_WARNING).map_or(cause, no_keyframe)
    }

    fn drain(&mut self) {
        while let Some(event) = self.caller.poll_event() {
            match event {
                CallerEvent::Answered { .. } => self.steps.note("listener answered"),
                CallerEvent::Connected { latency } => {
                    let step = if self.encrypted { "accepted, encrypted" } else { "accepted" };
                    self.steps.note(step);
                    self.latency = latency;
                    self.connected_at = Some(self.push.clock.now());
                    self.scheduled = self.push.clock.now();
                }
            }
        }
    }

    fn read(&mut self, datagrams: &mut Vec<Bytes>) -> Result<(), Cause> {
        let now = self.push.clock.now();
        for datagram in datagrams.drain(..) {
            let handled = self.caller.handle_datagram(datagram, now);
            handled.map_err(|error| causes::push_srt(self.push, &error))?;
        }
        Ok(())
    }

    /// Moves entries from the hub into the connection, as far as there is room.
    fn fill(&mut self) {
        if self.connected_at.is_none() {
            return;
        }
        let (mut sent, mut dropped) = (0, 0);
        while self.caller.backlog() < HIGH_WATER {
            let Taken::Entry { entry, number, skipped } = self.push.output.hub.take(&mut self.cursor) else {
                break;
            };
            dropped += skipped;
            sent += u64::from(entry.unit.track == Track::Video);
            if entry.unit.track == Track::Video {
                self.last_dts = Some(entry.unit.dts);
            }
            let chunk = self.push.output.hub.packets(number, &entry);
            self.schedule(&chunk);
        }
        if sent + dropped == 0 {
            return;
        }
        {
            let mut figures = lock(&self.push.figures);
            figures.frames_sent += sent;
            figures.frames_dropped += dropped;
        }
        if !self.live {
            self.live = true;
            self.steps.note("first keyframe");
            self.push.change(PushMachine::on_live);
            // What the hub held may be all there is: the feed may have gone meanwhile, or the picture be the holding one.
            self.push.note_source();
        }
    }

    /// Hands the packets of a unit over, spaced as the muxer laid them out, from now on or from where the unit
    /// before ended.
    fn schedule(&mut self, chunk: &Chunk) {
        let now = self.push.clock.now();
        let start = self.scheduled.max(now);
        let late = start.saturating_sub(now) > BEHIND;
        let newest = self.push.output.hub.newest_dts();
        let joins = newest.zip(self.last_dts).is_some_and(|(newest, last)| newest - last > 9_000);
        let divisor = if late || joins { HURRY } else { 1 };
        let mut first = None;
        for (clock, payload) in chunk.groups(self.port.packets_per_datagram()) {
            let after = clock - *first.get_or_insert(clock);
            let after = Duration::from_micros(u64::try_from(after.max(0)).unwrap_or_default() * 100 / 9);
            let at = start + after / divisor;
            self.caller.send(payload, at);
            self.scheduled = at;
        }
    }

    /// Sends what is due, several datagrams of one length at a time where the system offers that. A word of ours goes
    /// behind the data, with which it may travel as the shorter last.
    fn transmit(&mut self) -> Result<(), Cause> {
        let now = self.push.clock.now();
        loop {
            if self.next.is_empty() && self.caller.poll_transmit(now, now + GRAIN, &mut self.next).is_none() {
                break;
            }
            if Packet::is_control(&self.next) && self.word.is_empty() {
                std::mem::swap(&mut self.next, &mut self.word);
                continue;
            }
            // One that does not fit begins the next batch.
            if !self.batch.fits(self.next.len()) && !self.send(now)? {
                return Ok(());
            }
            self.batch.add(&self.next);
            self.next.clear();
        }
        if !self.word.is_empty() && (self.batch.fits(self.word.len()) || self.send(now)?) {
            self.batch.add(&self.word);
            self.word.clear();
        }
        self.send(now)?;
        Ok(())
    }

    /// Sends the batch. False when there is no room for it: it is kept.
    fn send(&mut self, now: Duration) -> Result<bool, Cause> {
        if self.batch.is_empty() {
            return Ok(true);
        }
        let bytes = self.batch.bytes().len();
        let sent = match self.port.send(&mut self.batch) {
            Ok(sent) => sent,
            Err(error) => {
                self.handle_socket_error(&error)?;
                // Datagrams that were not sent count as lost; the listener asks for them again.
                self.batch.clear();
                return Ok(true);
            }
        };
        lock(&self.push.figures).add_bytes(bytes - self.batch.bytes().len(), now);
        Ok(sent)
    }

    fn judge(&mut self) {
        let figures = self.caller.figures();
        lock(&self.push.figures).link = Some(self.link(&figures));
        if figures.dropped > self.dropped {
            self.dropped = figures.dropped;
            let message = format!(
                "{} {} packets came too late and were given up; round trip {} ms.",
                backlog::needs(self.push),
                figures.dropped,
                figures.rtt.as_millis()
            );
            backlog::lag(self.push, message);
        } else if let Some(percent) = self.share_lost(&figures) {
            let message = format!(
                "{percent} % of the packets are lost on the way to this destination; round trip {} ms. So many cannot be \
                 repaired in time.",
                figures.rtt.as_millis()
            );
            backlog::lag(self.push, message);
        } else {
            backlog::judge(self.push, self.last_dts);
        }
    }

    /// The share of packets lost lately, in hundredths, where it is too large.
    fn share_lost(&mut self, figures: &Figures) -> Option<u64> {
        self.counts.push_back((figures.sent, figures.lost));
        if self.counts.len() > LOSS_TICKS {
            self.counts.pop_front();
        }
        let (sent, lost) = *self.counts.front()?;
        let (sent, lost) = (figures.sent - sent, figures.lost - lost);
        let percent = lost * 100 / sent.max(1);
        (sent >= ENOUGH && percent >= TOO_MANY_LOST).then_some(percent)
    }

    fn link(&self, figures: &Figures) -> LinkView {
        LinkView {
            latency: self.latency,
            rtt: figures.rtt,
            lost: figures.lost,
            sent: figures.sent,
            retransmitted: figures.retransmitted,
            dropped: figures.dropped,
            room_kbps: Some(figures.room_kbps).filter(|room| *room > 0),
            encrypted: self.encrypted,
        }
    }

    /// Says goodbye. A datagram may be lost, so it is said more than once; whoever misses all of them notices
    /// the silence.
    async fn close(&mut self) {
        self.caller.close();
        let mut goodbye = BytesMut::new();
        let now = self.push.clock.now();
        while self.caller.poll_transmit(now, now, &mut goodbye).is_some() {}
        let mut batch = self.port.batch();
        for _ in 0..3 {
            batch.clear();
            batch.add(&goodbye);
            // An error may be that of an earlier datagram.
            let _sent = self.port.send(&mut batch);
        }
    }
}
