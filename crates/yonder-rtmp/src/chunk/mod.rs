//! Chunk stream (5.3): messages are split into chunks with differential headers.

mod reader;
mod writer;

pub use reader::{ChunkError, ChunkReader};
pub use writer::{ChunkStream, ChunkWriter};

/// Initial chunk size (5.4.1).
pub const DEFAULT_CHUNK_SIZE: usize = 128;
/// 24-bit timestamp value that announces an extended timestamp (5.3.1.3).
pub(crate) const EXTENDED: u32 = 0xff_ffff;
