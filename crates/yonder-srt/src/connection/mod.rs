//! Connection after the handshake, as a state machine without I/O (sections 4.4 to 4.10).
//!
//! Both directions are supported: pushes send, stand-ins receive. [`Sender`], [`Receiver`], [`Rtt`] and the key ring
//! have their own invariants; this module combines them and encodes packets.

mod keys;
mod receiver;
mod rtt;
mod sender;

use std::collections::VecDeque;
use std::convert::Infallible;
use std::time::Duration;

use bytes::{Bytes, BytesMut};
use yonder_protocol::{Core, DatagramCore, End};

use crate::crypto::{Entropy, KeyRefresh, KeyRing};
use crate::error::CloseReason;
use crate::packet::{Control, Data, Encryption, Packet, PacketBody};
use crate::sequence::{UnwrappedMicros, first_number};

use keys::KeySchedule;
use receiver::Receiver;
use rtt::Rtt;
use sender::{NextPacket, Sender};

/// Keep-alive interval (4.8: one second without another packet).
const KEEP_ALIVE: Duration = Duration::from_secs(1);
/// Silence after which a peer counts as gone (4.8).
const SILENCE: Duration = Duration::from_secs(5);
/// Shutdown packets of an orderly end, since each may be lost.
const SHUTDOWN_COPIES: u32 = 3;
/// Interval of shutdown packets, so that a short burst of losses does not hit all of them.
const SHUTDOWN_INTERVAL: Duration = Duration::from_millis(10);
/// Maximum queued control packets.
const MAX_WAITING: usize = 1_024;

/// Statistics of a connection since its beginning.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Stats {
    /// Smoothed round-trip time.
    pub rtt: Duration,
    /// Mean deviation of the round-trip time.
    pub rtt_variance: Duration,
    /// Packets sent, without retransmissions.
    pub sent: u64,
    /// Packets reported as lost by the peer, each counted once per loss.
    pub lost: u64,
    /// Retransmitted packets.
    pub retransmitted: u64,
    /// Packets dropped because they were too late.
    pub dropped: u64,
    /// Packets in flight or queued.
    pub in_flight: u64,
    /// Link capacity estimated by the peer, in kilobits per second; zero until it is known.
    pub estimated_bandwidth_kbps: u64,
    /// Rate at which packets reach the peer, repetitions included, in kilobits per second; zero until it is known.
    pub receiving_kbps: u64,
    /// Packets received.
    pub received: u64,
    /// Packets received that could not be decrypted.
    pub undecrypted: u64,
    /// Packets missing at their delivery time.
    pub missing: u64,
}

/// Result of a handshake.
#[derive(Debug)]
pub(crate) struct Agreement {
    pub(crate) peer: u32,
    pub(crate) initial_sequence: u32,
    /// Latency of the peer's receive buffer.
    pub(crate) send_latency: Duration,
    /// Latency of our receive buffer.
    pub(crate) receive_latency: Duration,
    /// Receive buffer size of the peer, in packets.
    pub(crate) window: u32,
    /// Zero of our timestamps.
    pub(crate) epoch: Duration,
    /// The peer's timestamp in the last handshake packet, and its arrival.
    pub(crate) peer_time: (u32, Duration),
    /// Round-trip time of the last round of the handshake, if known.
    pub(crate) round_trip: Option<Duration>,
    pub(crate) keys: Option<KeyRing>,
}

/// Orderly end in progress.
#[derive(Debug, Clone, Copy)]
struct Closing {
    /// When the next shutdown packet is sent. Losses are repaired until the first.
    shutdown_at: Duration,
    /// Remaining shutdown packets.
    copies: u32,
}

/// Connection.
pub struct Connection {
    peer: u32,
    epoch: Duration,
    sender: Sender,
    receiver: Receiver,
    rtt: Rtt,
    peer_clock: UnwrappedMicros,
    keys: KeySchedule,
    waiting: VecDeque<Control>,
    last_sent: Duration,
    last_heard: Duration,
    closing: Option<Closing>,
    end: Option<End<CloseReason>>,
    undecrypted: u64,
}

impl std::fmt::Debug for Connection {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Connection").field("peer", &self.peer).field("end", &self.end).finish_non_exhaustive()
    }
}

impl Connection {
    pub(crate) fn new(
        agreement: Agreement,
        refresh: KeyRefresh,
        entropy: Option<Entropy>,
        now: Duration,
    ) -> Self {
        let Agreement {
            peer,
            initial_sequence,
            send_latency,
            receive_latency,
            window,
            epoch,
            peer_time,
            round_trip,
            keys,
        } = agreement;
        let first = first_number(initial_sequence);
        Self {
            peer,
            epoch,
            sender: Sender::new(first, window, send_latency),
            receiver: Receiver::new(first, receive_latency, peer_time, now),
            rtt: round_trip.map_or_else(Rtt::default, Rtt::of_handshake),
            peer_clock: UnwrappedMicros::new(peer_time.0),
            keys: KeySchedule::new(keys, refresh, entropy),
            waiting: VecDeque::new(),
            last_sent: now,
            last_heard: now,
            closing: None,
            end: None,
            undecrypted: 0,
        }
    }

