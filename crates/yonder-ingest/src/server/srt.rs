//! SRT publishers: one socket, a listener, and the connections behind it.

use std::collections::HashMap;
use std::io;
use std::net::SocketAddr;
use std::time::Duration;

use bytes::{Bytes, BytesMut};
use tokio::net::UdpSocket;
use tokio::sync::mpsc::error::TrySendError;
use tokio::time::{Instant, sleep_until};
use yonder_address::KeyLength;
use yonder_media::Track;
use yonder_protocol::{Core as _, DatagramCore as _};
use yonder_srt::{
    CloseReason, Connection, Listener, ListenerConfig, ListenerEvent, Packet, Rejection, Request,
    RequiredPassphrase,
};

use super::publisher::{IngestProtocol, LinkStats, PublisherEnd, PublisherInfo, PublisherMessage, QUEUE};
use super::registry::{AccessError, IngestRegistry, Session};
use super::srt_keys;
use crate::units::{TsUnits, UnitEvent};

/// Receive buffer of the socket: keyframes of several publishers arrive at once.
const RECEIVE_BUFFER: usize = 4 << 20;
/// Largest datagram.
const MAX_DATAGRAM: usize = 2_048;
/// Maximum datagrams handled before timers.
const MAX_AT_ONCE: usize = 64;
/// Maximum interval of polls.
const MAX_WAIT: Duration = Duration::from_millis(100);
/// Minimum interval of polls, since timers are not exact.
const MIN_WAIT: Duration = Duration::from_micros(500);
/// Interval of statistics.
const STATS_INTERVAL: Duration = Duration::from_secs(1);
/// Maximum refusals that are delayed; further ones are sent at once.
const MAX_DELAYED: usize = 128;

/// Connection of a publisher.
struct Connected {
    from: SocketAddr,
    peer: u32,
    connection: Connection,
    units: TsUnits,
    session: Session,
    stats_due: Duration,
    /// The feed had no room: units are dropped up to a keyframe.
    skips: bool,
    /// Headers that the feed had no room for.
    headers: Option<UnitEvent>,
    end: Option<PublisherEnd>,
}

/// Refusal that is sent later.
struct DelayedRefusal {
    due: Duration,
    request: Request,
    rejection: Rejection,
}

/// Socket that publishers connect to.
pub(super) struct Port {
    socket: UdpSocket,
    registry: IngestRegistry,
    listener: Listener,
    connections: HashMap<u32, Connected>,
    delayed: Vec<DelayedRefusal>,
    media: Vec<UnitEvent>,
    began: Instant,
}

impl Port {
    /// Opens a port. Must be called within a tokio runtime.
    pub(super) fn bind(address: SocketAddr, latency: Duration, registry: IngestRegistry) -> io::Result<Self> {
        let socket = std::net::UdpSocket::bind(address)?;
        socket.set_nonblocking(true)?;
        socket2::SockRef::from(&socket).set_recv_buffer_size(RECEIVE_BUFFER)?;
        let config = ListenerConfig {
            passphrase: RequiredPassphrase::OfRequest,
            key_length: KeyLength::Aes128,
            latency,
            secret: rand::random(),
        };
        Ok(Self {
            socket: UdpSocket::from_std(socket)?,
            registry,
            listener: Listener::new(config, Duration::ZERO),
            connections: HashMap::new(),
            delayed: Vec::new(),
            media: Vec::new(),
            began: Instant::now(),
        })
    }

    pub(super) fn address(&self) -> io::Result<SocketAddr> {
        self.socket.local_addr()
    }

    /// Serves publishers until it is dropped.
    pub(super) async fn run(mut self) {
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
        let timeouts = self.connections.values().filter_map(|connected| connected.connection.poll_timeout());
        let delayed = self.delayed.iter().map(|refusal| refusal.due);
        let next = timeouts.chain(delayed).min().unwrap_or(Duration::MAX).min(self.now() + MAX_WAIT);
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
        match self.connections.get_mut(&packet.destination) {
            // Another address may have guessed the socket ID.
            Some(connected) if connected.from == from => connected.connection.handle_packet(packet, now),
            Some(_) => {}
            None => self.listener.handle_datagram(from, datagram, now),
        }
        while let Some(ListenerEvent::Request(request)) = self.listener.poll_event() {
            self.answer(*request, now);
        }
    }

    fn answer(&mut self, mut request: Request, now: Duration) {
        let from = request.from;
        let keys = request.stream_id.as_ref().map_or(Ok(Vec::new()), srt_keys);
        let Ok(keys) = keys else {
            return self.listener.reject(&request, Rejection::BadRequest, now);
        };
        let Some(feed) = self.registry.feed_of(&keys) else {
            tracing::warn!(%from, "an encoder has a wrong stream key");
            return self.refuse_later(request, Rejection::Forbidden, now);
        };
        // Before the place is taken, since a wrong passphrase must not end a publisher.
        if let Err(rejection) = request.unlock(self.registry.passphrase_of(&feed).as_ref()) {
            tracing::warn!(feed, %from, reason = rejection.meaning(), "an encoder was refused");
            return self.refuse_later(request, rejection, now);
        }
        let info = PublisherInfo {
            protocol: IngestProtocol::Srt,
            from,
            software: None,
            is_encrypted: request.encrypted,
        };
        match self.registry.begin(&feed, info) {
            Ok(session) => {
                tracing::info!(feed, %from, protocol = "srt", "encoder publishes");
                let peer = request.peer();
                let (socket, connection) = self.listener.accept(request, now);
                let connected = Connected {
                    from,
                    peer,
                    connection,
                    units: TsUnits::default(),
                    session,
                    stats_due: now + STATS_INTERVAL,
                    skips: false,
                    headers: None,
                    end: None,
                };
                self.connections.insert(socket, connected);
            }
            Err(error) => {
                tracing::warn!(feed, %from, ?error, "an encoder was refused");
                let rejection = match error {
                    AccessError::Busy => Rejection::Conflict,
                    AccessError::UnknownKey => Rejection::Forbidden,
                    AccessError::Full => Rejection::Busy,
                };
                self.listener.reject(&request, rejection, now);
            }
        }
    }

