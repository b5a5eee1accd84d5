//! Sources of a feed: the RTSP connection to a camera, and the [`Inlet`] that converts a source's units to frames of
//! the feed.

mod connect;
mod datagrams;
mod digest;
mod inlet;
mod publisher;
mod session;

use yonder_core::{Cause, CauseCode};
use yonder_rtsp::PullError;

use crate::driver::DriveEnd;

pub(crate) use connect::{ConnectError, Dial};
pub(crate) use digest::DigestHosts;
pub(crate) use inlet::{Inlet, InletEvent};
pub(crate) use publisher::PublisherSession;
pub(crate) use session::RtspSession;

/// Reason for the end of a source.
#[derive(Debug)]
pub(crate) enum SourceEnd {
    /// The RTSP dialogue or session failed.
    Rtsp(PullError),
    /// Any other cause.
    Cause(Cause),
}

impl From<Cause> for SourceEnd {
    fn from(cause: Cause) -> Self {
        Self::Cause(cause)
    }
}

impl From<DriveEnd<PullError>> for SourceEnd {
    fn from(end: DriveEnd<PullError>) -> Self {
        match end {
            DriveEnd::Protocol(end) => Self::Rtsp(end.why),
            DriveEnd::Eof => {
                Self::Cause(Cause::new(CauseCode::FeedClosedByCamera, "The camera closed the connection."))
            }
            DriveEnd::Io(error) => Self::Cause(session::connection_lost(&error)),
            DriveEnd::Owner(cause) => Self::Cause(cause),
        }
    }
}
