//! Sources of a feed: an RTSP connection to a camera, and the [`Inlet`] that turns a source's units into frames of the
//! feed.

mod block;
mod connect;
mod datagrams;
pub(crate) mod digest;
mod inlet;
mod session;

use yonder_core::Cause;
use yonder_rtsp::PullError;

pub(crate) use connect::{ConnectError, Dial};
pub(crate) use inlet::{Inlet, InletEvent};
pub(crate) use session::RtspSession;

/// Why a source ended.
#[derive(Debug)]
pub(crate) enum SourceEnd {
    /// The RTSP dialogue or session failed.
    Rtsp(PullError),
    /// Anything else.
    Cause(Cause),
}

impl From<Cause> for SourceEnd {
    fn from(cause: Cause) -> Self {
        Self::Cause(cause)
    }
}

impl From<PullError> for SourceEnd {
    fn from(error: PullError) -> Self {
        Self::Rtsp(error)
    }
}
