//! Listener side of the handshake (4.3.1): answers callers; the application accepts or rejects each.
//!
//! No state is kept for a caller before it has returned its cookie, so a flood of induction packets costs no memory.

use std::collections::{HashMap, VecDeque};
use std::convert::Infallible;
use std::net::SocketAddr;
use std::time::Duration;

use bytes::{Bytes, BytesMut};
use yonder_address::{KeyLength, Passphrase, StreamKey};
use yonder_protocol::{Core, DatagramCore, End};

use crate::caller::{MTU, VERSION, WINDOW};
use crate::connection::{Agreement, Connection};
use crate::crypto::{KeyRefresh, KeyRing};
use crate::error::Rejection;
use crate::packet::{
    Control, Extension, Handshake, HandshakeKind, KeyMaterial, Packet, PacketBody, flags, stream_id_text,
};

/// Magic code of an induction response (4.3.1.1).
const MAGIC: u16 = 0x4a17;
/// Maximum concurrent connections and requests.
const MAX_CALLERS: usize = 256;
/// Maximum queued datagrams.
const MAX_WAITING: usize = 1_024;
/// Validity period of cookies; one of the previous period is still accepted.
const COOKIE_SPAN: Duration = Duration::from_secs(60);

/// Passphrase that is required of callers.
#[derive(Debug)]
pub enum RequiredPassphrase {
    /// Callers must not encrypt.
    None,
    /// The same one of all callers; requests with another one are rejected.
    Shared(Passphrase),
    /// One that depends on the stream ID, and is given to [`Request::unlock`].
    OfRequest,
}

impl From<Option<Passphrase>> for RequiredPassphrase {
    fn from(passphrase: Option<Passphrase>) -> Self {
        passphrase.map_or(Self::None, Self::Shared)
    }
}

/// Configuration of a listener.
#[derive(Debug)]
pub struct ListenerConfig {
    /// Passphrase required of callers.
    pub passphrase: RequiredPassphrase,
    /// Key length announced to callers, which decide.
    pub key_length: KeyLength,
    /// Minimum latency of the receive buffer.
    pub latency: Duration,
    /// Secret key of the cookies.
    pub secret: u64,
}

/// Latencies that a caller requests (draft-sharabayko-srt-01, 3.2.1.1.1).
#[derive(Debug, Clone, Copy)]
struct RequestedLatency {
    receive_ms: u16,
    send_ms: u16,
}

/// Request of a caller.
#[derive(Debug)]
pub struct Request {
    /// Address of the caller.
    pub from: SocketAddr,
    /// Stream ID, which may be a secret.
    pub stream_id: Option<StreamKey>,
    /// The caller encrypts.
    pub encrypted: bool,
    socket: u32,
    handshake: Handshake,
    timestamp: u32,
    latency: RequestedLatency,
    keys: Option<(KeyRing, KeyMaterial)>,
    /// Key material that is still to be opened.
    sealed: Option<KeyMaterial>,
    came: Duration,
}

/// Event of a listener.
#[derive(Debug)]
pub enum ListenerEvent {
    /// Request of a caller, to be answered by [`Listener::accept`] or [`Listener::reject`].
    Request(Box<Request>),
}

/// Listener.
#[derive(Debug)]
pub struct Listener {
    config: ListenerConfig,
    epoch: Duration,
    next_socket: u32,
    /// Callers with a pending or accepted request, with the response for duplicates.
    known: HashMap<(SocketAddr, u32), Option<Handshake>>,
    waiting: VecDeque<(SocketAddr, Bytes)>,
    events: VecDeque<ListenerEvent>,
}

impl Listener {
    /// Creates a listener.
    #[must_use]
    pub fn new(config: ListenerConfig, now: Duration) -> Self {
        Self {
            config,
            epoch: now,
            next_socket: 0x1000_0000,
            known: HashMap::new(),
            waiting: VecDeque::new(),
            events: VecDeque::new(),
        }
    }

    fn say(&mut self, to: SocketAddr, destination: u32, handshake: Handshake, now: Duration) {
        if self.waiting.len() == MAX_WAITING {
            return;
        }
        let micros = now.saturating_sub(self.epoch).as_micros() & 0xffff_ffff;
        let mut out = BytesMut::new();
        let control = Control::Handshake(Box::new(handshake));
        control.put(u32::try_from(micros).unwrap_or_default(), destination, &mut out);
        self.waiting.push_back((to, out.freeze()));
    }

