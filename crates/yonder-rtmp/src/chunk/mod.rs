//! Chunks (5.3): messages cut into pieces, with headers that say only what changed.

mod reader;
mod writer;

pub use reader::{ChunkError, ChunkReader};
pub use writer::{ChunkStream, ChunkWriter};

/// Chunk size before either side changes it (5.4.1).
pub const DEFAULT_CHUNK_SIZE: usize = 128;
/// A 24-bit time of this value means that the time stands in an extended field (5.3.1.3).
pub(crate) const EXTENDED: u32 = 0xff_ffff;
