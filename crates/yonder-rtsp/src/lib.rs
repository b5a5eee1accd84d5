//! RTSP pull: the RTSP client (RFC 2326), session descriptions (RFC 8866), RTP and RTCP (RFC 3550) and the depacketizers for
//! H.264 (RFC 6184), H.265 (RFC 7798), AAC (RFC 3640 and RFC 6416) and G.711 (RFC 3551).
//!
//! All of it is pure: no sockets, no clock. [`Pull`] is the state machine for a driver, with the interface of
//! [`yonder_protocol`].
//!
//! # Example
//!
//! ```
//! use std::time::Duration;
//!
//! use yonder_protocol::{StreamCore as _, take_transmit};
//! use yonder_rtsp::{CameraUrl, ClientConfig, Pull, Transport};
//!
//! let (url, credentials) = CameraUrl::parse("rtsp://192.0.2.7/summit/main")?;
//! let mut pull = Pull::new(ClientConfig {
//!     url,
//!     credentials,
//!     requires_digest: false,
//!     transport: Transport::Interleaved,
//!     seed: 1,
//! });
//! let now = Duration::ZERO;
//! pull.start(now);
//! let request = String::from_utf8(take_transmit(&mut pull, now))?;
//! assert!(request.starts_with("OPTIONS rtsp://192.0.2.7/summit/main RTSP/1.0\r\nCSeq: 1\r\n"));
//! let response = b"RTSP/1.0 200 OK\r\nCSeq: 1\r\nPublic: DESCRIBE, SETUP, PLAY\r\n\r\n";
//! assert_eq!(pull.handle_input(response, now), response.len());
//! let request = String::from_utf8(take_transmit(&mut pull, now))?;
//! assert!(request.starts_with("DESCRIBE "));
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

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
mod pull_event;
mod reception;
pub mod rtp;
pub mod sdp;
mod url;

pub use client::{
    Channel, Client, ClientConfig, ClientEvent, ClientTrack, Codec, Data, DatagramPeer, Offered, Skipped,
    Step, Transport,
};
pub use error::{PullError, Timer};
pub use pull::Pull;
pub use pull_event::{DatagramPath, Described, PullEvent, RtpAccessUnit, TrackStats};
pub use rtp::DropCounts;
pub use url::{CameraUrl, Credentials, UrlError};
