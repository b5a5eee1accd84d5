//! Chunk writer: splits messages into chunks without copying the payload.

use bytes::{BufMut as _, Bytes, BytesMut};
use yonder_protocol::Outbox;

use crate::message::MessageKind;

use super::{DEFAULT_CHUNK_SIZE, EXTENDED};

/// Chunk streams for sending. Their IDs fit the one-byte basic header (5.3.1.1).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ChunkStream {
    /// Protocol control, fixed at 2.
    Control,
    /// Commands.
    Command,
    /// Metadata.
    Data,
    /// Audio.
    Audio,
    /// Video.
    Video,
}

impl ChunkStream {
    fn id(self) -> u8 {
        match self {
            Self::Control => 2,
            Self::Command => 3,
            Self::Audio => 4,
            Self::Data => 5,
            Self::Video => 6,
        }
    }

    fn slot(self) -> usize {
        usize::from(self.id() - 2)
    }
}

/// Last header on a chunk stream.
#[derive(Debug, Clone, Copy)]
struct Last {
    kind: u8,
    stream: u32,
    length: usize,
    timestamp: u32,
    delta: Option<u32>,
}

/// Chunk writer.
#[derive(Debug)]
pub struct ChunkWriter {
    chunk_size: usize,
    last: [Option<Last>; 5],
    /// Buffer for headers, which are split off: many share one allocation.
    headers: BytesMut,
}

impl Default for ChunkWriter {
    fn default() -> Self {
        Self { chunk_size: DEFAULT_CHUNK_SIZE, last: [None; 5], headers: BytesMut::new() }
    }
}

impl ChunkWriter {
    /// Sets the chunk size from the next message on. Set Chunk Size must have been sent before.
    pub fn set_chunk_size(&mut self, size: usize) {
        self.chunk_size = size.max(1);
    }

    /// Writes a message whose payload is `pieces`, with a total length of `length`.
    ///
    /// `timestamp` is in milliseconds modulo 2^32 and may step back, which takes a type 0 header.
    pub fn write(
        &mut self,
        out: &mut Outbox,
        on: ChunkStream,
        header: (MessageKind, u32, u32),
        pieces: &[Bytes],
    ) {
        let (kind, stream, timestamp) = header;
        let length = pieces.iter().map(Bytes::len).sum();
        let extended = self.put_first_header(on, kind.id(), stream, timestamp, length);
        let mut room = self.chunk_size;
        for piece in pieces {
            let mut rest = piece.clone();
            while !rest.is_empty() {
                if room == 0 {
                    self.put_continuation(on, extended);
                    room = self.chunk_size;
                }
                self.flush_headers(out);
                let part = rest.split_to(room.min(rest.len()));
                room -= part.len();
                out.push(part);
            }
        }
        self.flush_headers(out);
    }

    fn flush_headers(&mut self, out: &mut Outbox) {
        if !self.headers.is_empty() {
            out.push(self.headers.split().freeze());
        }
    }

    /// Writes the shortest possible header type (5.3.1.2). Returns the extended timestamp, if one is used.
    fn put_first_header(
        &mut self,
        on: ChunkStream,
        kind: u8,
        stream: u32,
        timestamp: u32,
        length: usize,
    ) -> Option<u32> {
        if self.headers.capacity() < 32 {
            self.headers.reserve(4096);
        }
        let last = self.last.get(on.slot()).copied().flatten();
        // A step of half the range or more is a step back, which needs an absolute timestamp.
        let delta = last
            .filter(|last| last.stream == stream)
            .map(|last| (last, timestamp.wrapping_sub(last.timestamp)))
            .filter(|(_, delta)| *delta < 1 << 31);
        let (format, time) = match delta {
            None => (0, timestamp),
            Some((last, delta)) if last.kind != kind || last.length != length => (1, delta),
            Some((last, delta)) if last.delta != Some(delta) => (2, delta),
            Some((_, delta)) => (3, delta),
        };
        self.headers.put_u8(format << 6 | on.id());
        let extended = Some(time).filter(|time| *time >= EXTENDED);
        if format < 3 {
            self.headers.put_uint(u64::from(time.min(EXTENDED)), 3);
        }
        if format < 2 {
            self.headers.put_uint(u64::try_from(length).unwrap_or_default() & 0xff_ffff, 3);
            self.headers.put_u8(kind);
        }
        if format == 0 {
            self.headers.put_u32_le(stream);
        }
        if let Some(time) = extended {
            self.headers.put_u32(time);
        }
        // After a type 0 header the next delta is unknown to the peer: type 3 would repeat the absolute timestamp.
        let delta = if format == 0 { None } else { Some(time) };
        if let Some(slot) = self.last.get_mut(on.slot()) {
            *slot = Some(Last { kind, stream, length, timestamp, delta });
        }
        extended
    }

    /// Writes a type 3 header within a message; the extended timestamp is repeated (5.3.1.3).
    fn put_continuation(&mut self, on: ChunkStream, extended: Option<u32>) {
        if self.headers.capacity() < 32 {
            self.headers.reserve(4096);
        }
        self.headers.put_u8(3 << 6 | on.id());
        if let Some(time) = extended {
            self.headers.put_u32(time);
        }
    }
}
