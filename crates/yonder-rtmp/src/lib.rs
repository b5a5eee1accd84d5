//! RTMP (Adobe's Real-Time Messaging Protocol specification 1.0): the publishing side for pushes, and the receiving side for
//! stand-in platforms and rehearsals.
//!
//! All of it is pure: no sockets, no clock. State machines take bytes and the time since an epoch of the driver's choice, as
//! [`yonder_protocol`] describes.

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
