//! Caller side of the handshake (4.3.1).
//!
//! ```text
//!   Inducing ─▶ Concluding ─▶ Connected ─▶ End
//! ```

use std::collections::VecDeque;
use std::net::IpAddr;
use std::time::Duration;

use bytes::{Bytes, BytesMut};
use yonder_address::{KeyLength, Passphrase, StreamKey};
use yonder_protocol::{Core, DatagramCore, End};

use crate::connection::{Agreement, Connection, Stats};
use crate::crypto::{Entropy, KeyRefresh, KeyRing};
use crate::error::{CloseReason, Rejection, SrtError};
use crate::packet::{
    Control, Extension, Handshake, HandshakeKind, KeyMaterial, KeyState, Packet, PacketBody, flags,
};
use crate::sequence::SEQUENCE_MASK;

/// Retransmission interval of handshake packets.
const REPEAT: Duration = Duration::from_millis(250);
/// Timeout of each half of the handshake.
const HANDSHAKE_TIMEOUT: Duration = Duration::from_secs(3);
/// Magic code in the induction response of a version 5 listener (4.3.1.1).
const MAGIC: u16 = 0x4a17;
/// Version 1.5.0; the extensions used here need at least 1.3.
pub(crate) const VERSION: u32 = 0x0001_0500;
/// Maximum packet size with all headers: an Ethernet frame.
pub(crate) const MTU: u32 = 1500;
/// Receive buffer size, in packets.
pub(crate) const WINDOW: u32 = 8_192;

/// Configuration of a caller.
pub struct CallerConfig {
    /// Stream ID, which may be a secret.
    pub stream_id: Option<StreamKey>,
    /// Passphrase and length of the stream key derived with it.
    pub encryption: Option<(Passphrase, KeyLength)>,
    /// Latency requested of the peer, within which losses can be repaired.
    pub latency: Duration,
    /// Key refresh.
    pub refresh: KeyRefresh,
    /// Local address.
    pub address: IpAddr,
    /// Stop after the induction, before anything secret is sent.
    pub induction_only: bool,
    /// Random bytes, for socket IDs, sequence numbers and keys.
    pub entropy: Entropy,
}

impl std::fmt::Debug for CallerConfig {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("CallerConfig").field("latency", &self.latency).finish_non_exhaustive()
    }
}

/// Event of a caller.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CallerEvent {
    /// The listener answered the induction.
    Answered {
        /// Key length that the listener prefers, in bits, if announced.
        key_bits: Option<u16>,
    },
    /// The connection is established.
    Connected {
        /// Negotiated latency.
        latency: Duration,
    },
}

/// Step of the handshake.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CallerStep {
    /// Waiting for the induction response.
    Inducing,
    /// Waiting for the conclusion response.
    Concluding,
    /// Connected.
    Connected,
}

/// Caller.
pub struct Caller {
    config: CallerConfig,
    step: CallerStep,
    epoch: Duration,
    socket: u32,
    initial_sequence: u32,
    request: Handshake,
    keys: Option<KeyRing>,
    repeat_at: Duration,
    /// When the last handshake packet was sent.
    asked_at: Duration,
    deadline: Duration,
    connection: Option<Connection>,
    events: VecDeque<CallerEvent>,
    end: Option<End<SrtError>>,
}

impl std::fmt::Debug for Caller {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Caller").field("step", &self.step).finish_non_exhaustive()
    }
}

impl Caller {
    /// Creates a caller and begins the handshake.
    #[must_use]
    pub fn new(mut config: CallerConfig, now: Duration) -> Self {
        let mut random = [0; 8];
        (config.entropy)(&mut random);
        let [a, b, c, d, e, f, g, h] = random;
        let socket = (u32::from_be_bytes([a, b, c, d]) & 0x3fff_ffff).max(1);
        let initial_sequence = u32::from_be_bytes([e, f, g, h]) & SEQUENCE_MASK;
        // 4.3.1.1: the first packet has version 4 and 2 in the extension field, which all versions understand.
        let request = Handshake {
            version: 4,
            encryption: 0,
            extension_field: 2,
            initial_sequence,
            mtu: MTU,
            window: WINDOW,
            kind: HandshakeKind::Induction,
            socket,
            cookie: 0,
            address: config.address,
            extensions: Vec::new(),
        };
        let encryption = config.encryption.clone();
        let keys =
            encryption.map(|(passphrase, length)| KeyRing::generate(passphrase, length, &mut config.entropy));
        Self {
            config,
            step: CallerStep::Inducing,
            epoch: now,
            socket,
            initial_sequence,
            request,
            keys,
            repeat_at: now,
            asked_at: now,
            deadline: now + HANDSHAKE_TIMEOUT,
            connection: None,
            events: VecDeque::new(),
            end: None,
        }
    }

