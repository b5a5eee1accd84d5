//! RTMP and RTMPS publishers.

use std::io;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use bytes::BytesMut;
use tokio::io::{AsyncRead, AsyncReadExt as _, AsyncWrite, AsyncWriteExt as _};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::watch;
use tokio::task::JoinSet;
use tokio::time::{Instant, sleep, timeout};
use tokio_rustls::TlsAcceptor;
use yonder_address::StreamKey;
use yonder_protocol::{Core as _, deliver, take_transmit};
use yonder_rtmp::{Receiver, ReceiverEvent, Value};

use super::publisher::{IngestProtocol, PublisherEnd, PublisherInfo, PublisherMessage, printable};
use super::registry::{AccessError, IngestRegistry, Pending, Session};
use super::rtmp_keys;
use crate::units::{RtmpUnits, UnitEvent};

/// Time in which a peer must show a stream key, the TLS handshake included.
const KEY_TIMEOUT: Duration = Duration::from_secs(10);
/// Time without a byte after which a publisher counts as gone.
const IDLE_TIMEOUT: Duration = Duration::from_secs(15);
/// Time in which a peer must take our answers.
const WRITE_TIMEOUT: Duration = Duration::from_secs(5);
/// Time in which a feed must take media.
const FEED_TIMEOUT: Duration = Duration::from_secs(10);
/// Pause after a connection could not be accepted, as without free file descriptors.
const ACCEPT_PAUSE: Duration = Duration::from_millis(100);
/// Size of one read.
const READ_SIZE: usize = 64 * 1024;
/// Video codecs announced to publishers of Enhanced RTMP.
const FOUR_CCS: [&str; 2] = ["avc1", "hvc1"];

/// Accepts publishers until it is dropped.
pub(super) async fn accept(listener: TcpListener, tls: Option<Arc<TlsAcceptor>>, registry: IngestRegistry) {
    let mut sessions = JoinSet::new();
    loop {
        tokio::select! {
            accepted = listener.accept() => match accepted {
                // A connection beyond the limits is closed at once.
                Ok((stream, from)) => if let Some(pending) = registry.admit(from.ip()) {
                    sessions.spawn(serve(stream, from, tls.clone(), pending, registry.clone()));
                },
                Err(error) => {
                    tracing::warn!(%error, "no connection of an encoder can be accepted");
                    sleep(ACCEPT_PAUSE).await;
                }
            },
            Some(_) = sessions.join_next() => {}
        }
    }
}

async fn serve(
    stream: TcpStream,
    from: SocketAddr,
    tls: Option<Arc<TlsAcceptor>>,
    pending: Pending,
    registry: IngestRegistry,
) {
    // Only a delay otherwise.
    let _unused = stream.set_nodelay(true);
    let Some(tls) = tls else {
        return Connection::new(stream, from, IngestProtocol::Rtmp, registry).run(pending).await;
    };
    match timeout(KEY_TIMEOUT, tls.accept(stream)).await {
        Ok(Ok(stream)) => Connection::new(stream, from, IngestProtocol::Rtmps, registry).run(pending).await,
        Ok(Err(error)) => tracing::debug!(%from, %error, "no TLS connection with an encoder"),
        Err(_) => tracing::debug!(%from, "an encoder does not complete the TLS handshake"),
    }
}

/// Connection of a publisher.
struct Connection<S> {
    stream: S,
    from: SocketAddr,
    protocol: IngestProtocol,
    registry: IngestRegistry,
    began: Instant,
    input: BytesMut,
    receiver: Receiver,
    software: Option<String>,
}

impl<S: AsyncRead + AsyncWrite + Unpin> Connection<S> {
    fn new(stream: S, from: SocketAddr, protocol: IngestProtocol, registry: IngestRegistry) -> Self {
        Self {
            stream,
            from,
            protocol,
            registry,
            began: Instant::now(),
            input: BytesMut::new(),
            receiver: Receiver::new(rand::random()),
            software: None,
        }
    }

    async fn run(mut self, pending: Pending) {
        match timeout(KEY_TIMEOUT, self.negotiate()).await {
            Ok(Ok(Some(session))) => {
                pending.conclude();
                let feed = session.feed.clone();
                let protocol = self.protocol.as_str();
                tracing::info!(feed, from = %self.from, protocol, software = self.software, "encoder publishes");
                let end = self.receive(&session).await;
                tracing::info!(feed, from = %self.from, %end, "encoder gone");
                // The feed may not read any more.
                let _unused = session.messages.try_send(PublisherMessage::End(end));
            }
            // Refused with an answer.
            Ok(Ok(None)) => pending.conclude(),
            Ok(Err(error)) => tracing::debug!(from = %self.from, %error, "a peer did not publish"),
            Err(_) => tracing::debug!(from = %self.from, "a peer has shown no stream key"),
        }
        // The connection is closed anyway.
        let _unused = timeout(WRITE_TIMEOUT, self.stream.shutdown()).await;
    }

    /// Reads once. Returns the number of bytes, zero at the end of the connection.
    async fn read(&mut self) -> io::Result<usize> {
        self.input.reserve(READ_SIZE);
        self.stream.read_buf(&mut self.input).await
    }

    /// Passes what was read to the protocol.
    fn deliver(&mut self) -> io::Result<()> {
        deliver(&mut self.receiver, &mut self.input, self.began.elapsed()).map_err(io::Error::other)
    }

    async fn write(&mut self) -> io::Result<()> {
        let out = take_transmit(&mut self.receiver, self.began.elapsed());
        if out.is_empty() {
            return Ok(());
        }
        match timeout(WRITE_TIMEOUT, self.stream.write_all(&out)).await {
            Ok(written) => written,
            Err(_) => Err(io::Error::new(io::ErrorKind::TimedOut, "it does not read our answers")),
        }
    }

