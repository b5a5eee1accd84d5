//! Supervision: what to do when, as plain state machines. Events go in with the time, decisions come out; the
//! engine only carries them out.

mod backoff;
mod feed;
mod hold;
mod push;

use std::time::Duration;

use crate::cause::CauseCode;

pub use feed::{FeedMachine, FeedState, KNOCK_EVERY};
pub use hold::{HoldMachine, Showing};
pub use push::{PushMachine, PushState, ServerRole, Source};

/// What the owner of a machine is to do.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Decision {
    /// Nothing, until an event comes.
    Rest,
    /// Dial now.
    Dial,
    /// Nothing before this time; then ask again.
    WaitUntil(Duration),
}

/// What a failure calls for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Verdict {
    /// Dial again: it may pass by itself.
    Retry,
    /// Dial again, but after so many in a row a person is needed.
    BlockAfter(u32),
    /// A person is needed at once: dialling helps nobody.
    Block,
}

/// What the failure `code` calls for.
///
/// A refused password is tried twice, since some cameras refuse everybody while they start, but never more: a
/// third could lock the account. A missing stream gets longer for the same reason.
#[must_use]
pub fn verdict(code: CauseCode) -> Verdict {
    match code {
        CauseCode::FeedWrongPassword | CauseCode::FeedForbidden => Verdict::BlockAfter(2),
        CauseCode::FeedNoSuchStream | CauseCode::FeedNoVideo => Verdict::BlockAfter(3),
        CauseCode::FeedCodecUnsupported
        | CauseCode::FeedTlsUntrusted
        | CauseCode::FeedTransportRefused
        | CauseCode::PushKeyRefused
        | CauseCode::PushPassphraseRefused
        | CauseCode::PushCodecRefused
        | CauseCode::PushTlsUntrusted => Verdict::Block,
        CauseCode::PushAppRefused => Verdict::BlockAfter(3),
        _ => Verdict::Retry,
    }
}
