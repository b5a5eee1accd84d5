//! SRT publishers: one socket, a listener, and the connections behind it.

use std::collections::HashMap;
use std::io;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use bytes::{Bytes, BytesMut};
use tokio::net::UdpSocket;
use tokio::time::{Instant, sleep_until};
use yonder_address::{KeyLength, Passphrase};
use yonder_protocol::{Core as _, DatagramCore as _};
use yonder_srt::{Connection, Listener, ListenerConfig, ListenerEvent, Packet, Rejection, Request};

use crate::channel::{Broadcast, Channel, Refusal};
use crate::media::{MediaEvent, TsMedia};

/// Receive buffer of the socket: a keyframe arrives at once.
const RECEIVE_BUFFER: usize = 1 << 20;
/// Largest datagram.
const MAX_DATAGRAM: usize = 2_048;
/// Maximum datagrams handled before timers.
const MAX_AT_ONCE: usize = 64;
/// Maximum interval of polls.
const MAX_WAIT: Duration = Duration::from_millis(100);
/// Minimum interval of polls, since timers are not exact.
const MIN_WAIT: Duration = Duration::from_micros(500);

struct Session {
    from: SocketAddr,
    peer: u32,
    connection: Connection,
    media: TsMedia,
    broadcast: Broadcast,
}

/// Socket that publishers connect to.
pub(crate) struct Port {
    socket: UdpSocket,
    channel: Arc<Channel>,
    listener: Listener,
    sessions: HashMap<u32, Session>,
    events: Vec<MediaEvent>,
    began: Instant,
}

impl Port {
    /// Opens a port. To be called within a tokio runtime.
    pub(crate) fn bind(
        address: SocketAddr,
        passphrase: Option<Passphrase>,
        latency: Duration,
        channel: Arc<Channel>,
    ) -> io::Result<Self> {
        let socket = std::net::UdpSocket::bind(address)?;
        socket.set_nonblocking(true)?;
        socket2::SockRef::from(&socket).set_recv_buffer_size(RECEIVE_BUFFER)?;
        let config = ListenerConfig {
            passphrase: passphrase.into(),
            key_length: KeyLength::Aes128,
            latency,
            secret: rand::random(),
        };
        Ok(Self {
            socket: UdpSocket::from_std(socket)?,
            channel,
            listener: Listener::new(config, Duration::ZERO),
            sessions: HashMap::new(),
            events: Vec::new(),
            began: Instant::now(),
        })
    }

    pub(crate) fn address(&self) -> io::Result<SocketAddr> {
        self.socket.local_addr()
    }

    /// Serves publishers until it is dropped.
    pub(crate) async fn run(mut self) {
        let mut input = BytesMut::with_capacity(MAX_DATAGRAM);
        loop {
            self.poll();
            let next = self.next_poll();
            input.clear();
            input.reserve(MAX_DATAGRAM);
            tokio::select! {
                received = self.socket.recv_buf_from(&mut input) => {
                    if let Ok((_, from)) = received {
                        self.handle_datagram(from, Bytes::copy_from_slice(&input));
                        self.receive_more(&mut input);
                    }
                }
                () = sleep_until(next) => {}
            }
        }
    }

    fn now(&self) -> Duration {
        self.began.elapsed()
    }

    fn next_poll(&self) -> Instant {
        let timeouts = self.sessions.values().filter_map(|session| session.connection.poll_timeout());
        let next = timeouts.min().unwrap_or(Duration::MAX).min(self.now() + MAX_WAIT);
        self.began + next.max(self.now() + MIN_WAIT)
    }

    /// Handles datagrams that have already arrived, since publishers send in bursts.
    fn receive_more(&mut self, input: &mut BytesMut) {
        for _ in 0..MAX_AT_ONCE {
            input.clear();
            match self.socket.try_recv_buf_from(input) {
                Ok((_, from)) => self.handle_datagram(from, Bytes::copy_from_slice(input)),
                Err(_) => return,
            }
        }
    }

    fn handle_datagram(&mut self, from: SocketAddr, datagram: Bytes) {
        let now = self.now();
        let Ok(packet) = Packet::read(datagram.clone()) else { return };
        match self.sessions.get_mut(&packet.destination) {
            Some(session) => session.connection.handle_packet(packet, now),
            None => self.listener.handle_datagram(from, datagram, now),
        }
        while let Some(ListenerEvent::Request(request)) = self.listener.poll_event() {
            self.answer(*request, now);
        }
    }

    fn answer(&mut self, request: Request, now: Duration) {
        let key = request.stream_id.as_ref().map_or("", |id| id.expose());
        match self.channel.begin(key) {
            Ok(broadcast) => {
                let (from, peer) = (request.from, request.peer());
                let (socket, connection) = self.listener.accept(request, now);
                let media = TsMedia::default();
                self.sessions.insert(socket, Session { from, peer, connection, media, broadcast });
            }
            Err(Refusal::Busy) => self.listener.reject(&request, Rejection::Conflict, now),
            Err(Refusal::UnknownKey) => self.listener.reject(&request, Rejection::Forbidden, now),
        }
    }

    /// Handles everything that is due.
    fn poll(&mut self) {
        let now = self.now();
        let mut out = BytesMut::new();
        let mut closed = Vec::new();
        for (socket, session) in &mut self.sessions {
            session.connection.handle_timeout(now);
            while let Some(payload) = session.connection.poll_data(now) {
                session.media.read(&payload, &mut self.events);
            }
            session.broadcast.grade(&mut self.events);
            while session.connection.poll_datagram(now, now, &mut out).is_some() {
                // A datagram that the socket does not accept is lost.
                let _sent = self.socket.try_send_to(&out.split(), session.from);
            }
            if session.connection.end().is_some() {
                closed.push((*socket, session.from, session.peer));
            }
        }
        for (socket, from, peer) in closed {
            self.sessions.remove(&socket);
            self.listener.forget(from, peer);
        }
        while let Some((to, _)) = self.listener.poll_datagram(now, now, &mut out) {
            let _sent = self.socket.try_send_to(&out.split(), to);
        }
    }
}