    /// Returns the step.
    #[must_use]
    pub fn step(&self) -> CallerStep {
        self.step
    }

    /// Returns the statistics of the connection.
    #[must_use]
    pub fn stats(&self) -> Stats {
        self.connection.as_ref().map(Connection::stats).unwrap_or_default()
    }

    /// Returns the payload bytes that wait for their first transmission.
    #[must_use]
    pub fn backlog(&self) -> usize {
        self.connection.as_ref().map_or(0, Connection::backlog)
    }

    /// Queues a payload for `at`; without effect before the connection is established.
    pub fn send(&mut self, payload: Bytes, at: Duration) {
        if let Some(connection) = &mut self.connection {
            connection.send(payload, at);
        }
    }

    /// Closes the connection as [`Connection::close`] does; a handshake in progress ends at once.
    pub fn close(&mut self, now: Duration, drain: Duration) {
        match &mut self.connection {
            Some(connection) => connection.close(now, drain),
            None => self.finish(End::local(CloseReason::Shutdown.into())),
        }
        self.note_end();
    }

    fn finish(&mut self, end: End<SrtError>) {
        self.end.get_or_insert(end);
    }

    /// Ends the call when its connection has ended.
    fn note_end(&mut self) {
        if let Some(End { by, why }) = self.connection.as_ref().and_then(Core::end) {
            let end = End { by: *by, why: SrtError::Closed(*why) };
            self.finish(end);
        }
    }

    /// Returns true until the handshake has ended.
    fn is_shaking_hands(&self) -> bool {
        self.connection.is_none() && self.end.is_none()
    }

    fn handle_answer(&mut self, answer: &Handshake, timestamp: u32, now: Duration) -> Result<(), SrtError> {
        match (self.step, answer.kind) {
            (_, HandshakeKind::Rejection(code)) => Err(match Rejection::from_code(code) {
                Rejection::BadSecret => SrtError::PassphraseRefused,
                Rejection::Unsecured if self.config.encryption.is_some() => SrtError::PassphraseUnexpected,
                rejection => SrtError::Rejected(rejection),
            }),
            (CallerStep::Inducing, HandshakeKind::Induction) => self.handle_induction(answer, now),
            (CallerStep::Concluding, HandshakeKind::Conclusion) => {
                self.handle_conclusion(answer, timestamp, now)
            }
            _ => Ok(()),
        }
    }

    fn handle_induction(&mut self, answer: &Handshake, now: Duration) -> Result<(), SrtError> {
        if answer.version < 5 || answer.extension_field != MAGIC {
            return Err(SrtError::Version(answer.version));
        }
        let key_bits = match answer.encryption {
            bits @ 2..=4 => Some(bits * 64),
            _ => None,
        };
        self.events.push_back(CallerEvent::Answered { key_bits });
        if self.config.induction_only {
            self.finish(End::local(CloseReason::Shutdown.into()));
            return Ok(());
        }
        let latency = u16::try_from(self.config.latency.as_millis()).unwrap_or(u16::MAX);
        let mut extensions = vec![Extension::Latency {
            response: false,
            version: VERSION,
            flags: flags::ALL,
            receive_ms: latency,
            send_ms: latency,
        }];
        if let (Some(keys), Some((_, length))) = (&self.keys, &self.config.encryption) {
            extensions.extend(keys.material().map(Extension::KeyRequest));
            self.request.encryption = length.bits() / 64;
        }
        if let Some(id) = &self.config.stream_id {
            extensions.push(Extension::stream_id(id.expose()));
        }
        self.request.version = 5;
        self.request.kind = HandshakeKind::Conclusion;
        self.request.cookie = answer.cookie;
        self.request.extension_field = extensions.iter().fold(0, |sum, extension| sum | extension.flag());
        self.request.extensions = extensions;
        self.step = CallerStep::Concluding;
        self.repeat_at = now;
        self.deadline = now + HANDSHAKE_TIMEOUT;
        Ok(())
    }

