//! Putting messages together from chunks.

use std::collections::HashMap;

use bytes::{Buf as _, BytesMut};

use crate::message::{Message, MessageKind};

use super::{DEFAULT_CHUNK_SIZE, EXTENDED};

/// Maximum length of a message with media: a keyframe at a very high rate stays under 8 MB.
const MAX_MEDIA: usize = 8 * 1024 * 1024;
/// Memory that is reserved for a message before its bytes have come.
const MAX_RESERVED: usize = 256 * 1024;
/// Most chunk streams of one peer; real ones use under ten.
const MAX_STREAMS: usize = 64;

/// Why bytes are no chunks.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum ChunkError {
    /// A message is announced longer than the limit.
    #[error("message of {length} bytes is longer than {limit}")]
    TooLong {
        /// Announced length.
        length: usize,
        /// Maximum.
        limit: usize,
    },
    /// A header refers to one that never came.
    #[error("chunk stream {0} continues what it never began")]
    NoPrevious(u32),
    /// More chunk streams than any real peer uses.
    #[error("more than {MAX_STREAMS} chunk streams")]
    TooManyStreams,
    /// A chunk size of zero, or beyond 31 bits (5.4.1).
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
    partial: BytesMut,
    in_message: bool,
}

/// Reads chunks. Applies Set Chunk Size and Abort by itself; they are returned as well.
#[derive(Debug)]
pub struct ChunkReader {
    chunk_size: usize,
    /// Maximum length of a message.
    max_message: usize,
    streams: HashMap<u32, Stream>,
}

impl Default for ChunkReader {
    fn default() -> Self {
        Self::new(MAX_MEDIA)
    }
}

/// Headers of a chunk; nothing is applied before the whole chunk is there.
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
    /// Creates a reader of messages up to a length, in bytes.
    #[must_use]
    pub fn new(max_message: usize) -> Self {
        Self { chunk_size: DEFAULT_CHUNK_SIZE, max_message, streams: HashMap::new() }
    }

    /// Consumes chunks from the front of `input` up to the end of the next message, which it returns; `None` when more bytes are needed.
    ///
    /// # Errors
    /// [`ChunkError`]; the connection cannot be used further.
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
            let Ok(time) = rest.try_get_u32() else { return Ok(None) };
            head.time = time;
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
            stream.length = head.length;
            stream.kind = head.kind;
            stream.stream = head.stream;
            stream.in_message = true;
        }
        if stream.partial.is_empty() {
            // Limited: the length is only announced so far.
            stream.partial.reserve(stream.length.min(MAX_RESERVED));
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

/// 5.3.1.1: six, eight or sixteen bits of chunk stream.
fn basic_header(rest: &mut &[u8]) -> Option<(u8, u32)> {
    let first = rest.try_get_u8().ok()?;
    let id = match first & 0x3f {
        0 => 64 + u32::from(rest.try_get_u8().ok()?),
        1 => 64 + u32::from(rest.try_get_u16_le().ok()?),
        id => u32::from(id),
    };
    Some((first >> 6, id))
}

/// 5.3.1.2: what the header says, completed from the one before.
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
    // Inside a message the length is that of its first chunk, whatever a peer repeats.
    if let Some(stream) = known.filter(|stream| stream.in_message) {
        head.length = stream.length;
    }
    Some(head)
}

#[cfg(test)]
#[path = "tests.rs"]
mod tests;
