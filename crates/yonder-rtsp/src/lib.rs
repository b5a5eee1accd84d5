//! RTSP pull: the RTSP client (RFC 2326), session descriptions (RFC 8866), RTP and RTCP (RFC 3550) and the depacketizers for
//! H.264 (RFC 6184), H.265 (RFC 7798), AAC (RFC 3640 and RFC 6416) and G.711 (RFC 3551).
//!
//! All of it is pure: no sockets, no clock. [`Pull`] is the state machine for a driver, with the interface of
//! [`yonder_protocol`].

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

pub mod auth;
mod client;
mod error;
pub mod message;
mod pull;
pub mod rtp;
pub mod sdp;
mod url;

pub use client::{
    Channel, Client, ClientConfig, ClientEvent, ClientTrack, Codec, Data, DatagramPeer, Offered, Skipped,
    Step, Transport,
};
pub use error::{PullError, Timer};
pub use pull::{DatagramPath, Described, Pull, PullEvent, RtpAccessUnit, TrackStats};
pub use rtp::DropCounts;
pub use url::{CameraUrl, Credentials, UrlError};
