//! RTMP (Adobe's Real-Time Messaging Protocol specification 1.0): the publishing side for pushes, and the receiving side for
//! stand-in platforms and rehearsals.
//!
//! All of it is pure: no sockets, no clock. State machines take bytes and the time since an epoch of the driver's choice, as
//! [`yonder_protocol`] describes.
//!
//! # Example
//!
//! ```
//! use std::time::Duration;
//!
//! use bytes::BytesMut;
//! use yonder_address::StreamKey;
//! use yonder_protocol::{Core as _, deliver, take_transmit};
//! use yonder_rtmp::{Publisher, PublisherConfig, PublisherEvent, Receiver, ReceiverEvent};
//!
//! let server = "rtmp://ingest.example.net/live".parse()?;
//! let key = StreamKey::from_stored("planted-key".into());
//! let now = Duration::ZERO;
//! let mut publisher = Publisher::new(PublisherConfig { server, key, seed: 1 });
//! let mut receiver = Receiver::new(2);
//! publisher.start(now);
//! let mut is_accepted = false;
//! for _ in 0..10 {
//!     // In place of two sockets.
//!     deliver(&mut receiver, &mut BytesMut::from(&take_transmit(&mut publisher, now)[..]), now)?;
//!     while let Some(event) = receiver.poll_event() {
//!         match event {
//!             ReceiverEvent::Connect { .. } => receiver.accept_connect(),
//!             ReceiverEvent::Publish { .. } => receiver.accept_publish(),
//!             _ => {}
//!         }
//!     }
//!     deliver(&mut publisher, &mut BytesMut::from(&take_transmit(&mut receiver, now)[..]), now)?;
//!     while let Some(event) = publisher.poll_event() {
//!         is_accepted |= matches!(event, PublisherEvent::Accepted);
//!     }
//! }
//! assert!(is_accepted);
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

pub mod amf0;
pub mod chunk;
mod command;
mod handshake;
mod message;
mod publisher;
mod receiver;

pub use amf0::Value;
pub use command::{Command, CommandError};
pub use message::{Message, MessageKind};
pub use publisher::{MeasuredRates, Publisher, PublisherConfig, PublisherEvent, PushError, PushStep, Status};
pub use receiver::{Receiver, ReceiverError, ReceiverEvent, Violation};
