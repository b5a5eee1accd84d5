//! SRT (draft-sharabayko-srt-01) in live mode: callers for pushes, and listeners for stand-ins and rehearsals.
//!
//! All of it is pure: no sockets, no clock, no randomness. State machines take datagrams and the time since an epoch of the
//! driver's choice; a driver then drains `poll_transmit` and `poll_event`, in this order, and sleeps until `poll_timeout`.
//!
//! # Example
//!
//! ```
//! use std::time::Duration;
//!
//! use bytes::BytesMut;
//! use yonder_protocol::DatagramCore as _;
//! use yonder_srt::{Caller, CallerConfig, KeyRefresh, Packet};
//!
//! let now = Duration::ZERO;
//! let mut caller = Caller::new(
//!     CallerConfig {
//!         stream_id: None,
//!         encryption: None,
//!         latency: Duration::from_millis(120),
//!         refresh: KeyRefresh::default(),
//!         address: "192.0.2.7".parse()?,
//!         induction_only: false,
//!         // A cryptographic generator in production.
//!         entropy: Box::new(|bytes| bytes.fill(7)),
//!     },
//!     now,
//! );
//! let mut datagram = BytesMut::new();
//! let (_, size) = caller.poll_datagram(now, now, &mut datagram).ok_or("nothing to send")?;
//! assert_eq!(size, datagram.len());
//! // The induction is addressed to socket 0 (4.3.1.1).
//! assert_eq!(Packet::read(datagram.freeze())?.destination, 0);
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

mod caller;
mod connection;
mod crypto;
mod error;
mod listener;
mod packet;
mod sequence;

pub use caller::{Caller, CallerConfig, CallerEvent, CallerStep};
pub use connection::{Connection, Stats};
pub use crypto::{Entropy, KeyRefresh};
pub use error::{CloseReason, Rejection, SrtError};
pub use listener::{Listener, ListenerConfig, ListenerEvent, Request, RequiredPassphrase};
pub use packet::{
    Control, Extension, Handshake, HandshakeKind, HeaderError, KeyMaterial, LossRange, Packet, PacketBody,
};

/// Maximum payload of a data packet: seven transport packets, which fit an Ethernet frame (7.2).
pub const MAX_PAYLOAD: usize = 1316;
