//! Publishing side as a state machine without I/O.
//!
//! ```text
//!   Handshake ─▶ Connecting ─▶ Creating ─▶ Publishing ─▶ Live ─▶ End
//! ```
//!
//! Begins with [`Publisher::start`], and is driven as a [`StreamCore`]. After [`PublisherEvent::Accepted`], headers and bodies may be
//! sent.

mod dialogue;
mod metadata;

use std::collections::VecDeque;
use std::fmt;
use std::time::Duration;

use bytes::Bytes;
use yonder_address::{RtmpServer, StreamKey};
use yonder_media::flv::Body;
use yonder_media::{StreamHeaders, Track, VideoCodec, VideoConfig};
use yonder_protocol::{Core, End, Outbox, Side, StreamCore};

use crate::chunk::{ChunkError, ChunkReader, ChunkStream, ChunkWriter};
use crate::command::Command;
use crate::handshake::{Handshake, HandshakeError};
use crate::message::{Message, MessageKind};

/// Maximum size of a message of a platform, which sends only commands and control messages.
const MAX_COMMAND: usize = 64 * 1024;
/// Timeout of each step of the dialogue.
const STEP_TIMEOUT: Duration = Duration::from_secs(10);
/// Chunk size for sending: most frames fit one chunk, so the overhead is negligible.
const CHUNK_SIZE: u32 = 65_536;

/// Configuration of a publisher.
#[derive(Debug, Clone)]
pub struct PublisherConfig {
    /// Server.
    pub server: RtmpServer,
    /// Stream key.
    pub key: StreamKey,
    /// Seed of the handshake; random in production.
    pub seed: u64,
}

/// Step of the dialogue, in order.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PushStep {
    /// Handshake.
    Handshake,
    /// `connect` was sent.
    Connecting,
    /// `createStream` was sent.
    Creating,
    /// `publish` was sent, with the key.
    Publishing,
    /// The platform receives media.
    Live,
}

impl PushStep {
    /// Returns the name of the response that the step waits for.
    #[must_use]
    pub fn waits_for(self) -> &'static str {
        match self {
            Self::Handshake => "the handshake",
            Self::Connecting => "the application",
            Self::Creating => "a stream",
            Self::Publishing => "the key to be accepted",
            Self::Live => "nothing",
        }
    }
}

/// Measured rates of a stream for its metadata; unknown ones are omitted.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct MeasuredRates {
    /// Frames per second. Replaces a declared frame rate from which it differs by more than a tenth.
    pub fps: Option<f64>,
    /// Video bit rate, in kilobits per second.
    pub video_kbps: Option<f64>,
    /// Audio bit rate, in kilobits per second.
    pub audio_kbps: Option<f64>,
}

/// Event of a publisher.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum PublisherEvent {
    /// The handshake is complete.
    HandshakeDone,
    /// The application was accepted.
    Connected {
        /// The server announced H.265 (Enhanced RTMP, `fourCcList` or `videoFourCcInfoMap`).
        announces_h265: bool,
    },
    /// The key was accepted: media may be sent.
    Accepted,
    /// The platform requests a new connection in place of this one, which it is about to close (Enhanced RTMP v2,
    /// `NetConnection.Connect.ReconnectRequest`).
    ReconnectRequested {
        /// Server to connect to, if a usable one is given.
        server: Option<RtmpServer>,
    },
}

/// Information object of an `onStatus` or `_error` (7.2.2), without control characters and with the stream key masked.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Status {
    /// `status`, `warning` or `error`.
    pub level: String,
    /// Code such as `NetStream.Publish.BadName`.
    pub code: String,
    /// Description, as sent by the platform.
    pub description: String,
}

impl fmt::Display for Status {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match (self.description.as_str(), self.code.as_str()) {
            ("", "") => f.write_str("no reason given"),
            (text, "") | ("", text) => f.write_str(text),
            (description, code) => write!(f, "{description} ({code})"),
        }
    }
}

