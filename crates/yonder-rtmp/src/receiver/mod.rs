//! Receiving side: one publisher over one connection.
//!
//! The owner decides: after [`ReceiverEvent::Connect`] it calls [`Receiver::accept_connect`] or
//! [`Receiver::refuse_connect`], after [`ReceiverEvent::Publish`] [`Receiver::accept_publish`] or
//! [`Receiver::refuse_publish`].

mod aggregate;
mod conformance;
mod replies;

use std::collections::VecDeque;
use std::time::Duration;

use bytes::{Buf as _, Bytes};
use secrecy::SecretString;
use yonder_protocol::{Core, End, Outbox, StreamCore};

use crate::amf0::Value;
use crate::chunk::{ChunkError, ChunkReader, ChunkStream, ChunkWriter};
use crate::command::{Command, CommandError};
use crate::handshake::{Handshake, HandshakeError};
use crate::message::{Message, MessageKind};

use conformance::Conformance;
pub use conformance::Violation;

/// Window acknowledgement size, in bytes (5.4.4).
const WINDOW: u32 = 2_500_000;
/// Maximum bytes, and maximum size of a message, before a publish was accepted.
const MAX_UNAUTHORIZED: usize = 64 * 1024;
/// Maximum size of a media message: a keyframe at a very high rate is under 8 MB.
const MAX_MEDIA: usize = 8 * 1024 * 1024;

