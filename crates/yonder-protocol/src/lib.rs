//! Common interface of the protocol state machines, which perform no I/O and read no clock.
//!
//! A driver owns a core and its sockets. Time is the duration since an epoch of the driver's choice. Call order:
//!
//! 1. For received data [`StreamCore::handle_input`] or [`DatagramCore::handle_datagram`]; at the time of
//!    [`Core::poll_timeout`] [`Core::handle_timeout`].
//! 2. Drain [`Core::poll_event`], and check [`Core::end`].
//! 3. Drain [`StreamCore::poll_transmit`] or [`DatagramCore::poll_datagram`].
//!
//! The feature `simulation` adds a network that connects two cores in simulated time.

#![forbid(unsafe_code)]
#![deny(clippy::disallowed_methods, reason = "no clock is read and no thread sleeps in this crate")]
#![deny(
    clippy::as_conversions,
    clippy::expect_used,
    clippy::indexing_slicing,
    clippy::panic,
    clippy::unwrap_used
)]
#![cfg_attr(
    test,
    allow(clippy::indexing_slicing, clippy::unwrap_used, reason = "a test ends where something fails")
)]

mod outbox;
#[cfg(feature = "simulation")]
pub mod simulation;

use std::fmt;
use std::time::Duration;

use bytes::{Buf as _, Bytes, BytesMut};

pub use outbox::Outbox;

/// Side of a dialogue.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Side {
    /// This side: closed in order, timed out, or received invalid data.
    Local,
    /// The peer: refused, closed or redirected.
    Peer,
}

/// Final end of a dialogue.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct End<W> {
    /// Side that ended it.
    pub by: Side,
    /// Reason.
    pub why: W,
}

impl<W> End<W> {
    /// Creates an end by this side.
    pub fn local(why: W) -> Self {
        Self { by: Side::Local, why }
    }

    /// Creates an end by the peer.
    pub fn peer(why: W) -> Self {
        Self { by: Side::Peer, why }
    }
}

impl<W: fmt::Display> fmt::Display for End<W> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.why.fmt(f)
    }
}

/// Protocol state machine without I/O.
pub trait Core {
    /// Event for the owner.
    type Event;
    /// Reason for the end of a dialogue.
    type Why;

    /// Handles what is due at `now`. Early and repeated calls have no effect.
    fn handle_timeout(&mut self, now: Duration);

    /// Returns the earliest time at which [`Self::handle_timeout`] or transmission is due.
    fn poll_timeout(&self) -> Option<Duration>;

    /// Returns the next event, oldest first.
    fn poll_event(&mut self) -> Option<Self::Event>;

    /// Returns the end of the dialogue, once it has ended. Input is discarded from then on, and the end does not
    /// change. After an orderly close there may still be data to transmit.
    fn end(&self) -> Option<&End<Self::Why>>;
}

/// Core over a byte stream.
pub trait StreamCore: Core {
    /// Handles the bytes that were received but not consumed, and returns how many it has consumed. The rest must be
    /// passed again, followed by new bytes.
    fn handle_input(&mut self, input: &[u8], now: Duration) -> usize;

    /// Moves the bytes to be sent at `now` to `out`, including those due up to `horizon`. Returns their number; `None`
    /// if there is nothing to send.
    fn poll_transmit(&mut self, now: Duration, horizon: Duration, out: &mut Outbox) -> Option<usize>;
}

/// Core over datagrams.
pub trait DatagramCore: Core {
    /// Source or destination of a datagram, as required by the core.
    type Path;

    /// Handles a datagram. One that does not belong to the dialogue is discarded, since any host can send one.
    fn handle_datagram(&mut self, path: Self::Path, datagram: Bytes, now: Duration);

    /// Appends the next datagram to be sent at `now` to `out`, including data that is due up to `horizon`. Returns its
    /// path and size; `None` if there is nothing to send.
    fn poll_datagram(
        &mut self,
        now: Duration,
        horizon: Duration,
        out: &mut BytesMut,
    ) -> Option<(Self::Path, usize)>;
}

/// Passes the bytes in `buffer` to a core, and removes those that it consumed.
///
/// # Errors
/// The reason for the end of the dialogue, once it has ended.
pub fn deliver<C: StreamCore>(core: &mut C, buffer: &mut BytesMut, now: Duration) -> Result<(), C::Why>
where
    C::Why: Clone,
{
    deliver_discarding(core, buffer, now);
    core.end().map_or(Ok(()), |end| Err(end.why.clone()))
}

/// As [`deliver`], ignoring the end.
fn deliver_discarding<C: StreamCore>(core: &mut C, buffer: &mut BytesMut, now: Duration) {
    let consumed = core.handle_input(buffer, now);
    buffer.advance(consumed.min(buffer.len()));
}

/// Returns all bytes that a core has to send at `now`.
pub fn take_transmit<C: StreamCore>(core: &mut C, now: Duration) -> Vec<u8> {
    let mut out = Outbox::default();
    while core.poll_transmit(now, now, &mut out).is_some() {}
    out.take_all()
}