    /// Queues a payload of at most [`crate::MAX_PAYLOAD`] bytes, to be sent at `at` or as soon as possible after it.
    pub fn send(&mut self, payload: Bytes, at: Duration) {
        if self.end.is_none() && self.closing.is_none() {
            self.sender.push(payload, at);
        }
    }

    /// Returns the next payload that is due for delivery.
    pub fn poll_data(&mut self, now: Duration) -> Option<Bytes> {
        self.receiver.poll_data(now)
    }

    /// Returns the payload bytes that wait for their first transmission.
    #[must_use]
    pub fn backlog(&self) -> usize {
        self.sender.backlog()
    }

    /// Returns the statistics.
    #[must_use]
    pub fn stats(&self) -> Stats {
        let counts = self.sender.counts();
        Stats {
            rtt: self.rtt.smoothed(),
            rtt_variance: self.rtt.variance(),
            sent: counts.sent,
            lost: counts.lost,
            retransmitted: counts.retransmitted,
            dropped: counts.dropped,
            in_flight: counts.in_flight,
            estimated_bandwidth_kbps: self.sender.estimated_bandwidth_kbps(),
            receiving_kbps: self.sender.receiving_kbps(),
            received: self.receiver.received(),
            undecrypted: self.undecrypted,
            missing: self.receiver.missing(),
        }
    }

    /// Closes the connection in order. For `drain` after `now`, losses are repaired and the peer can play its buffer,
    /// which some receivers discard at a shutdown. Then shutdown packets are sent; the connection ends after the last
    /// of them.
    ///
    /// A connection that has sent nothing, or whose data is acknowledged with `drain` zero, ends at once.
    pub fn close(&mut self, now: Duration, drain: Duration) {
        if self.end.is_none() && self.closing.is_none() {
            let drain = if self.sender.counts().sent == 0 { Duration::ZERO } else { drain };
            self.closing = Some(Closing { shutdown_at: now + drain, copies: SHUTDOWN_COPIES });
            self.handle_closing(now);
        }
    }

    fn handle_closing(&mut self, now: Duration) {
        let Some(closing) = self.closing.as_mut().filter(|closing| closing.shutdown_at <= now) else {
            return;
        };
        if closing.copies == 0 {
            self.end = Some(End::local(CloseReason::Shutdown));
            return;
        }
        closing.copies -= 1;
        closing.shutdown_at = now + SHUTDOWN_INTERVAL;
        self.waiting.clear();
        self.waiting.push_back(Control::Shutdown);
    }

    /// Returns true while shutdown packets are sent, after which no data follows.
    fn is_shutting_down(&self) -> bool {
        self.closing.is_some_and(|closing| closing.copies < SHUTDOWN_COPIES)
    }

    /// Handles a packet of this connection.
    pub fn handle_packet(&mut self, packet: Packet, now: Duration) {
        if self.end.is_some() || self.is_shutting_down() {
            return;
        }
        self.last_heard = now;
        self.receiver.wake(now, &self.rtt);
        match packet.body {
            PacketBody::Data(data) => self.handle_data(data, packet.timestamp, now),
            PacketBody::Control(control) => self.handle_control(control, now),
        }
    }

    fn handle_data(&mut self, data: Data, timestamp: u32, now: Duration) {
        let time = self.peer_clock.advance(timestamp);
        let payload = match data.encryption {
            Encryption::None => Some(data.payload),
            Encryption::With(slot) => self.keys.open(slot, data.sequence, &data.payload),
        };
        let Some(payload) = payload else {
            self.undecrypted += 1;
            return;
        };
        if let Some(report) = self.receiver.handle_data(data.sequence, time, payload, now) {
            self.say(report);
        }
        if let Some(ack) = self.receiver.light_ack() {
            self.say(ack);
        }
    }

    fn handle_control(&mut self, control: Control, now: Duration) {
        match control {
            Control::Ack { number, next, report } => {
                self.sender.handle_ack(next, report.as_ref());
                if let Some(report) = report {
                    self.rtt.take_peers(report.rtt_us, report.rtt_variance_us);
                    self.say(Control::AckAck(number));
                }
            }
            Control::AckAck(number) => {
                if let Some(sample) = self.receiver.handle_ack_ack(number, now) {
                    self.rtt.take_sample(sample);
                }
            }
            Control::Nak(ranges) => {
                for request in self.sender.handle_losses(&ranges, now, &self.rtt) {
                    self.say(request);
                }
            }
            Control::DropRequest { range, .. } => self.receiver.handle_drop(range),
            Control::Shutdown => self.end = Some(End::peer(CloseReason::Shutdown)),
            Control::KeyRequest(material) => {
                let response = self.keys.handle_request(material);
                self.say(response);
            }
            Control::KeyResponse(Ok(material)) => self.keys.handle_response(&material),
            // Ignore duplicate handshakes and congestion warnings in live mode.
            Control::KeyResponse(Err(_))
            | Control::Handshake(_)
            | Control::KeepAlive
            | Control::CongestionWarning
            | Control::PeerError(_) => {}
        }
    }

