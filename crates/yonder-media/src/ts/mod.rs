//! MPEG transport streams (ISO/IEC 13818-1, "H.222.0"): one program with a picture and, where it can be carried,
//! its sound.
//!
//! [`Muxer`] writes what pushes send; [`Demuxer`] reads what stand-ins and rehearsals receive.

mod crc;
mod demuxer;
mod muxer;
mod packet;
mod pes;
mod section;
mod wrap;

pub use demuxer::{Demuxer, TsEvent, TsProblem};
pub use muxer::{Chunk, LEAD, Muxer, Run, carries_sound};
pub use packet::PACKET;
pub use section::StreamType;