    /// Leads the dialogue up to the stream key. Returns `None` if it was refused.
    async fn negotiate(&mut self) -> io::Result<Option<Session>> {
        let mut app = String::new();
        loop {
            if self.read().await? == 0 {
                return Err(io::ErrorKind::UnexpectedEof.into());
            }
            self.deliver()?;
            while let Some(event) = self.receiver.poll_event() {
                match event {
                    ReceiverEvent::Connect { app: path, software } => {
                        app = path;
                        self.software = software.as_deref().and_then(printable);
                        self.receiver.accept_connect_with(&FOUR_CCS);
                    }
                    ReceiverEvent::Publish { key } => {
                        let keys = rtmp_keys(&app, &StreamKey::from_stored(key));
                        let session = self.answer_publish(&keys).await;
                        self.write().await?;
                        return Ok(session);
                    }
                    // Nothing of it counts before the key.
                    ReceiverEvent::Metadata(_)
                    | ReceiverEvent::Video { .. }
                    | ReceiverEvent::Audio { .. }
                    | ReceiverEvent::Ended => {}
                }
            }
            self.write().await?;
        }
    }

    async fn answer_publish(&mut self, keys: &[StreamKey]) -> Option<Session> {
        let Some(feed) = self.registry.feed_of(keys) else {
            let delay = self.registry.count_wrong_key(self.from.ip());
            tracing::warn!(from = %self.from, "an encoder has a wrong stream key");
            sleep(delay).await;
            self.receiver.refuse_publish("this stream key is not known here");
            return None;
        };
        let info = PublisherInfo {
            protocol: self.protocol,
            from: self.from,
            software: self.software.clone(),
            is_encrypted: self.protocol == IngestProtocol::Rtmps,
        };
        match self.registry.begin(&feed, info) {
            Ok(session) => {
                self.receiver.accept_publish();
                Some(session)
            }
            Err(error) => {
                tracing::warn!(feed, from = %self.from, ?error, "an encoder was refused");
                self.receiver.refuse_publish(match error {
                    AccessError::Busy => "another publisher is already sending with this stream key",
                    AccessError::UnknownKey => "this stream key is not known here",
                    AccessError::Full => "too many publishers, try again later",
                });
                None
            }
        }
    }

    /// Receives media until the end.
    async fn receive(&mut self, session: &Session) -> PublisherEnd {
        let (mut units, mut media) = (RtmpUnits::default(), Vec::new());
        let mut is_replaced = session.is_replaced.clone();
        loop {
            let read = tokio::select! {
                () = takeover(&mut is_replaced) => {
                    self.receiver.end_broadcast("another publisher has taken over");
                    // Best effort.
                    let _unused = self.write().await;
                    return PublisherEnd::Replaced;
                }
                () = session.messages.closed() => {
                    self.receiver.end_broadcast("this feed takes no media any more");
                    let _unused = self.write().await;
                    return PublisherEnd::Closed;
                }
                read = timeout(IDLE_TIMEOUT, self.read()) => read,
            };
            let count = match read {
                Ok(Ok(0)) => return PublisherEnd::Closed,
                Ok(Ok(count)) => count,
                Ok(Err(error)) => return PublisherEnd::Lost(error.to_string()),
                Err(_) => {
                    return PublisherEnd::Lost(format!("nothing came for {} s", IDLE_TIMEOUT.as_secs()));
                }
            };
            let delivered = self.deliver();
            let mut has_ended = false;
            while let Some(event) = self.receiver.poll_event() {
                match event {
                    ReceiverEvent::Video { timestamp, body } => units.read_video(timestamp, body, &mut media),
                    ReceiverEvent::Audio { timestamp, body } => units.read_audio(timestamp, body, &mut media),
                    ReceiverEvent::Metadata(members) => {
                        let software = members.get("encoder").and_then(Value::as_str).and_then(printable);
                        if let Some(software) = software {
                            // A missing name is no loss.
                            let _unused = session.messages.try_send(PublisherMessage::Software(software));
                        }
                    }
                    ReceiverEvent::Ended => has_ended = true,
                    ReceiverEvent::Connect { .. } | ReceiverEvent::Publish { .. } => {}
                }
            }
            if let Err(end) = send(session, count, &mut media).await {
                return end;
            }
            if let Err(error) = delivered {
                return PublisherEnd::Protocol(error.to_string());
            }
            if has_ended {
                return PublisherEnd::Ended;
            }
            if let Err(error) = self.write().await {
                return PublisherEnd::Lost(error.to_string());
            }
        }
    }
}

/// Waits until another publisher has taken over.
async fn takeover(is_replaced: &mut watch::Receiver<bool>) {
    // The sender is dropped with the feed, which ends the publisher as well.
    let _unused = is_replaced.wait_for(|is_replaced| *is_replaced).await.map(|_| ());
}

/// Sends media to the feed.
///
/// # Errors
/// The end of the publisher if the feed does not take it.
async fn send(session: &Session, count: usize, media: &mut Vec<UnitEvent>) -> Result<(), PublisherEnd> {
    if media.iter().any(|event| matches!(event, UnitEvent::Unit(_))) {
        session.note_media();
    }
    let received = std::iter::once(PublisherMessage::Received(count));
    for message in received.chain(media.drain(..).map(PublisherMessage::Media)) {
        match timeout(FEED_TIMEOUT, session.messages.send(message)).await {
            Ok(Ok(())) => {}
            Ok(Err(_)) => return Err(PublisherEnd::Closed),
            Err(_) => {
                let reason = format!("the feed took no media for {} s", FEED_TIMEOUT.as_secs());
                return Err(PublisherEnd::Lost(reason));
            }
        }
    }
    Ok(())
}
