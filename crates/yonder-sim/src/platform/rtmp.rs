//! RTMP session of a publisher, with or without TLS.

use std::io;
use std::sync::Arc;
use std::time::Duration;

use bytes::BytesMut;
use secrecy::ExposeSecret as _;
use socket2::SockRef;
use tokio::io::{AsyncRead, AsyncReadExt as _, AsyncWrite, AsyncWriteExt as _};
use tokio::net::TcpStream;
use tokio::sync::watch;
use tokio::time::{Instant, sleep, sleep_until};
use tokio_rustls::server::TlsStream;
use yonder_ingest::{MediaEvent, RtmpMedia};
use yonder_protocol::{Core as _, deliver, take_transmit};
use yonder_rtmp::{Receiver, ReceiverEvent, Violation};

use crate::tls::Certificate;

use super::channel::{Broadcast, PublishRejected, Shared};
use super::faults::{PlatformFaults, Stage};

/// Interval at which a session checks for a silent broadcast.
const LOOK_EVERY: Duration = Duration::from_millis(200);
/// Bytes per read of a platform that reads slowly.
const SLOW_READ: u32 = 4096;
/// Bytes per read.
const READ: usize = 64 * 1024;

/// TCP connection, with or without TLS.
trait Wire: AsyncRead + AsyncWrite + Unpin {
    fn socket(&self) -> &TcpStream;
}

impl Wire for TcpStream {
    fn socket(&self) -> &TcpStream {
        self
    }
}

impl Wire for TlsStream<TcpStream> {
    fn socket(&self) -> &TcpStream {
        self.get_ref().0
    }
}

/// Serves one connection until either side ends it.
pub(super) async fn serve(stream: TcpStream, certificate: Option<Certificate>, shared: Arc<Shared>) {
    let outcome = match certificate {
        None => Session::new(shared).run(stream).await,
        Some(certificate) => match certificate.acceptor().accept(stream).await {
            Ok(stream) => Session::new(shared).run(stream).await,
            Err(error) => Err(error),
        },
    };
    if let Err(error) = outcome {
        tracing::debug!(%error, "publisher gone");
    }
}

struct Session {
    shared: Arc<Shared>,
    faults: watch::Receiver<PlatformFaults>,
    receiver: Receiver,
    broadcast: Option<Broadcast>,
    media: RtmpMedia,
    events: Vec<MediaEvent>,
    /// The platform has stopped responding.
    silent: bool,
    over: bool,
    has_asked_to_reconnect: bool,
    began: Instant,
}

impl Session {
    fn new(shared: Arc<Shared>) -> Self {
        let faults = shared.faults.subscribe();
        Self {
            shared,
            faults,
            receiver: Receiver::new(rand::random()),
            broadcast: None,
            media: RtmpMedia::default(),
            events: Vec::new(),
            silent: false,
            over: false,
            has_asked_to_reconnect: false,
            began: Instant::now(),
        }
    }

    async fn run(mut self, mut stream: impl Wire) -> io::Result<()> {
        let mut input = BytesMut::new();
        let first = self.faults.borrow_and_update().clone();
        while !self.over {
            let faults = self.faults.borrow().clone();
            if faults.resets > first.resets || faults.flaky.is_some_and(|span| self.began.elapsed() >= span) {
                // Closing with a linger of zero resets the connection.
                return SockRef::from(stream.socket()).set_linger(Some(Duration::ZERO));
            }
            if faults.ends.0 > first.ends.0 {
                self.end(&faults.ends.1);
            }
            if faults.reconnects.0 > first.reconnects.0 && !self.has_asked_to_reconnect {
                self.has_asked_to_reconnect = true;
                self.receiver.request_reconnect(faults.reconnects.1.as_deref());
                stream.write_all(&take_transmit(&mut self.receiver, self.began.elapsed())).await?;
            }
            let next = Instant::now() + LOOK_EVERY;
            let most = if faults.slow.is_some() { usize::try_from(SLOW_READ).unwrap_or(READ) } else { READ };
            input.reserve(most);
            tokio::select! {
                read = async { (&mut stream).take(most as u64).read_buf(&mut input).await }, if !faults.frozen && !self.over => {
                    let count = read?;
                    if count == 0 {
                        return Ok(());
                    }
                    self.handle_input(&mut input)?;
                    if let Some(rate) = faults.slow {
                        let share = u32::try_from(count).unwrap_or(u32::MAX);
                        sleep(Duration::from_secs(1) * share / rate).await;
                    }
                }
                _ = self.faults.changed() => {}
                () = sleep_until(next) => self.poll_once(),
            }
            let reply = take_transmit(&mut self.receiver, self.began.elapsed());
            if !self.silent {
                stream.write_all(&reply).await?;
            }
        }
        stream.shutdown().await
    }

