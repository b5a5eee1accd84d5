//! Media: access units, the bitstream headers that describe them, the timeline that maps them to one clock, and the output
//! containers.
//!
//! All of it is pure: no sockets, no clock, no files. Time is passed in as a [`std::time::Duration`] since an epoch of the
//! caller's choice.

#![forbid(unsafe_code)]
#![deny(clippy::disallowed_methods, reason = "no clock is read and no thread sleeps in this crate")]
#![deny(
    clippy::as_conversions,
    clippy::expect_used,
    clippy::indexing_slicing,
    clippy::panic,
    clippy::unwrap_used
)]
#![cfg_attr(test, allow(clippy::as_conversions, reason = "tests build their input by hand"))]

pub mod aac;
mod bits;
mod blocks;
pub mod flv;
pub mod fmp4;
pub mod g711;
pub mod h264;
pub mod h265;
pub mod hls;
mod nal;
mod order;
mod range;
pub mod splice;
mod stream;
pub mod ticks;
pub mod timeline;
pub mod ts;
mod unit;

pub use bits::{BitReader, BitsError};
pub use blocks::BlockWriter;
pub use nal::{NalRole, split_access_units, split_nals};
pub use order::PictureOrder;
pub use stream::{AudioConfig, ParameterSets, StreamHeaders, VideoCodec, VideoConfig, VideoProperties};
pub use ticks::{FrameRate, TICKS_PER_SECOND};
pub use unit::{AccessUnit, Frame, Payload, PerTrack, Track};
