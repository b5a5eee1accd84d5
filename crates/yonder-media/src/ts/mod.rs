//! MPEG transport streams (ISO/IEC 13818-1, "H.222.0"): one program with video and, where it can be carried,
//! audio.
//!
//! [`Muxer`] writes what pushes send; [`Demuxer`] reads what rehearsals and stand-ins receive.

mod chunk;
mod clock;
mod crc;
mod demuxer;
mod muxer;
mod packet;
mod pes;
mod section;
mod wrap;

pub use chunk::{Chunk, Run};
pub use demuxer::{Demuxer, TsEvent, TsProblem};
pub use muxer::{LEAD, Muxer, carries_audio};
pub use packet::PACKET;
pub use section::StreamType;