/// Error for invalid data of a publisher.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum ReceiverError {
    /// Handshake.
    #[error(transparent)]
    Handshake(#[from] HandshakeError),
    /// Chunks.
    #[error(transparent)]
    Chunk(#[from] ChunkError),
    /// Command.
    #[error(transparent)]
    Command(#[from] CommandError),
    /// Too many bytes before a publish was accepted.
    #[error("more than {MAX_UNAUTHORIZED} bytes before a stream key was accepted")]
    Unauthorized,
}

/// Event of a receiver.
#[derive(Debug, Clone)]
pub enum ReceiverEvent {
    /// `connect`.
    Connect {
        /// Application name.
        app: String,
        /// Name and version of the publisher's software (`flashVer`), as sent.
        software: Option<String>,
    },
    /// `publish`.
    Publish {
        /// Stream key, as sent.
        key: SecretString,
    },
    /// `onMetaData` with its members.
    Metadata(Value),
    /// A video tag body.
    Video {
        /// Milliseconds modulo 2^32.
        timestamp: u32,
        /// Tag body.
        body: Bytes,
    },
    /// An audio tag body.
    Audio {
        /// Milliseconds modulo 2^32.
        timestamp: u32,
        /// Tag body.
        body: Bytes,
    },
    /// The publisher ended the broadcast in order.
    Ended,
}

/// RTMP dialogue with one publisher.
#[derive(Debug)]
pub struct Receiver {
    handshake: Handshake,
    reader: ChunkReader,
    writer: ChunkWriter,
    outbox: Outbox,
    events: VecDeque<ReceiverEvent>,
    connect_transaction: f64,
    stream: u32,
    /// Video codecs in the response to `connect`.
    four_ccs: Vec<String>,
    acknowledged: Option<u32>,
    /// Bytes received, modulo 2^32.
    received: u32,
    /// Bytes received at our last acknowledgement.
    acknowledged_by_us: u32,
    /// Bytes after which the publisher expects an acknowledgement.
    window: u32,
    /// A publish was accepted.
    is_publishing: bool,
    conformance: Conformance,
    violations: VecDeque<Violation>,
    end: Option<End<ReceiverError>>,
}

/// Maximum violations in the queue.
const MAX_VIOLATIONS: usize = 16;

impl Receiver {
    /// Creates a receiver; `seed` fills its part of the handshake.
    #[must_use]
    pub fn new(seed: u64) -> Self {
        Self {
            handshake: Handshake::new(seed),
            reader: ChunkReader::new(MAX_UNAUTHORIZED),
            writer: ChunkWriter::default(),
            outbox: Outbox::default(),
            events: VecDeque::new(),
            connect_transaction: 1.0,
            stream: 1,
            four_ccs: Vec::new(),
            acknowledged: None,
            received: 0,
            acknowledged_by_us: 0,
            window: WINDOW,
            is_publishing: false,
            conformance: Conformance::default(),
            violations: VecDeque::new(),
            end: None,
        }
    }

    /// Returns the next violation of the standard. The receiver itself is lenient.
    pub fn poll_violation(&mut self) -> Option<Violation> {
        self.violations.pop_front()
    }

    /// Returns the bytes that the publisher has acknowledged; `None` before the first acknowledgement.
    #[must_use]
    pub fn acknowledged(&self) -> Option<u32> {
        self.acknowledged
    }

    fn read_input(&mut self, input: &mut &[u8]) -> Result<(), ReceiverError> {
        if !self.handshake.is_done() {
            if let Some(echo) = self.handshake.handle_input(input)? {
                self.outbox.push(self.handshake.hello());
                self.outbox.push(echo);
            }
            if !self.handshake.is_done() {
                return Ok(());
            }
        }
        while let Some(message) = self.reader.next_message(input)? {
            self.handle_message(message)?;
        }
        Ok(())
    }

    fn handle_message(&mut self, message: Message) -> Result<(), ReceiverError> {
        if let Err(violation) = self.conformance.check(&message, self.stream)
            && self.violations.len() < MAX_VIOLATIONS
        {
            self.violations.push_back(violation);
        }
        let Message { kind, timestamp, payload, .. } = message;
        match kind {
            MessageKind::Video => self.events.push_back(ReceiverEvent::Video { timestamp, body: payload }),
            MessageKind::Audio => self.events.push_back(ReceiverEvent::Audio { timestamp, body: payload }),
            MessageKind::Data | MessageKind::Data3 => self.handle_data(payload),
            MessageKind::Aggregate => {
                for (kind, timestamp, body) in aggregate::split(&payload, timestamp) {
                    match kind {
                        MessageKind::Video => self.events.push_back(ReceiverEvent::Video { timestamp, body }),
                        MessageKind::Audio => self.events.push_back(ReceiverEvent::Audio { timestamp, body }),
                        MessageKind::Data => self.handle_data(body),
                        _ => {}
                    }
                }
            }
            MessageKind::Acknowledgement => {
                self.acknowledged = payload.first_chunk::<4>().map(|bytes| u32::from_be_bytes(*bytes));
            }
            MessageKind::Command | MessageKind::Command3 => {
                let command = Command::decode(payload)?;
                self.handle_command(&command);
            }
            MessageKind::WindowSize => {
                let size = payload.first_chunk::<4>().map(|bytes| u32::from_be_bytes(*bytes));
                self.window = size.filter(|size| *size > 0).unwrap_or(WINDOW);
            }
            MessageKind::UserControl => {
                // A ping request is answered with its timestamp (7.1.7, events 6 and 7).
                if let Some(&[0, 6, a, b, c, d]) = payload.get(..6) {
                    self.send_control(MessageKind::UserControl, &[0, 7, a, b, c, d]);
                }
            }
            MessageKind::SetChunkSize
            | MessageKind::Abort
            | MessageKind::PeerBandwidth
            | MessageKind::Other(_) => {}
        }
        Ok(())
    }

    fn handle_command(&mut self, command: &Command) {
        let argument = command.values.get(1).and_then(Value::as_str).unwrap_or_default();
        match command.name.as_str() {
            "connect" => {
                self.connect_transaction = command.transaction;
                let member =
                    |name| command.values.first().and_then(|object| object.get(name)).and_then(Value::as_str);
                self.events.push_back(ReceiverEvent::Connect {
                    app: member("app").unwrap_or_default().to_owned(),
                    software: member("flashVer").map(str::to_owned),
                });
            }
            "createStream" => {
                let values = vec![Value::Null, Value::Number(f64::from(self.stream))];
                self.send_command(0, &Command::new("_result", command.transaction, values));
            }
            "publish" => self.events.push_back(ReceiverEvent::Publish { key: argument.to_owned().into() }),
            "FCUnpublish" | "deleteStream" | "closeStream" => self.events.push_back(ReceiverEvent::Ended),
            // Not in the standard; some publishers wait for the response.
            "releaseStream" | "FCPublish" | "_checkbw" if command.transaction > 0.0 => {
                self.send_command(0, &Command::new("_result", command.transaction, vec![Value::Null]));
            }
            _ => {}
        }
    }

    /// Handles a data message: `onMetaData` with its members, after `@setDataFrame` or alone. Others, and what cannot be
    /// decoded, are ignored.
    fn handle_data(&mut self, mut payload: Bytes) {
        if payload.first() == Some(&0) && payload.get(1) == Some(&2) {
            payload.advance(1);
        }
        let (values, _) = Value::decode_readable(payload);
        let is_members = |value: &Value| matches!(value, Value::Object(_) | Value::Array(_));
        self.events.extend(values.into_iter().find(is_members).map(ReceiverEvent::Metadata));
    }

    /// Counts received bytes, and acknowledges them each half window (5.4.3): publishers that count differently must not wait.
    fn count_received(&mut self, bytes: usize) {
        self.received = self.received.wrapping_add(u32::try_from(bytes).unwrap_or(u32::MAX));
        if self.handshake.is_done() && self.received.wrapping_sub(self.acknowledged_by_us) >= self.window / 2
        {
            self.acknowledged_by_us = self.received;
            self.send_control(MessageKind::Acknowledgement, &self.received.to_be_bytes());
        }
    }

    fn send_command(&mut self, stream: u32, command: &Command) {
        let header = (MessageKind::Command, stream, 0);
        self.writer.write(&mut self.outbox, ChunkStream::Command, header, &[command.encode()]);
    }

    fn send_control(&mut self, kind: MessageKind, payload: &[u8]) {
        let payload = Bytes::copy_from_slice(payload);
        self.writer.write(&mut self.outbox, ChunkStream::Control, (kind, 0, 0), &[payload]);
    }
}

impl Core for Receiver {
    type Event = ReceiverEvent;
    type Why = ReceiverError;

    fn handle_timeout(&mut self, _now: Duration) {}

    fn poll_timeout(&self) -> Option<Duration> {
        None
    }

    fn poll_event(&mut self) -> Option<ReceiverEvent> {
        self.events.pop_front()
    }

    fn end(&self) -> Option<&End<ReceiverError>> {
        self.end.as_ref()
    }
}

impl StreamCore for Receiver {
    fn handle_input(&mut self, input: &[u8], _now: Duration) -> usize {
        if self.end.is_some() {
            return input.len();
        }
        let mut rest = input;
        if let Err(error) = self.read_input(&mut rest) {
            self.end = Some(End::local(error));
        }
        let read = input.len() - rest.len();
        self.count_received(read);
        let unauthorized = usize::try_from(self.received).unwrap_or(usize::MAX).saturating_add(rest.len());
        if !self.is_publishing && unauthorized > MAX_UNAUTHORIZED {
            self.end.get_or_insert_with(|| End::local(ReceiverError::Unauthorized));
        }
        read
    }

    fn poll_transmit(&mut self, _now: Duration, _horizon: Duration, out: &mut Outbox) -> Option<usize> {
        (!self.outbox.is_empty()).then(|| out.append(&mut self.outbox))
    }
}
