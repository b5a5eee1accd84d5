//! RTMP publishers.

use std::io;
use std::sync::Arc;

use bytes::BytesMut;
use secrecy::ExposeSecret as _;
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::{TcpListener, TcpStream};
use tokio::task::JoinSet;
use tokio::time::Instant;
use yonder_protocol::{Core as _, deliver, take_transmit};
use yonder_rtmp::{Receiver, ReceiverEvent};

use crate::channel::{Broadcast, Channel, Refusal};
use crate::media::{MediaEvent, RtmpMedia};

/// Maximum concurrent connections; further ones are closed.
const MAX_CONNECTIONS: usize = 8;
/// Size of one read.
const READ_SIZE: usize = 64 * 1024;

/// Accepts publishers until it is dropped.
pub(crate) async fn accept(listener: TcpListener, channel: Arc<Channel>) {
    let mut sessions = JoinSet::new();
    loop {
        let Ok((stream, _)) = listener.accept().await else { continue };
        while sessions.try_join_next().is_some() {}
        if sessions.len() < MAX_CONNECTIONS {
            sessions.spawn(serve(stream, Arc::clone(&channel)));
        }
    }
}

async fn serve(stream: TcpStream, channel: Arc<Channel>) {
    if let Err(error) = Session::new(channel).run(stream).await {
        tracing::debug!(%error, "publisher gone");
    }
}

struct Session {
    channel: Arc<Channel>,
    receiver: Receiver,
    media: RtmpMedia,
    events: Vec<MediaEvent>,
    broadcast: Option<Broadcast>,
    is_over: bool,
}

impl Session {
    fn new(channel: Arc<Channel>) -> Self {
        Self {
            channel,
            receiver: Receiver::new(rand::random()),
            media: RtmpMedia::default(),
            events: Vec::new(),
            broadcast: None,
            is_over: false,
        }
    }

    async fn run(mut self, mut stream: TcpStream) -> io::Result<()> {
        let (mut input, began) = (BytesMut::new(), Instant::now());
        while !self.is_over {
            input.reserve(READ_SIZE);
            if stream.read_buf(&mut input).await? == 0 {
                return Ok(());
            }
            deliver(&mut self.receiver, &mut input, began.elapsed()).map_err(io::Error::other)?;
            while let Some(event) = self.receiver.poll_event() {
                self.handle_event(event);
            }
            if let Some(broadcast) = &self.broadcast {
                broadcast.grade(&mut self.events);
            }
            stream.write_all(&take_transmit(&mut self.receiver, began.elapsed())).await?;
        }
        stream.shutdown().await
    }

    fn handle_event(&mut self, event: ReceiverEvent) {
        match event {
            ReceiverEvent::Connect { app, .. } if app == self.channel.app => self.receiver.accept_connect(),
            ReceiverEvent::Connect { app, .. } => {
                self.receiver.refuse_connect(&format!("unknown application {app}"));
                self.is_over = true;
            }
            ReceiverEvent::Publish { key } => match self.channel.begin(key.expose_secret()) {
                Ok(broadcast) => {
                    self.broadcast = Some(broadcast);
                    self.receiver.accept_publish();
                }
                Err(refusal) => {
                    self.receiver.refuse_publish(match refusal {
                        Refusal::UnknownKey => "unknown stream key",
                        Refusal::Busy => "another publisher uses this stream key",
                    });
                    self.is_over = true;
                }
            },
            ReceiverEvent::Metadata(_) => {}
            ReceiverEvent::Video { timestamp, body } => {
                self.media.read_video(timestamp, body, &mut self.events);
            }
            ReceiverEvent::Audio { timestamp, body } => {
                self.media.read_audio(timestamp, body, &mut self.events);
            }
            ReceiverEvent::Ended => {
                // Media received before the end counts.
                if let Some(broadcast) = self.broadcast.take() {
                    broadcast.grade(&mut self.events);
                }
            }
        }
    }
}