/// Reason for the failure or end of a push.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum PushError {
    /// The peer does not speak RTMP.
    #[error("the server does not speak RTMP: {0}")]
    NotRtmp(#[from] HandshakeError),
    /// Invalid chunks.
    #[error("the server does not keep to the protocol: {0}")]
    Chunk(#[from] ChunkError),
    /// The platform refused `connect`, `createStream` or `publish`.
    #[error("the platform refused the push while we waited for {}: {status}", .step.waits_for())]
    Refused {
        /// Step of the dialogue.
        step: PushStep,
        /// Reason.
        status: Status,
    },
    /// Redirect: `connect` was refused with `ex.code` 302.
    #[error("the platform refers to {server}")]
    Redirected {
        /// New server.
        server: Box<RtmpServer>,
    },
    /// The platform ended the broadcast.
    #[error("the platform ended the broadcast: {status}")]
    Ended {
        /// Reason.
        status: Status,
    },
    /// Timeout of a step.
    #[error("no answer while waiting for {}", .0.waits_for())]
    NoAnswer(PushStep),
    /// The push was closed by this side.
    #[error("the push was closed")]
    Closed,
}

impl PushError {
    /// Returns the side that ends the dialogue for this reason.
    fn side(&self) -> Side {
        match self {
            Self::NotRtmp(_) | Self::Chunk(_) | Self::NoAnswer(_) | Self::Closed => Side::Local,
            Self::Refused { .. } | Self::Redirected { .. } | Self::Ended { .. } => Side::Peer,
        }
    }
}

/// RTMP dialogue over one connection.
#[derive(Debug)]
pub struct Publisher {
    config: PublisherConfig,
    step: PushStep,
    deadline: Option<Duration>,
    handshake: Handshake,
    reader: ChunkReader,
    writer: ChunkWriter,
    outbox: Outbox,
    events: VecDeque<PublisherEvent>,
    stream: u32,
    received: u64,
    acknowledged: u64,
    window: Option<u64>,
    last_timestamp: u32,
    /// Last announced video codec.
    codec: Option<VideoCodec>,
    end: Option<End<PushError>>,
}

impl Publisher {
    /// Creates a publisher.
    #[must_use]
    pub fn new(config: PublisherConfig) -> Self {
        let handshake = Handshake::new(config.seed);
        Self {
            config,
            step: PushStep::Handshake,
            deadline: None,
            handshake,
            reader: ChunkReader::new(MAX_COMMAND),
            writer: ChunkWriter::default(),
            outbox: Outbox::default(),
            events: VecDeque::new(),
            stream: 0,
            received: 0,
            acknowledged: 0,
            window: None,
            last_timestamp: 0,
            codec: None,
            end: None,
        }
    }

    /// Sends the handshake. Must be called once the connection is established.
    pub fn start(&mut self, now: Duration) {
        self.outbox.push(self.handshake.hello());
        self.enter(PushStep::Handshake, now);
    }

    /// Ends the push. Data that has not been transmitted is dropped.
    fn finish(&mut self, why: PushError) {
        self.deadline = None;
        self.outbox.clear();
        self.end.get_or_insert_with(|| End { by: why.side(), why });
    }

    /// Returns the number of bytes that wait to be transmitted.
    #[must_use]
    pub fn pending(&self) -> usize {
        self.outbox.len()
    }

    /// Returns the current step.
    #[must_use]
    pub fn step(&self) -> PushStep {
        self.step
    }

    /// Sends metadata and sequence headers: before the first body, and after each splice.
    pub fn send_headers(&mut self, headers: &StreamHeaders, rates: MeasuredRates, timestamp: u32) {
        if !self.is_live() {
            return;
        }
        self.send_metadata(headers, rates, timestamp);
        if let Some(video) = &headers.video {
            self.send_body(&Body::video_headers(video), timestamp);
        }
        self.codec = headers.video.as_ref().map(VideoConfig::codec);
        if let Some(body) = headers.audio.as_ref().and_then(Body::audio_headers) {
            self.send_body(&body, timestamp);
        }
    }

    /// Sends metadata alone, after a change of the measured rates.
    pub fn send_metadata(&mut self, headers: &StreamHeaders, rates: MeasuredRates, timestamp: u32) {
        if self.is_live() {
            let data = metadata::payload(headers, rates);
            self.send(ChunkStream::Data, MessageKind::Data, timestamp, &[data]);
        }
    }

    /// Sends a tag body at `timestamp` milliseconds (modulo 2^32). Its slices are shared.
    pub fn send_body(&mut self, body: &Body, timestamp: u32) {
        if !self.is_live() {
            return;
        }
        let (on, kind) = match body.track {
            Track::Video => (ChunkStream::Video, MessageKind::Video),
            Track::Audio => (ChunkStream::Audio, MessageKind::Audio),
        };
        self.send(on, kind, timestamp, &body.pieces);
    }

    /// Ends the broadcast: end of sequence, `FCUnpublish`, deleteStream. Nothing more can be sent; queued data remains
    /// to be transmitted.
    pub fn close(&mut self) {
        if self.is_live() {
            let timestamp = self.last_timestamp;
            if let Some(codec) = self.codec {
                self.send_body(&Body::video_end(codec), timestamp);
            }
            self.send_ending();
        }
        self.deadline = None;
        self.end.get_or_insert_with(|| End::local(PushError::Closed));
    }

    fn is_live(&self) -> bool {
        self.step == PushStep::Live && self.end.is_none()
    }

    fn enter(&mut self, step: PushStep, now: Duration) {
        self.step = step;
        self.deadline = if step == PushStep::Live { None } else { Some(now + STEP_TIMEOUT) };
    }

    fn send(&mut self, on: ChunkStream, kind: MessageKind, timestamp: u32, pieces: &[Bytes]) {
        self.last_timestamp = timestamp;
        self.writer.write(&mut self.outbox, on, (kind, self.stream, timestamp), pieces);
    }

    fn send_control(&mut self, kind: MessageKind, payload: &[u8]) {
        let payload = Bytes::copy_from_slice(payload);
        self.writer.write(&mut self.outbox, ChunkStream::Control, (kind, 0, 0), &[payload]);
    }

    fn send_command(&mut self, stream: u32, command: &Command) {
        let header = (MessageKind::Command, stream, 0);
        self.writer.write(&mut self.outbox, ChunkStream::Command, header, &[command.encode()]);
    }

    /// Sends an acknowledgement after each window of bytes, if the peer has set one (5.4.3).
    fn acknowledge(&mut self) {
        if self.window.is_some_and(|window| self.received - self.acknowledged >= window) {
            self.acknowledged = self.received;
            let sequence = u32::try_from(self.received & 0xffff_ffff).unwrap_or_default();
            self.send_control(MessageKind::Acknowledgement, &sequence.to_be_bytes());
        }
    }

    fn read_input(&mut self, input: &mut &[u8], now: Duration) -> Result<(), PushError> {
        if !self.handshake.is_done() {
            if let Some(echo) = self.handshake.handle_input(input)? {
                self.outbox.push(echo);
            }
            if !self.handshake.is_done() {
                return Ok(());
            }
            self.after_greeting(now);
        }
        while let Some(message) = self.reader.next_message(input)? {
            self.handle_message(&message, now)?;
        }
        Ok(())
    }

    fn handle_message(&mut self, message: &Message, now: Duration) -> Result<(), PushError> {
        match message.kind {
            MessageKind::WindowSize => {
                self.window = message.number().map(u64::from).filter(|window| *window > 0);
            }
            // 5.4.5: answered with our own window, whatever the limit type.
            MessageKind::PeerBandwidth => {
                if let Some(size) = message.number() {
                    self.send_control(MessageKind::WindowSize, &size.to_be_bytes());
                }
            }
            MessageKind::UserControl => self.handle_user_control(&message.payload),
            MessageKind::Command | MessageKind::Command3 => {
                // A malformed command is ignored, since it must not end the broadcast.
                if let Ok(command) = Command::decode(message.payload.clone()) {
                    self.handle_command(&command, now)?;
                }
            }
            // Set Chunk Size and Abort were applied by the reader; the rest is irrelevant for a publisher.
            MessageKind::SetChunkSize
            | MessageKind::Abort
            | MessageKind::Acknowledgement
            | MessageKind::Audio
            | MessageKind::Video
            | MessageKind::Data
            | MessageKind::Data3
            | MessageKind::Aggregate
            | MessageKind::Other(_) => {}
        }
        Ok(())
    }

    /// Answers a ping request (6) with a ping response (7) of the same timestamp (7.1.7).
    fn handle_user_control(&mut self, payload: &[u8]) {
        if let Some((&[0, 6, a, b, c, d], _)) = payload.split_first_chunk::<6>() {
            self.send_control(MessageKind::UserControl, &[0, 7, a, b, c, d]);
        }
    }
}

impl Core for Publisher {
    type Event = PublisherEvent;
    type Why = PushError;

    fn handle_timeout(&mut self, now: Duration) {
        if self.deadline.is_some_and(|deadline| deadline <= now) {
            self.finish(PushError::NoAnswer(self.step));
        }
    }

    fn poll_timeout(&self) -> Option<Duration> {
        self.deadline
    }

    fn poll_event(&mut self) -> Option<PublisherEvent> {
        self.events.pop_front()
    }

    fn end(&self) -> Option<&End<PushError>> {
        self.end.as_ref()
    }
}

impl StreamCore for Publisher {
    fn handle_input(&mut self, input: &[u8], now: Duration) -> usize {
        if self.end.is_some() {
            return input.len();
        }
        let mut rest = input;
        let result = self.read_input(&mut rest, now);
        let consumed = input.len() - rest.len();
        self.received += u64::try_from(consumed).unwrap_or_default();
        self.acknowledge();
        if let Err(error) = result {
            self.finish(error);
        }
        consumed
    }

    fn poll_transmit(&mut self, _now: Duration, _horizon: Duration, out: &mut Outbox) -> Option<usize> {
        (!self.outbox.is_empty()).then(|| out.append(&mut self.outbox))
    }
}

#[cfg(test)]
mod tests;
