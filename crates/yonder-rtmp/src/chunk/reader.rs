//! Chunk reader: assembles messages.

use std::collections::HashMap;

use bytes::{Buf as _, BytesMut};

use crate::message::{Message, MessageKind};

use super::{DEFAULT_CHUNK_SIZE, EXTENDED};

/// Maximum size of a media message: a keyframe at a very high rate is under 8 MB.
const MAX_MEDIA: usize = 8 * 1024 * 1024;
/// Part of the maximum message size that is reserved for a message whose length is announced only: 256 KiB for media, 2 KiB
/// for a peer that has not shown a key yet, which may begin a message on each chunk stream.
const RESERVED_SHARE: usize = 32;
/// Maximum chunk streams of a peer; real ones use under ten.
const MAX_STREAMS: usize = 64;

/// Error for an invalid chunk.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum ChunkError {
    /// The announced message exceeds the limit.
    #[error("message of {length} bytes is longer than {limit}")]
    TooLong {
        /// Announced length.
        length: usize,
        /// Maximum.
        limit: usize,
    },
    /// A header refers to a previous one that does not exist.
    #[error("chunk stream {0} continues what it never began")]
    NoPrevious(u32),
    /// Too many chunk streams.
    #[error("more than {MAX_STREAMS} chunk streams")]
    TooManyStreams,
    /// Chunk size of zero, or beyond 31 bits (5.4.1).
    #[error("chunk size {0} is out of range")]
    ChunkSize(u32),
}

#[derive(Debug, Default)]
struct Stream {
    timestamp: u32,
    delta: u32,
    length: usize,
    kind: u8,
    stream: u32,
    extended: bool,
    /// Extended timestamp field of the last header, as sent.
    extended_time: u32,
    partial: BytesMut,
    in_message: bool,
}

/// Chunk reader. Set Chunk Size and Abort are applied, and returned as messages as well.
#[derive(Debug)]
pub struct ChunkReader {
    chunk_size: usize,
    /// Maximum message size.
    max_message: usize,
    streams: HashMap<u32, Stream>,
}

impl Default for ChunkReader {
    fn default() -> Self {
        Self::new(MAX_MEDIA)
    }
}

/// Headers of a chunk; they are applied once the whole chunk is available.
struct Head {
    id: u32,
    format: u8,
    time: u32,
    length: usize,
    kind: u8,
    stream: u32,
    extended: bool,
    header_bytes: usize,
}

impl ChunkReader {
    /// Creates a reader with a maximum message size, in bytes.
    #[must_use]
    pub fn new(max_message: usize) -> Self {
        Self { chunk_size: DEFAULT_CHUNK_SIZE, max_message, streams: HashMap::new() }
    }

    /// Sets the maximum message size, in bytes, of messages that begin from now on.
    pub fn set_max_message(&mut self, max_message: usize) {
        self.max_message = max_message;
    }

    /// Parses chunks at the beginning of `input` up to the end of the next message, which is returned; `None` if more
    /// bytes are needed.
    ///
    /// # Errors
    /// [`ChunkError`]; the connection cannot be used any more.
    pub fn next_message(&mut self, input: &mut &[u8]) -> Result<Option<Message>, ChunkError> {
        while let Some(head) = self.read_head(input)? {
            let done = self.streams.get(&head.id).map_or(0, |stream| stream.partial.len());
            let part = (head.length - done.min(head.length)).min(self.chunk_size);
            let Some((chunk, rest)) = input.split_at_checked(head.header_bytes + part) else {
                return Ok(None);
            };
            *input = rest;
            if let Some(message) =
                self.take_chunk(&head, chunk.get(head.header_bytes..).unwrap_or_default())?
            {
                self.apply_control(&message)?;
                return Ok(Some(message));
            }
        }
        Ok(None)
    }