    fn say(&mut self, control: Control) {
        if self.waiting.len() < MAX_WAITING {
            self.waiting.push_back(control);
        }
    }

    fn put_data(&mut self, next: NextPacket, out: &mut BytesMut) {
        let NextPacket { number, sequence, message, origin, payload, sealed, retransmitted } = next;
        let (payload, encryption) = match sealed {
            // Retransmitted as sent: the key may have changed since.
            Some(slot) => (payload, Encryption::With(slot)),
            None if self.keys.is_encrypted() => {
                let Some((ciphertext, slot)) = self.keys.seal(sequence, &payload) else { return };
                self.sender.seal(number, ciphertext.clone(), slot);
                (ciphertext, Encryption::With(slot))
            }
            None => (payload, Encryption::None),
        };
        let data = Data { sequence, message, encryption, retransmitted, payload };
        data.put(self.timestamp(origin), self.peer, out);
    }

    fn timestamp(&self, time: Duration) -> u32 {
        let micros = time.saturating_sub(self.epoch).as_micros() & 0xffff_ffff;
        u32::try_from(micros).unwrap_or_default()
    }
}

impl Core for Connection {
    /// Received data is returned by [`Connection::poll_data`], when due.
    type Event = Infallible;
    type Why = CloseReason;

    fn handle_timeout(&mut self, now: Duration) {
        if self.end.is_some() {
            return;
        }
        let silent = now.saturating_sub(self.last_heard);
        if silent >= SILENCE {
            self.end = Some(End::local(CloseReason::Silent(silent)));
            return;
        }
        self.handle_closing(now);
        if self.is_shutting_down() {
            return;
        }
        self.receiver.wake(now, &self.rtt);
        if let Some(ack) = self.receiver.due_ack(now, &self.rtt) {
            self.say(ack);
        }
        if let Some(report) = self.receiver.due_report(now, &self.rtt) {
            self.say(report);
        }
        self.sender.drop_late(now);
        self.sender.repair_unasked(now, &self.rtt);
        if let Some(request) = self.keys.poll_request(now, self.rtt.smoothed()) {
            self.say(request);
        }
        if self.keys.is_exhausted() {
            self.end = Some(End::local(CloseReason::KeyExhausted));
            return;
        }
        if now.saturating_sub(self.last_sent) >= KEEP_ALIVE {
            // Counted as sent now, so that a second poll returns nothing.
            self.last_sent = now;
            self.say(Control::KeepAlive);
        }
    }

    fn poll_timeout(&self) -> Option<Duration> {
        if self.end.is_some() {
            return None;
        }
        if let Some(closing) = self.closing.filter(|_| self.is_shutting_down()) {
            // Only the next shutdown packet follows.
            return Some(closing.shutdown_at);
        }
        let always = (self.last_sent + KEEP_ALIVE).min(self.last_heard + SILENCE);
        let always = self.closing.map_or(always, |closing| always.min(closing.shutdown_at));
        let others =
            [self.sender.next_due(&self.rtt), self.receiver.next_due(&self.rtt), self.keys.next_due()];
        Some(others.into_iter().flatten().fold(always, Duration::min))
    }

    fn poll_event(&mut self) -> Option<Infallible> {
        None
    }

    fn end(&self) -> Option<&End<CloseReason>> {
        self.end.as_ref()
    }
}

impl DatagramCore for Connection {
    type Path = ();

    fn handle_datagram(&mut self, _path: (), datagram: Bytes, now: Duration) {
        if let Ok(packet) = Packet::read(datagram) {
            self.handle_packet(packet, now);
        }
    }

    /// Control packets and round-trip measurements use `now`.
    fn poll_datagram(&mut self, now: Duration, horizon: Duration, out: &mut BytesMut) -> Option<((), usize)> {
        let before = out.len();
        if let Some(control) = self.waiting.pop_front() {
            control.put(self.timestamp(now), self.peer, out);
        } else if self.end.is_none() && !self.is_shutting_down() {
            let next = self.sender.next_packet(now, horizon.max(now))?;
            self.put_data(next, out);
        } else {
            return None;
        }
        self.last_sent = now;
        Some(((), out.len() - before))
    }
}
