//! MPEG transport streams (ISO/IEC 13818-1, "H.222.0"): one program with video and, where it can be carried,
//! audio.
//!
//! [`Muxer`] writes the output of pushes; [`Demuxer`] reads what publishers send.

mod assembler;
mod audio;
mod chunk;
mod clock;
mod crc;
mod demuxer;
mod muxer;
mod packet;
mod pes;
mod programs;
mod section;
mod wrap;

pub use chunk::{Chunk, PacedRun};
pub use demuxer::{Demuxer, TsEvent, TsProblem};
pub use muxer::{Muxer, PREROLL, carries_audio};
pub use packet::PACKET;
pub use section::StreamType;