    fn handle_input(&mut self, input: &mut BytesMut) -> io::Result<()> {
        self.fall_silent(Stage::Handshake);
        deliver(&mut self.receiver, input, self.began.elapsed()).map_err(io::Error::other)?;
        while let Some(event) = self.receiver.poll_event() {
            self.handle_event(event);
        }
        while let Some(violation) = self.receiver.poll_violation() {
            self.refuse(&violation);
        }
        Ok(())
    }

    /// Ends the broadcast of a publisher that violates the standard, and reports the violation.
    fn refuse(&mut self, violation: &Violation) {
        let message = format!("protocol violation: {violation}");
        tracing::warn!(%violation, "publisher deviates from the standard");
        match &mut self.broadcast {
            Some(broadcast) => {
                let _accepted = broadcast.take(MediaEvent::Unreadable(message.clone()));
                self.end(&message);
            }
            None => {
                self.receiver.refuse_connect(&message);
                self.over = true;
            }
        }
    }

    fn fall_silent(&mut self, stage: Stage) {
        self.silent |= self.faults.borrow().silent_from.is_some_and(|from| from <= stage);
    }

    /// Ends a broadcast that has received nothing for too long.
    fn poll_once(&mut self) {
        let silent = self.broadcast.as_ref().is_some_and(|own| self.shared.is_silent(&own.channel));
        if silent {
            self.end("the broadcast has ended: nothing came for too long");
        }
    }

    fn end(&mut self, message: &str) {
        if let Some(mut broadcast) = self.broadcast.take() {
            broadcast.end();
            self.receiver.end_broadcast(message);
        }
        self.over = true;
    }

    fn handle_event(&mut self, event: ReceiverEvent) {
        match event {
            ReceiverEvent::Connect { app, .. } => self.handle_connect(&app),
            ReceiverEvent::Publish { key } => self.handle_publish(key.expose_secret()),
            ReceiverEvent::Metadata(data) => {
                if let Some(broadcast) = &self.broadcast {
                    broadcast.record_metadata(data);
                }
            }
            ReceiverEvent::Video { timestamp, body } => {
                self.media.read_video(timestamp, body, &mut self.events);
                self.take_events();
            }
            ReceiverEvent::Audio { timestamp, body } => {
                self.media.read_audio(timestamp, body, &mut self.events);
                self.take_events();
            }
            ReceiverEvent::Ended => {
                if let Some(mut broadcast) = self.broadcast.take() {
                    broadcast.end();
                }
            }
        }
    }

    fn handle_connect(&mut self, app: &str) {
        self.fall_silent(Stage::Connect);
        let PlatformFaults { refuses_app: refused, redirects_to, announces, .. } =
            self.faults.borrow().clone();
        if let Some(target) = redirects_to {
            self.receiver.redirect(&target);
            self.over = true;
            return;
        }
        let unknown = (app != self.shared.app).then(|| format!("there is no application {app}"));
        match refused.or(unknown) {
            Some(message) => {
                self.receiver.refuse_connect(&message);
                self.over = true;
            }
            None => {
                let announces: Vec<&str> = announces.iter().map(String::as_str).collect();
                self.receiver.accept_connect_with(&announces);
            }
        }
    }

    fn handle_publish(&mut self, key: &str) {
        self.fall_silent(Stage::Publish);
        match self.shared.begin(key) {
            Ok(broadcast) => {
                self.broadcast = Some(broadcast);
                self.receiver.accept_publish();
            }
            Err(PublishRejected::Refused(message)) => {
                self.receiver.refuse_publish(&message);
                self.over = true;
            }
            Err(PublishRejected::Busy) => {
                self.receiver.refuse_publish("stream is already publishing");
                self.over = true;
            }
        }
    }

    /// Passes received media to the broadcast.
    fn take_events(&mut self) {
        let mut events = std::mem::take(&mut self.events);
        for event in events.drain(..) {
            let Some(broadcast) = &mut self.broadcast else { break };
            if let Err(message) = broadcast.take(event) {
                self.end(&message);
            }
        }
        self.events = events;
    }
}
