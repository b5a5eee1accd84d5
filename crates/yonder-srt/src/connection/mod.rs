//! A connection after its handshake, as a machine without I/O (sections 4.4 to 4.10).
//!
//! Both directions are there: pushes send, stand-ins receive. The parts with an invariant of their own are
//! [`Sender`], [`Receiver`], [`Rtt`] and the key ring; this composes them and knows the wire.

mod receiver;
mod rtt;
mod sender;

use std::collections::VecDeque;
use std::time::Duration;

use bytes::{Bytes, BytesMut};

use crate::crypto::{Entropy, KeyRefresh, KeyRing};
use crate::error::CloseReason;
use crate::packet::{Control, Data, Encryption, KeyMaterial, KeyState, Packet, PacketBody, Slot};
use crate::sequence::{UnwrappedMicros, first_number};

use receiver::Receiver;
use rtt::Rtt;
use sender::{NextPacket, Sender};

/// Something is sent at least so often (4.8: keep-alive after one second).
const KEEP_ALIVE: Duration = Duration::from_secs(1);
/// A peer that is silent for so long is gone (4.8).
const SILENCE: Duration = Duration::from_secs(5);
/// Control packets that may wait to be sent.
const MAX_WAITING: usize = 1_024;
/// A key message is repeated until it is answered, not more often than this.
const KEY_REPEAT: Duration = Duration::from_millis(200);

/// What was measured of a connection, since it began.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Figures {
    /// Round trip, smoothed.
    pub rtt: Duration,
    /// Its mean deviation.
    pub rtt_variance: Duration,
    /// Packets sent for the first time.
    pub sent: u64,
    /// Packets that the peer reported as lost, each as often as it was reported for the first time.
    pub lost: u64,
    /// Packets sent again.
    pub retransmitted: u64,
    /// Packets given up because they were too late.
    pub dropped: u64,
    /// Packets under way, or waiting to be sent.
    pub in_flight: u64,
    /// What the peer believes the way could carry, in kilobits per second; zero until it says.
    pub room_kbps: u64,
    /// Packets received.
    pub received: u64,
    /// Packets received that could not be decrypted.
    pub undecrypted: u64,
    /// Packets that were missing when their time came.
    pub missing: u64,
}

/// What both sides agreed on, and who they are.
#[derive(Debug)]
pub(crate) struct Agreement {
    pub(crate) peer: u32,
    pub(crate) initial_sequence: u32,
    /// How long the peer holds back what we send.
    pub(crate) send_latency: Duration,
    /// How long we hold back what the peer sends.
    pub(crate) receive_latency: Duration,
    /// Packets that the peer can hold.
    pub(crate) window: u32,
    /// When our timestamps began.
    pub(crate) epoch: Duration,
    /// The peer's timestamp in the packet that concluded the handshake, and when that came.
    pub(crate) peer_time: (u32, Duration),
    /// What the last round of the handshake took, where that is known.
    pub(crate) round_trip: Option<Duration>,
    pub(crate) keys: Option<KeyRing>,
}

/// A connection.
pub struct Connection {
    peer: u32,
    epoch: Duration,
    sender: Sender,
    receiver: Receiver,
    rtt: Rtt,
    peer_clock: UnwrappedMicros,
    keys: Option<KeyRing>,
    active: Slot,
    sent_with_key: u64,
    refresh: KeyRefresh,
    entropy: Option<Entropy>,
    /// A key message that was not answered yet, and when it is sent again.
    unanswered: Option<(KeyMaterial, Duration)>,
    waiting: VecDeque<Control>,
    last_sent: Duration,
    last_heard: Duration,
    closed: Option<CloseReason>,
    undecrypted: u64,
}