    /// Returns a cookie from the caller's address, the time, and our secret (4.3.1.1).
    fn cookie(&self, from: SocketAddr, stretch: u64) -> u32 {
        let ip = match from.ip() {
            std::net::IpAddr::V4(v4) => u128::from(u32::from(v4)),
            std::net::IpAddr::V6(v6) => u128::from(v6),
        };
        let words = [self.config.secret, low64(ip), low64(ip >> 64), u64::from(from.port()), stretch];
        // Finalizer of a 64-bit mixing generator, once per word.
        let mixed = words.into_iter().fold(0x9e37_79b9_7f4a_7c15_u64, |state, word| {
            let state = (state ^ word).wrapping_mul(0xbf58_476d_1ce4_e5b9);
            let state = (state ^ state >> 29).wrapping_mul(0x94d0_49bb_1331_11eb);
            state ^ state >> 32
        });
        u32::try_from(mixed & 0xffff_ffff).unwrap_or_default().max(1)
    }

    fn stretch(&self, now: Duration) -> u64 {
        now.saturating_sub(self.epoch).as_secs() / COOKIE_SPAN.as_secs()
    }

    fn answer_induction(&mut self, from: SocketAddr, request: &Handshake, now: Duration) {
        // Zero lets the caller choose the key length.
        let encryption = match self.config.passphrase {
            RequiredPassphrase::Shared(_) => self.config.key_length.bits() / 64,
            RequiredPassphrase::None | RequiredPassphrase::OfRequest => 0,
        };
        let answer = Handshake {
            version: 5,
            encryption,
            extension_field: MAGIC,
            initial_sequence: request.initial_sequence,
            mtu: MTU.min(request.mtu),
            window: WINDOW,
            kind: HandshakeKind::Induction,
            // The socket of the connection does not exist yet.
            socket: 0,
            cookie: self.cookie(from, self.stretch(now)),
            address: from.ip(),
            extensions: Vec::new(),
        };
        self.say(from, request.socket, answer, now);
    }

    fn handle_conclusion(&mut self, from: SocketAddr, request: Handshake, timestamp: u32, now: Duration) {
        let stretch = self.stretch(now);
        let is_ours = [stretch, stretch.saturating_sub(1)]
            .into_iter()
            .any(|stretch| self.cookie(from, stretch) == request.cookie);
        if !is_ours {
            return;
        }
        let caller = (from, request.socket);
        if let Some(answered) = self.known.get(&caller) {
            // The response was lost, or the application has not decided yet.
            if let Some(answer) = answered.clone() {
                self.say(from, request.socket, answer, now);
            }
            return;
        }
        if request.version != 5 || self.known.len() >= MAX_CALLERS {
            let rejection = if request.version == 5 { Rejection::Busy } else { Rejection::Version };
            return self.refuse(from, &request, rejection, now);
        }
        match self.read_request(from, request, timestamp, now) {
            Ok(request) => {
                self.known.insert(caller, None);
                self.events.push_back(ListenerEvent::Request(Box::new(request)));
            }
            Err((request, rejection)) => self.refuse(from, &request, rejection, now),
        }
    }

    fn read_request(
        &mut self,
        from: SocketAddr,
        handshake: Handshake,
        timestamp: u32,
        now: Duration,
    ) -> Result<Request, (Handshake, Rejection)> {
        let mut latency = None;
        let mut stream_id = None;
        let mut material = None;
        for extension in &handshake.extensions {
            match extension {
                Extension::Latency { response: false, receive_ms, send_ms, flags, .. }
                    if flags & flags::STREAM == 0 =>
                {
                    latency = Some(RequestedLatency { receive_ms: *receive_ms, send_ms: *send_ms });
                }
                Extension::KeyRequest(asked) => material = Some(asked.clone()),
                Extension::StreamId(words) => stream_id = Some(stream_id_text(words)),
                _ => {}
            }
        }
        let Some(latency) = latency else { return Err((handshake, Rejection::BadRequest)) };
        let encrypted = material.is_some();
        let (keys, sealed) = match &self.config.passphrase {
            RequiredPassphrase::OfRequest => (None, material),
            RequiredPassphrase::None => match open_keys(None, material) {
                Ok(keys) => (keys, None),
                Err(rejection) => return Err((handshake, rejection)),
            },
            RequiredPassphrase::Shared(passphrase) => match open_keys(Some(passphrase), material) {
                Ok(keys) => (keys, None),
                Err(rejection) => return Err((handshake, rejection)),
            },
        };
        self.next_socket = self.next_socket.wrapping_add(1);
        Ok(Request {
            from,
            stream_id: stream_id.filter(|id| !id.is_empty()).map(|id| StreamKey::from_stored(id.into())),
            encrypted,
            socket: self.next_socket,
            handshake,
            timestamp,
            latency,
            keys,
            sealed,
            came: now,
        })
    }

