//! One publisher's session, from the platform's side.

use std::io;
use std::sync::Arc;

use bytes::{Bytes, BytesMut};
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::TcpStream;
use yonder_media::flv::{self, BodyError, Content};
use yonder_rtmp::{Receiver, ReceiverEvent};

use super::Shared;

/// Serves one connection until either side ends it.
pub(super) async fn serve(stream: TcpStream, shared: Arc<Shared>) {
    let mut session = Session { shared, receiver: Receiver::new(rand::random()), channel: None, over: false };
    if let Err(error) = session.run(stream).await {
        tracing::debug!(%error, "publisher gone");
    }
}

struct Session {
    shared: Arc<Shared>,
    receiver: Receiver,
    /// The channel this session broadcasts on.
    channel: Option<String>,
    over: bool,
}

impl Drop for Session {
    fn drop(&mut self) {
        self.end_broadcast();
    }
}

impl Session {
    async fn run(&mut self, mut stream: TcpStream) -> io::Result<()> {
        let mut input = BytesMut::new();
        while !self.over {
            input.reserve(64 * 1024);
            if stream.read_buf(&mut input).await? == 0 {
                return Ok(());
            }
            self.receiver.handle_input(&mut input).map_err(io::Error::other)?;
            while let Some(event) = self.receiver.poll_event() {
                self.handle_event(event);
            }
            let reply = self.receiver.outbox().take_all();
            stream.write_all(&reply).await?;
        }
        stream.shutdown().await
    }

    fn handle_event(&mut self, event: ReceiverEvent) {
        match event {
            ReceiverEvent::Connect { app } if app == self.shared.app => self.receiver.accept_connect(),
            ReceiverEvent::Connect { app } => {
                self.receiver.refuse_connect(&format!("there is no application {app}"));
                self.over = true;
            }
            ReceiverEvent::Publish { key } => match self.shared.channel_of(&key) {
                Some(channel) => self.begin_broadcast(channel),
                None => {
                    self.receiver.refuse_publish("this stream key is not known here");
                    self.over = true;
                }
            },
            ReceiverEvent::Metadata(_) => {}
            ReceiverEvent::Video { timestamp, body } => self.take(timestamp, body, flv::read_video),
            ReceiverEvent::Audio { timestamp, body } => self.take(timestamp, body, flv::read_audio),
            ReceiverEvent::Ended => self.end_broadcast(),
        }
    }

    fn begin_broadcast(&mut self, name: String) {
        let mut channels = self.shared.channels();
        let channel = channels.entry(name.clone()).or_default();
        if channel.live {
            drop(channels);
            self.receiver.refuse_publish("somebody is already publishing with this key");
            self.over = true;
            return;
        }
        channel.live = true;
        channel.broadcasts += 1;
        channel.grader.begin_broadcast();
        drop(channels);
        self.channel = Some(name);
        self.receiver.accept_publish();
    }

    fn end_broadcast(&mut self) {
        if let Some(name) = self.channel.take()
            && let Some(channel) = self.shared.channels().get_mut(&name)
        {
            channel.live = false;
            channel.grader.end_broadcast();
        }
    }

    fn take(&mut self, timestamp: u32, body: Bytes, read: fn(Bytes) -> Result<Content, BodyError>) {
        let Some(name) = &self.channel else { return };
        let mut channels = self.shared.channels();
        let Some(channel) = channels.get_mut(name) else { return };
        let bytes = body.len();
        match read(body) {
            Ok(content) => {
                channel.grader.add(timestamp, bytes, &content);
                if self.shared.record {
                    match content {
                        Content::Picture { nals, .. } => channel.recording.pictures.push(nals),
                        Content::Sound(frame) | Content::G711 { samples: frame, .. } => {
                            channel.recording.sound.push(frame);
                        }
                        Content::VideoHeaders { .. } | Content::AudioHeaders(_) | Content::VideoEnd => {}
                    }
                }
            }
            Err(error) => channel.grader.add_unreadable(error.to_string()),
        }
    }
}