impl std::fmt::Debug for Connection {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Connection")
            .field("peer", &self.peer)
            .field("closed", &self.closed)
            .finish_non_exhaustive()
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
            keys,
            active: Slot::Even,
            sent_with_key: 0,
            refresh,
            entropy,
            unanswered: None,
            waiting: VecDeque::new(),
            last_sent: now,
            last_heard: now,
            closed: None,
            undecrypted: 0,
        }
    }

    /// Puts a payload of at most [`crate::MAX_PAYLOAD`] bytes into the stream, to be sent at `at` or as soon as
    /// possible after it.
    pub fn send(&mut self, payload: Bytes, at: Duration) {
        if self.closed.is_none() {
            self.sender.push(payload, at);
        }
    }

    /// The next payload whose time has come.
    pub fn poll_data(&mut self, now: Duration) -> Option<Bytes> {
        self.receiver.poll_data(now)
    }

    /// Why it is over, if it is.
    #[must_use]
    pub fn closed(&self) -> Option<CloseReason> {
        self.closed
    }

    /// Payload bytes that wait to be sent for the first time.
    #[must_use]
    pub fn backlog(&self) -> usize {
        self.sender.backlog()
    }

    /// What was measured.
    #[must_use]
    pub fn figures(&self) -> Figures {
        let counts = self.sender.counts();
        Figures {
            rtt: self.rtt.smoothed(),
            rtt_variance: self.rtt.variance(),
            sent: counts.sent,
            lost: counts.lost,
            retransmitted: counts.retransmitted,
            dropped: counts.dropped,
            in_flight: counts.in_flight,
            room_kbps: self.sender.room_kbps(),
            received: self.receiver.received(),
            undecrypted: self.undecrypted,
            missing: self.receiver.missing(),
        }
    }

    /// Says goodbye; what still waits is forgotten.
    pub fn close(&mut self) {
        if self.closed.is_none() {
            self.waiting.clear();
            self.waiting.push_back(Control::Shutdown);
            self.closed = Some(CloseReason::Ours);
        }
    }

    /// Takes a packet that is meant for this connection.
    pub fn handle_packet(&mut self, packet: Packet, now: Duration) {
        if self.closed.is_some() {
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
        let payload = match (data.encryption, &self.keys) {
            (Encryption::None, _) => Some(data.payload),
            (Encryption::With(slot), Some(keys)) => keys.apply(slot, data.sequence, &data.payload),
            (Encryption::With(_), None) => None,
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
                self.sender.handle_ack(next, report.as_ref(), now);
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
                for range in ranges {
                    if let Some(request) = self.sender.handle_loss(range, now, &self.rtt) {
                        self.say(request);
                    }
                }
            }
            Control::DropRequest { range, .. } => self.receiver.handle_drop(range),
            Control::Shutdown => self.closed = Some(CloseReason::ByPeer),
            Control::KeyRequest(material) => self.handle_key_request(material),
            Control::KeyResponse(Ok(material)) => {
                if self.unanswered.as_ref().is_some_and(|(sent, _)| sent.slots == material.slots) {
                    self.unanswered = None;
                }
            }
            // A late copy of a handshake is the listener's business; live streams do not slow down.
            Control::KeyResponse(Err(_))
            | Control::Handshake(_)
            | Control::KeepAlive
            | Control::CongestionWarning
            | Control::PeerError(_) => {}
        }
    }

    fn handle_key_request(&mut self, material: KeyMaterial) {
        let taken = self.keys.as_mut().map(|keys| keys.take(&material));
        self.say(Control::KeyResponse(match taken {
            Some(true) => Ok(material),
            Some(false) => Err(KeyState::BadSecret.code()),
            None => Err(KeyState::NoSecret.code()),
        }));
    }

    fn say(&mut self, control: Control) {
        if self.waiting.len() < MAX_WAITING {
            self.waiting.push_back(control);
        }
    }

    /// Does what is due at `now`. Early and repeated calls do nothing.
    pub fn handle_timeout(&mut self, now: Duration) {
        if self.closed.is_some() {
            return;
        }
        let silent = now.saturating_sub(self.last_heard);
        if silent >= SILENCE {
            self.closed = Some(CloseReason::Silent(silent));
            return;
        }
        self.receiver.wake(now, &self.rtt);
        if let Some(ack) = self.receiver.due_ack(now, &self.rtt) {
            self.say(ack);
        }
        if let Some(report) = self.receiver.due_report(now, &self.rtt) {
            self.say(report);
        }
        if let Some(request) = self.sender.drop_late(now) {
            self.say(request);
        }
        self.sender.repair_unasked(now, &self.rtt);
        if let Some((material, due)) = &mut self.unanswered
            && *due <= now
        {
            *due = now + KEY_REPEAT.max(self.rtt.smoothed() * 3 / 2);
            let material = material.clone();
            self.say(Control::KeyRequest(material));
        }
        if now.saturating_sub(self.last_sent) >= KEEP_ALIVE {
            // Counted as sent now, so that asking twice says it once.
            self.last_sent = now;
            self.say(Control::KeepAlive);
        }
    }

    /// When [`Connection::handle_timeout`], or `poll_transmit`, has something to do next.
    #[must_use]
    pub fn poll_timeout(&self) -> Option<Duration> {
        if self.closed.is_some() {
            return None;
        }
        let always = (self.last_sent + KEEP_ALIVE).min(self.last_heard + SILENCE);
        let others = [
            self.sender.next_due(&self.rtt),
            self.receiver.next_due(&self.rtt),
            self.unanswered.as_ref().map(|(_, due)| *due),
        ];
        Some(others.into_iter().flatten().fold(always, Duration::min))
    }

    /// Appends the next datagram to `out` and returns its length; `None` when there is nothing to send now.
    pub fn poll_transmit(&mut self, now: Duration, out: &mut BytesMut) -> Option<usize> {
        let before = out.len();
        if let Some(control) = self.waiting.pop_front() {
            control.put(self.timestamp(now), self.peer, out);
        } else if self.closed.is_none() {
            let next = self.sender.next_packet(now)?;
            self.put_data(next, out);
        } else {
            return None;
        }
        self.last_sent = now;
        Some(out.len() - before)
    }

    fn put_data(&mut self, next: NextPacket, out: &mut BytesMut) {
        let NextPacket { number, sequence, message, origin, payload, sealed, retransmitted } = next;
        let (payload, encryption) = match (sealed, &self.keys) {
            // Sent again as it was: the key may have changed since.
            (Some(slot), _) => (payload, Encryption::With(slot)),
            (None, Some(keys)) if !retransmitted => match keys.apply(self.active, sequence, &payload) {
                Some(ciphertext) => {
                    self.sender.seal(number, ciphertext.clone(), self.active);
                    self.count_towards_refresh();
                    (ciphertext, Encryption::With(self.active_before(number)))
                }
                None => return,
            },
            _ => (payload, Encryption::None),
        };
        let data = Data { sequence, message, encryption, retransmitted, payload };
        data.put(self.timestamp(origin), self.peer, out);
    }

    /// The slot that the packet `number` was just sealed with: counting it may have switched keys.
    fn active_before(&self, number: u64) -> Slot {
        self.sender.slot_of(number).unwrap_or(self.active)
    }

    /// Announces the next key, changes to it, and forgets the old one, each at its time (6.1.6).
    fn count_towards_refresh(&mut self) {
        self.sent_with_key += 1;
        let KeyRefresh { every, announce } = self.refresh;
        let (Some(keys), Some(entropy)) = (&mut self.keys, &mut self.entropy) else { return };
        let next = self.active.other();
        if self.sent_with_key == every.saturating_sub(announce) {
            keys.renew(next, entropy);
            self.unanswered = keys.material().map(|material| (material, Duration::ZERO));
        } else if self.sent_with_key >= every && self.unanswered.is_none() {
            self.active = next;
            self.sent_with_key = 0;
        } else if self.sent_with_key == announce {
            // Packets older than this are past any retransmission; what was sealed stays readable to us.
            keys.forget(next);
        }
    }

    fn timestamp(&self, time: Duration) -> u32 {
        let micros = time.saturating_sub(self.epoch).as_micros() & 0xffff_ffff;
        u32::try_from(micros).unwrap_or_default()
    }
}