    /// Accepts a caller. Its packets have the returned socket ID as destination.
    pub fn accept(&mut self, request: Request, now: Duration) -> (u32, Connection) {
        let Request { from, socket, handshake, timestamp, latency, keys, came, .. } = request;
        let own = u16::try_from(self.config.latency.as_millis()).unwrap_or(u16::MAX);
        let (receive_ms, send_ms) = (own.max(latency.send_ms), own.max(latency.receive_ms));
        let mut extensions = vec![Extension::Latency {
            response: true,
            version: VERSION,
            flags: flags::ALL | flags::TOO_LATE_DROP,
            receive_ms,
            send_ms,
        }];
        let (ring, material) = keys.unzip();
        extensions.extend(material.map(|material| Extension::KeyResponse(Ok(material))));
        let caller = handshake.socket;
        let answer = Handshake {
            extension_field: extensions.iter().fold(0, |sum, extension| sum | extension.flag()),
            window: WINDOW,
            mtu: MTU.min(handshake.mtu),
            socket,
            address: from.ip(),
            extensions,
            ..handshake
        };
        self.known.insert((from, caller), Some(answer.clone()));
        let agreement = Agreement {
            peer: caller,
            initial_sequence: answer.initial_sequence,
            send_latency: Duration::from_millis(u64::from(send_ms)),
            receive_latency: Duration::from_millis(u64::from(receive_ms)),
            window: answer.window,
            epoch: self.epoch,
            peer_time: (timestamp, came),
            round_trip: None,
            keys: ring,
        };
        self.say(from, caller, answer, now);
        (socket, Connection::new(agreement, KeyRefresh::default(), None, now))
    }

    /// Rejects a caller.
    pub fn reject(&mut self, request: &Request, rejection: Rejection, now: Duration) {
        self.known.remove(&(request.from, request.handshake.socket));
        self.refuse(request.from, &request.handshake, rejection, now);
    }

    /// Forgets a caller whose connection has ended.
    pub fn forget(&mut self, from: SocketAddr, peer: u32) {
        self.known.remove(&(from, peer));
    }

    fn refuse(&mut self, from: SocketAddr, request: &Handshake, rejection: Rejection, now: Duration) {
        let answer = Handshake {
            kind: HandshakeKind::Rejection(rejection.code()),
            extension_field: 0,
            extensions: Vec::new(),
            ..request.clone()
        };
        self.say(from, request.socket, answer, now);
    }
}

impl Request {
    /// Checks the passphrase of a caller of a listener with [`RequiredPassphrase::OfRequest`]; without one it must not
    /// encrypt. Must be called before [`Listener::accept`].
    ///
    /// # Errors
    /// [`Rejection::BadSecret`] or [`Rejection::Unsecured`], for [`Listener::reject`].
    pub fn unlock(&mut self, passphrase: Option<&Passphrase>) -> Result<(), Rejection> {
        self.keys = open_keys(passphrase, self.sealed.take())?;
        Ok(())
    }

    /// Returns the caller's socket ID, for [`Listener::forget`].
    #[must_use]
    pub fn peer(&self) -> u32 {
        self.handshake.socket
    }
}

impl Core for Listener {
    type Event = ListenerEvent;
    type Why = Infallible;

    fn handle_timeout(&mut self, _now: Duration) {}

    fn poll_timeout(&self) -> Option<Duration> {
        None
    }

    fn poll_event(&mut self) -> Option<ListenerEvent> {
        self.events.pop_front()
    }

    fn end(&self) -> Option<&End<Infallible>> {
        None
    }
}

impl DatagramCore for Listener {
    /// Address of the caller.
    type Path = SocketAddr;

    /// Handles a datagram without a connection (destination zero).
    fn handle_datagram(&mut self, from: SocketAddr, datagram: Bytes, now: Duration) {
        let Ok(packet) = Packet::read(datagram) else { return };
        let Packet { timestamp, body: PacketBody::Control(Control::Handshake(handshake)), .. } = packet
        else {
            return;
        };
        match handshake.kind {
            HandshakeKind::Induction => self.answer_induction(from, &handshake, now),
            HandshakeKind::Conclusion => self.handle_conclusion(from, *handshake, timestamp, now),
            HandshakeKind::Rejection(_) | HandshakeKind::Other(_) => {}
        }
    }

    fn poll_datagram(
        &mut self,
        _now: Duration,
        _horizon: Duration,
        out: &mut BytesMut,
    ) -> Option<(SocketAddr, usize)> {
        let (to, datagram) = self.waiting.pop_front()?;
        out.extend_from_slice(&datagram);
        Some((to, datagram.len()))
    }
}

/// Opens the key material of a caller with a passphrase (6.1.4).
fn open_keys(
    passphrase: Option<&Passphrase>,
    material: Option<KeyMaterial>,
) -> Result<Option<(KeyRing, KeyMaterial)>, Rejection> {
    match (passphrase, material) {
        (None, None) => Ok(None),
        (Some(passphrase), Some(material)) => match KeyRing::open(passphrase.clone(), &material) {
            Some(ring) => Ok(Some((ring, material))),
            None => Err(Rejection::BadSecret),
        },
        _ => Err(Rejection::Unsecured),
    }
}

fn low64(number: u128) -> u64 {
    u64::try_from(number & u128::from(u64::MAX)).unwrap_or_default()
}