    fn handle_conclusion(
        &mut self,
        answer: &Handshake,
        timestamp: u32,
        now: Duration,
    ) -> Result<(), SrtError> {
        let mut send_latency = self.config.latency;
        let mut receive_latency = self.config.latency;
        let mut key_answer = None;
        for extension in &answer.extensions {
            match extension {
                Extension::Latency { response: true, receive_ms, send_ms, .. } => {
                    send_latency = send_latency.max(Duration::from_millis(u64::from(*receive_ms)));
                    receive_latency = receive_latency.max(Duration::from_millis(u64::from(*send_ms)));
                }
                Extension::KeyResponse(response) => key_answer = Some(response),
                _ => {}
            }
        }
        if self.keys.is_some() {
            Self::check_key_answer(key_answer)?;
        }
        let agreement = Agreement {
            peer: answer.socket,
            initial_sequence: self.initial_sequence,
            send_latency,
            receive_latency,
            window: answer.window,
            epoch: self.epoch,
            peer_time: (timestamp, now),
            round_trip: Some(now.saturating_sub(self.asked_at)),
            keys: self.keys.take(),
        };
        // The entropy source moves to the connection, which generates later keys.
        let entropy = std::mem::replace(&mut self.config.entropy, Box::new(|_| {}));
        self.connection = Some(Connection::new(agreement, self.config.refresh, Some(entropy), now));
        self.step = CallerStep::Connected;
        self.events.push_back(CallerEvent::Connected { latency: send_latency });
        Ok(())
    }

    /// Checks the peer's response to the key material. A listener that could not read the keys must not get the stream
    /// in clear, nor one that it cannot decrypt.
    fn check_key_answer(answer: Option<&Result<KeyMaterial, u32>>) -> Result<(), SrtError> {
        match answer {
            Some(Ok(_)) => Ok(()),
            Some(Err(code)) if *code == KeyState::BadSecret.code() => Err(SrtError::PassphraseRefused),
            Some(Err(_)) | None => Err(SrtError::PassphraseUnexpected),
        }
    }
}

impl Core for Caller {
    type Event = CallerEvent;
    type Why = SrtError;

    fn handle_timeout(&mut self, now: Duration) {
        if let Some(connection) = &mut self.connection {
            connection.handle_timeout(now);
            self.note_end();
        } else if self.end.is_none() && now >= self.deadline {
            let step = if self.step == CallerStep::Inducing { "beginning" } else { "end" };
            self.finish(End::local(SrtError::NoAnswer { step, after: HANDSHAKE_TIMEOUT }));
        }
    }

    fn poll_timeout(&self) -> Option<Duration> {
        match &self.connection {
            Some(connection) => connection.poll_timeout(),
            None => self.is_shaking_hands().then(|| self.repeat_at.min(self.deadline)),
        }
    }

    fn poll_event(&mut self) -> Option<CallerEvent> {
        self.events.pop_front()
    }

    fn end(&self) -> Option<&End<SrtError>> {
        self.end.as_ref()
    }
}

impl DatagramCore for Caller {
    type Path = ();

    fn handle_datagram(&mut self, _path: (), datagram: Bytes, now: Duration) {
        let Ok(packet) = Packet::read(datagram) else { return };
        if packet.destination != self.socket {
            return;
        }
        if let Some(connection) = &mut self.connection {
            connection.handle_packet(packet, now);
            self.note_end();
            return;
        }
        let Packet { timestamp, body: PacketBody::Control(Control::Handshake(answer)), .. } = packet else {
            return;
        };
        if self.end.is_none()
            && let Err(why) = self.handle_answer(&answer, timestamp, now)
        {
            let is_rejected = matches!(answer.kind, HandshakeKind::Rejection(_));
            self.finish(if is_rejected { End::peer(why) } else { End::local(why) });
        }
    }

    fn poll_datagram(&mut self, now: Duration, horizon: Duration, out: &mut BytesMut) -> Option<((), usize)> {
        if let Some(connection) = &mut self.connection {
            return connection.poll_datagram(now, horizon, out);
        }
        if !self.is_shaking_hands() || now < self.repeat_at {
            return None;
        }
        self.repeat_at = now + REPEAT;
        self.asked_at = now;
        let before = out.len();
        let micros = now.saturating_sub(self.epoch).as_micros() & 0xffff_ffff;
        let timestamp = u32::try_from(micros).unwrap_or_default();
        Control::Handshake(Box::new(self.request.clone())).put(timestamp, 0, out);
        Some(((), out.len() - before))
    }
}