    /// Counts a wrong key, and refuses it after the delay of its address.
    fn refuse_later(&mut self, request: Request, rejection: Rejection, now: Duration) {
        let delay = self.registry.count_wrong_key(request.from.ip());
        if delay.is_zero() || self.delayed.len() >= MAX_DELAYED {
            return self.listener.reject(&request, rejection, now);
        }
        self.delayed.push(DelayedRefusal { due: now + delay, request, rejection });
    }

    fn poll(&mut self) {
        let now = self.now();
        let mut out = BytesMut::new();
        let mut closed = Vec::new();
        for (socket, connected) in &mut self.connections {
            connected.poll(now, &mut self.media);
            while connected.connection.poll_datagram(now, now, &mut out).is_some() {
                // A datagram that the socket does not accept is lost.
                let _sent = self.socket.try_send_to(&out.split(), connected.from);
            }
            if connected.connection.end().is_some() {
                closed.push(*socket);
            }
        }
        for socket in closed {
            if let Some(connected) = self.connections.remove(&socket) {
                self.listener.forget(connected.from, connected.peer);
                connected.finish();
            }
        }
        let (due, later) =
            std::mem::take(&mut self.delayed).into_iter().partition(|refusal| refusal.due <= now);
        self.delayed = later;
        for DelayedRefusal { request, rejection, .. } in due {
            self.listener.reject(&request, rejection, now);
        }
        while let Some((to, _)) = self.listener.poll_datagram(now, now, &mut out) {
            let _sent = self.socket.try_send_to(&out.split(), to);
        }
    }
}

impl Connected {
    fn poll(&mut self, now: Duration, media: &mut Vec<UnitEvent>) {
        self.connection.handle_timeout(now);
        if self.end.is_none() && (*self.session.is_replaced.borrow() || self.session.messages.is_closed()) {
            let is_replaced = *self.session.is_replaced.borrow();
            self.end = Some(if is_replaced { PublisherEnd::Replaced } else { PublisherEnd::Closed });
            self.connection.close(now, Duration::ZERO);
        }
        while let Some(payload) = self.connection.poll_data(now) {
            self.units.read(&payload, media);
            // Padding and tables without media do not keep another encoder from taking over.
            if media.iter().any(|event| matches!(event, UnitEvent::Unit(_))) {
                self.session.note_media();
            }
            let _unsent = self.send(PublisherMessage::Received(payload.len()));
            for event in media.drain(..) {
                self.send_media(event);
            }
        }
        if now >= self.stats_due {
            self.stats_due = now + STATS_INTERVAL;
            let stats = self.connection.stats();
            let link = LinkStats { rtt: stats.rtt, received: stats.received, missing: stats.missing };
            let _unsent = self.send(PublisherMessage::Link(link));
        }
    }

    /// Sends media to the feed. After a message that it had no room for, media continues with the headers and a keyframe, once
    /// half of the queue is free.
    fn send_media(&mut self, event: UnitEvent) {
        match &event {
            UnitEvent::Headers(_) if self.skips => {
                self.headers = Some(event);
                return;
            }
            UnitEvent::Unit(unit) if self.skips => {
                let has_room = self.session.messages.capacity() > QUEUE / 2;
                if unit.track != Track::Video || !unit.keyframe || !has_room {
                    return;
                }
                self.skips = false;
                if let Some(headers) = self.headers.take() {
                    let _unsent = self.send(PublisherMessage::Media(headers));
                }
            }
            _ => {}
        }
        if let Some(PublisherMessage::Media(unsent)) = self.send(PublisherMessage::Media(event)) {
            tracing::warn!(feed = self.session.feed, "the feed does not take the media of its encoder");
            self.skips = true;
            self.headers = Some(unsent).filter(|unsent| matches!(unsent, UnitEvent::Headers(_)));
        }
    }

    /// Sends a message to the feed, and returns it if the feed has no room for it. The socket serves all publishers, so that it
    /// does not wait for a feed.
    fn send(&self, message: PublisherMessage) -> Option<PublisherMessage> {
        match self.session.messages.try_send(message) {
            Err(TrySendError::Full(message)) => Some(message),
            // Its end is handled with the next poll.
            Ok(()) | Err(TrySendError::Closed(_)) => None,
        }
    }

    /// Reports the end to the feed.
    fn finish(self) {
        let end = self.end.unwrap_or_else(|| match self.connection.end().map(|end| end.why) {
            Some(CloseReason::Shutdown) | None => PublisherEnd::Ended,
            Some(reason) => PublisherEnd::Lost(reason.to_string()),
        });
        tracing::info!(feed = self.session.feed, from = %self.from, %end, "encoder gone");
        // The feed may not read any more.
        let _unused = self.session.messages.try_send(PublisherMessage::End(end));
    }
}
