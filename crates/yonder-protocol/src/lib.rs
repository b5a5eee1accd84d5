//! Common interface of the protocol state machines, which perform no I/O and read no clock.
//!
//! A driver owns a core and its sockets. Time is the duration since an epoch of the driver's choice. Call order:
//!
//! 1. For every delivery [`StreamCore::handle_input`] or [`DatagramCore::handle_datagram`]; when the time of [`Core::poll_timeout`]
//!    has come, [`Core::handle_timeout`].
//! 2. Drain [`Core::poll_event`], and check [`Core::end`].
//! 3. Drain [`StreamCore::poll_transmit`] or [`DatagramCore::poll_datagram`].
//!
//! The feature `simulation` adds a network that connects two cores in simulated time.

#![forbid(unsafe_code)]
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
    /// This side: it has closed in order, has given up waiting, or cannot use what the peer sends.
    Local,
    /// The other side: it has refused, closed or redirected.
    Peer,
}

/// End of a dialogue, which is final.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct End<W> {
    /// Side that ended it.
    pub by: Side,
    /// Reason.
    pub why: W,
}

impl<W> End<W> {
    /// An end by this side.
    pub fn local(why: W) -> Self {
        Self { by: Side::Local, why }
    }

    /// An end by the other side.
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
    /// Report to the owner.
    type Event;
    /// Why a dialogue ends.
    type Why;

    /// Does what is due at `now`. Early and repeated calls do nothing.
    fn handle_timeout(&mut self, now: Duration);

    /// Returns the earliest time at which [`Self::handle_timeout`] or transmission has something to do.
    fn poll_timeout(&self) -> Option<Duration>;

    /// Returns the next event, oldest first.
    fn poll_event(&mut self) -> Option<Self::Event>;

    /// Returns the end of the dialogue, once it has ended. Input is discarded from then on, and the end does not change. After an
    /// orderly close there may still be something to transmit.
    fn end(&self) -> Option<&End<Self::Why>>;
}

/// Core over a reliable stream of bytes.
pub trait StreamCore: Core {
    /// Handles the bytes that were received and not consumed yet, and returns how many of them, from the first, it has consumed. The
    /// others are to be given again, together with those that follow.
    fn handle_input(&mut self, input: &[u8], now: Duration) -> usize;

    /// Moves what is to be sent at `now` to `out`, including what is due up to `horizon`. Returns its length in bytes; `None` when
    /// there is nothing to send.
    fn poll_transmit(&mut self, now: Duration, horizon: Duration, out: &mut Outbox) -> Option<usize>;
}

/// Core over datagrams.
pub trait DatagramCore: Core {
    /// Source or destination of a datagram, as far as the core has to know it.
    type Path;

    /// Handles a datagram. One that does not belong to the dialogue is discarded: anybody can send one.
    fn handle_datagram(&mut self, path: Self::Path, datagram: Bytes, now: Duration);

    /// Appends the next datagram that is to be sent at `now` to `out`, including data that is due up to `horizon`. Returns its path
    /// and its length in bytes; `None` when there is nothing to send.
    fn poll_datagram(
        &mut self,
        now: Duration,
        horizon: Duration,
        out: &mut BytesMut,
    ) -> Option<(Self::Path, usize)>;
}

/// Hands the bytes in `buffer` to a core, and removes those that it consumed.
///
/// # Errors
/// Why the dialogue has ended, once it has.
pub fn deliver<C: StreamCore>(core: &mut C, buffer: &mut BytesMut, now: Duration) -> Result<(), C::Why>
where
    C::Why: Clone,
{
    deliver_discarding(core, buffer, now);
    core.end().map_or(Ok(()), |end| Err(end.why.clone()))
}

/// As [`deliver`], without regard to the end.
fn deliver_discarding<C: StreamCore>(core: &mut C, buffer: &mut BytesMut, now: Duration) {
    let consumed = core.handle_input(buffer, now);
    buffer.advance(consumed.min(buffer.len()));
}

/// Returns everything that a core has to send at `now`.
pub fn take_transmit<C: StreamCore>(core: &mut C, now: Duration) -> Vec<u8> {
    let mut out = Outbox::default();
    while core.poll_transmit(now, now, &mut out).is_some() {}
    out.take_all()
}
