//! Pulling a camera: the RTSP client (RFC 2326), session descriptions (RFC 8866), RTP and RTCP (RFC 3550) and
//! the depacketisers for H.264 (RFC 6184), H.265 (RFC 7798), AAC (RFC 3640 and RFC 6416) and G.711 (RFC 3551).
//!
//! Everything here is pure: no sockets, no clock. [`Pull`] is the state machine that a driver owns, with the interface of
//! [`yonder_protocol`].

#![forbid(unsafe_code)]
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
pub use pull::{DatagramPath, Described, Pull, PullEvent, RawUnit, TrackFigures};
pub use rtp::DropCounts;
pub use url::{CameraUrl, Credentials, UrlError};
