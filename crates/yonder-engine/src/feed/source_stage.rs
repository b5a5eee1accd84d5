//! State of a feed's source.

use std::time::Duration;

use crate::children::Child;
use crate::ids::Attempt;
use crate::source::{Dial, PublisherSession, RtspSession};

/// Timeout of an orderly end.
pub(super) const CLOSE_TIMEOUT: Duration = Duration::from_millis(500);

/// State of the source.
#[derive(Debug)]
pub(super) enum SourceStage {
    /// No connection.
    Idle,
    /// A child task connects.
    Connecting(Attempt, #[expect(dead_code, reason = "aborts the child when it is dropped")] Child),
    /// The RTSP session is active.
    Running(Box<Dial>, Box<RtspSession>),
    /// An encoder publishes.
    Publishing(Box<PublisherSession>),
    /// The connection has failed, and a child task determines probable causes.
    Diagnosing(Attempt, #[expect(dead_code, reason = "aborts the child when it is dropped")] Child),
}
