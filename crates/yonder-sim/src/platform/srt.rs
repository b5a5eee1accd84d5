//! SRT port of a stand-in platform: one socket, a listener and its connections.

use std::collections::HashMap;
use std::io;
use std::net::{Ipv4Addr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;

use bytes::{Bytes, BytesMut};
use tokio::net::UdpSocket;
use tokio::time::{Instant, sleep_until};
use yonder_address::{KeyLength, Passphrase};
use yonder_ingest::{MediaEvent, TsMedia};
use yonder_protocol::{Core as _, DatagramCore as _, End};
use yonder_srt::{
    CloseReason, Connection, Listener, ListenerConfig, ListenerEvent, Packet, Rejection, Request,
};

use crate::camera::Impairment;

use super::channel::{Broadcast, PublishRejected, Shared};

/// Configuration of an SRT port.
#[derive(Debug, Clone)]
pub struct SrtConfig {
    /// Port on loopback; 0 picks one.
    pub port: u16,
    /// Passphrase that publishers must have.
    pub passphrase: Option<Passphrase>,
    /// Minimum latency.
    pub latency: Duration,
}

impl Default for SrtConfig {
    fn default() -> Self {
        Self { port: 0, passphrase: None, latency: Duration::from_millis(120) }
    }
}

/// Longest delay of a reordered datagram, if no other follows.
const HELD_BACK: Duration = Duration::from_millis(5);

/// Datagrams received in a row before other work.
const MAX_DATAGRAMS_AT_ONCE: usize = 64;

struct Session {
    from: SocketAddr,
    peer: u32,
    connection: Connection,
    media: Media,
}

/// Media of one connection.
struct Media {
    broadcast: Broadcast,
    stream: TsMedia,
    events: Vec<MediaEvent>,
}

pub(super) struct SrtPort {
    socket: UdpSocket,
    shared: Arc<Shared>,
    listener: Listener,
    sessions: HashMap<u32, Session>,
    began: Instant,
    /// Reordered datagrams: received ones (`None`) and those to be sent to an address.
    held: Vec<(Instant, Option<SocketAddr>, SocketAddr, Bytes)>,
    ended: u64,
    forgotten: u64,
}

impl SrtPort {
    pub(super) fn bind(config: &SrtConfig) -> io::Result<std::net::UdpSocket> {
        let socket = std::net::UdpSocket::bind((Ipv4Addr::LOCALHOST, config.port))?;
        socket.set_nonblocking(true)?;
        // The system must not drop datagrams besides those that a test drops.
        socket2::SockRef::from(&socket).set_recv_buffer_size(1 << 20)?;
        Ok(socket)
    }

    pub(super) fn new(
        socket: std::net::UdpSocket,
        config: &SrtConfig,
        shared: Arc<Shared>,
    ) -> io::Result<Self> {
        let listener = ListenerConfig {
            passphrase: config.passphrase.clone().into(),
            key_length: KeyLength::Aes128,
            latency: config.latency,
            secret: rand::random(),
        };
        let (ended, forgotten) = {
            let faults = shared.faults.borrow();
            (faults.ends.0, faults.forgets)
        };
        Ok(Self {
            socket: UdpSocket::from_std(socket)?,
            shared,
            listener: Listener::new(listener, Duration::ZERO),
            sessions: HashMap::new(),
            began: Instant::now(),
            held: Vec::new(),
            ended,
            forgotten,
        })
    }

    fn now(&self) -> Duration {
        self.began.elapsed()
    }

    /// Serves connections until the future is dropped.
    pub(super) async fn run(mut self) {
        let mut input = BytesMut::with_capacity(2048);
        loop {
            self.poll_once();
            let frozen = self.shared.faults.borrow().frozen;
            let next = self.next_poll();
            input.clear();
            input.reserve(2048);
            tokio::select! {
                received = self.socket.recv_buf_from(&mut input), if !frozen => {
                    if let Ok((_, from)) = received {
                        self.send_impaired(None, from, Bytes::copy_from_slice(&input));
                        self.receive_more(&mut input);
                    }
                }
                () = sleep_until(next) => {}
            }
        }
    }

    /// Receives further datagrams that have arrived: publishers send several at a time.
    fn receive_more(&mut self, input: &mut BytesMut) {
        for _ in 0..MAX_DATAGRAMS_AT_ONCE {
            input.clear();
            match self.socket.try_recv_buf_from(input) {
                Ok((_, from)) => self.send_impaired(None, from, Bytes::copy_from_slice(input)),
                Err(_) => return,
            }
        }
    }

    fn next_poll(&self) -> Instant {
        let mut next = Duration::from_millis(100) + self.now();
        for session in self.sessions.values() {
            next = session.connection.poll_timeout().map_or(next, |due| due.min(next));
        }
        let held = self.held.iter().map(|(due, ..)| *due).min();
        let next = self.began + next.max(self.now() + Duration::from_micros(500));
        held.map_or(next, |held| held.min(next))
    }

    /// Does all work that is due.
    fn poll_once(&mut self) {
        let due: Vec<_> = self.held.extract_if(.., |(due, ..)| *due <= Instant::now()).collect();
        for (_, to, from, datagram) in due {
            self.deliver(to, from, &datagram);
        }
        self.apply_faults();
        let now = self.now();
        let mut out = BytesMut::new();
        let mut datagrams = Vec::new();
        let mut over = Vec::new();
        for (socket, session) in &mut self.sessions {
            session.connection.handle_timeout(now);
            while let Some(payload) = session.connection.poll_data(now) {
                if session.media.take(&payload).is_err() {
                    session.connection.close(now, Duration::ZERO);
                    session.media.broadcast.end();
                }
            }
            if self.shared.is_silent(&session.media.broadcast.channel) {
                session.connection.close(now, Duration::ZERO);
                session.media.broadcast.end();
            }
            while session.connection.poll_datagram(now, now, &mut out).is_some() {
                datagrams.push((session.from, out.split().freeze()));
            }
            if let Some(end) = session.connection.end() {
                if *end == End::peer(CloseReason::Shutdown) {
                    session.media.broadcast.end();
                }
                over.push((*socket, session.from, session.peer));
            }
        }
        for (socket, from, peer) in over {
            self.sessions.remove(&socket);
            self.listener.forget(from, peer);
        }
        while let Some((to, _)) = self.listener.poll_datagram(now, now, &mut out) {
            datagrams.push((to, out.split().freeze()));
        }
        for (to, datagram) in datagrams {
            self.send_impaired(Some(to), to, datagram);
        }
    }

    /// Applies faults that have changed since the last poll.
    fn apply_faults(&mut self) {
        let now = self.now();
        let (ends, forgets) = {
            let faults = self.shared.faults.borrow();
            (faults.ends.0, faults.forgets)
        };
        if ends > self.ended {
            self.ended = ends;
            for session in self.sessions.values_mut() {
                session.connection.close(now, Duration::ZERO);
                session.media.broadcast.end();
            }
        }
        if forgets > self.forgotten {
            self.forgotten = forgets;
            for (_, session) in self.sessions.drain() {
                self.listener.forget(session.from, session.peer);
            }
        }
    }

    /// Delivers a datagram, subject to the impairment.
    fn send_impaired(&mut self, to: Option<SocketAddr>, from: SocketAddr, datagram: Bytes) {
        let impairment: Impairment = self.shared.faults.borrow().impairment;
        let hits = |per_mille: u16| per_mille > 0 && rand::random_range(0..1_000) < per_mille;
        if hits(impairment.loss_permille) {
            return;
        }
        if hits(impairment.duplicate_permille) {
            self.deliver(to, from, &datagram);
        }
        if hits(impairment.reorder_permille) {
            self.held.push((Instant::now() + HELD_BACK, to, from, datagram));
        } else {
            self.deliver(to, from, &datagram);
        }
    }

    fn deliver(&mut self, to: Option<SocketAddr>, from: SocketAddr, datagram: &Bytes) {
        match to {
            // A datagram that the socket does not accept is lost.
            Some(to) => drop(self.socket.try_send_to(datagram, to)),
            None => self.handle_datagram(from, datagram),
        }
    }

    fn handle_datagram(&mut self, from: SocketAddr, datagram: &Bytes) {
        let now = self.now();
        let Ok(packet) = Packet::read(datagram.clone()) else { return };
        match self.sessions.get_mut(&packet.destination) {
            Some(session) => session.connection.handle_packet(packet, now),
            None => self.listener.handle_datagram(from, datagram.clone(), now),
        }
        while let Some(ListenerEvent::Request(request)) = self.listener.poll_event() {
            self.answer(*request, now);
        }
    }

    fn answer(&mut self, request: Request, now: Duration) {
        let key = request.stream_id.as_ref().map_or("", |id| id.expose());
        match self.shared.begin(key) {
            Ok(broadcast) => {
                let (from, peer) = (request.from, request.peer());
                let (socket, connection) = self.listener.accept(request, now);
                let media = Media { broadcast, stream: TsMedia::default(), events: Vec::new() };
                self.sessions.insert(socket, Session { from, peer, connection, media });
            }
            Err(PublishRejected::Busy) => self.listener.reject(&request, Rejection::Conflict, now),
            Err(PublishRejected::Refused(_)) => self.listener.reject(&request, Rejection::Forbidden, now),
        }
    }
}

impl Media {
    /// Handles a payload.
    ///
    /// # Errors
    /// The reason for which the platform ends the broadcast.
    fn take(&mut self, payload: &Bytes) -> Result<(), String> {
        self.broadcast.record_payload(payload);
        self.stream.read(payload, &mut self.events);
        self.events.drain(..).try_for_each(|event| self.broadcast.take(event))
    }
}