    fn read_head(&self, buffer: &[u8]) -> Result<Option<Head>, ChunkError> {
        let mut rest = buffer;
        let Some((format, id)) = basic_header(&mut rest) else { return Ok(None) };
        let known = self.streams.get(&id);
        if format > 0 && known.is_none() {
            return Err(ChunkError::NoPrevious(id));
        }
        if known.is_none() && self.streams.len() >= MAX_STREAMS {
            return Err(ChunkError::TooManyStreams);
        }
        let Some(mut head) = message_header(&mut rest, format, id, known) else { return Ok(None) };
        if head.extended {
            // Some publishers leave the field out of the chunks that continue a message (5.3.1.3).
            let continued = known.filter(|stream| format == 3 && stream.in_message);
            let is_left_out = continued.is_some_and(|stream| {
                let field = stream.extended_time.to_be_bytes();
                !rest.iter().zip(field).all(|(byte, expected)| *byte == expected)
            });
            if !is_left_out {
                let Ok(time) = rest.try_get_u32() else { return Ok(None) };
                head.time = time;
            }
        }
        if head.length > self.max_message {
            return Err(ChunkError::TooLong { length: head.length, limit: self.max_message });
        }
        head.header_bytes = buffer.len() - rest.len();
        Ok(Some(head))
    }

    fn take_chunk(&mut self, head: &Head, part: &[u8]) -> Result<Option<Message>, ChunkError> {
        let stream = self.streams.entry(head.id).or_default();
        if !stream.in_message {
            match head.format {
                0 => {
                    stream.timestamp = head.time;
                    stream.delta = head.time;
                }
                1 | 2 => {
                    stream.delta = head.time;
                    stream.timestamp = stream.timestamp.wrapping_add(head.time);
                }
                _ => stream.timestamp = stream.timestamp.wrapping_add(stream.delta),
            }
            stream.extended = head.extended;
            stream.extended_time = head.time;
            stream.length = head.length;
            stream.kind = head.kind;
            stream.stream = head.stream;
            stream.in_message = true;
        }
        if stream.partial.is_empty() {
            // Bounded, since the length is only announced so far.
            stream.partial.reserve(stream.length.min(self.max_message / RESERVED_SHARE));
        }
        stream.partial.extend_from_slice(part);
        if stream.partial.len() < stream.length {
            return Ok(None);
        }
        stream.in_message = false;
        Ok(Some(Message {
            kind: MessageKind::from_id(stream.kind),
            stream: stream.stream,
            timestamp: stream.timestamp,
            payload: std::mem::take(&mut stream.partial).freeze(),
        }))
    }

    fn apply_control(&mut self, message: &Message) -> Result<(), ChunkError> {
        match (message.kind, message.number()) {
            (MessageKind::SetChunkSize, Some(size)) => {
                let valid = usize::try_from(size).ok().filter(|_| size > 0 && size < 1 << 31);
                self.chunk_size = valid.ok_or(ChunkError::ChunkSize(size))?;
            }
            (MessageKind::Abort, Some(id)) => {
                if let Some(stream) = self.streams.get_mut(&id) {
                    stream.partial.clear();
                    stream.in_message = false;
                }
            }
            _ => {}
        }
        Ok(())
    }
}

/// Parses the basic header (5.3.1.1): six, eight or sixteen bits of chunk stream ID.
fn basic_header(rest: &mut &[u8]) -> Option<(u8, u32)> {
    let first = rest.try_get_u8().ok()?;
    let id = match first & 0x3f {
        0 => 64 + u32::from(rest.try_get_u8().ok()?),
        1 => 64 + u32::from(rest.try_get_u16_le().ok()?),
        id => u32::from(id),
    };
    Some((first >> 6, id))
}

/// Parses the message header (5.3.1.2), completed from the previous one.
fn message_header(rest: &mut &[u8], format: u8, id: u32, known: Option<&Stream>) -> Option<Head> {
    let mut head = Head {
        id,
        format,
        time: known.map_or(0, |stream| stream.delta),
        length: known.map_or(0, |stream| stream.length),
        kind: known.map_or(0, |stream| stream.kind),
        stream: known.map_or(0, |stream| stream.stream),
        extended: known.is_some_and(|stream| stream.extended),
        header_bytes: 0,
    };
    if format < 3 {
        head.time = u32::try_from(rest.try_get_uint(3).ok()?).unwrap_or_default();
        head.extended = head.time == EXTENDED;
    }
    if format < 2 {
        head.length = usize::try_from(rest.try_get_uint(3).ok()?).unwrap_or_default();
        head.kind = rest.try_get_u8().ok()?;
    }
    if format == 0 {
        head.stream = rest.try_get_u32_le().ok()?;
    }
    // Within a message the length is that of its first chunk.
    if let Some(stream) = known.filter(|stream| stream.in_message) {
        head.length = stream.length;
    }
    Some(head)
}

#[cfg(test)]
#[path = "tests.rs"]
mod tests;
