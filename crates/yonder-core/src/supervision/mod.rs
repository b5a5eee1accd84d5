//! Supervision of feeds, pushes and slates as pure state machines: input are events with times, output are decisions.

mod backoff;
mod downtime;
mod feed;
mod hold;
mod phase;
mod policy;
mod push;
mod ration;
mod rendition;
mod schedule;

use std::time::Duration;

pub use feed::{FeedMachine, FeedState};
pub use hold::{HoldDecision, HoldMachine};
pub use phase::{DesiredState, FeedPhase, Phase, PushPhase};
pub use policy::{FailureClass, History, RetryPolicy};
pub use push::{PushMachine, PushState, ServerRole, Source};
pub use rendition::{RenditionMachine, RenditionState};

/// Next step for the owner of a machine.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Decision {
    /// Wait for an event.
    Idle,
    /// Connect now.
    Dial,
    /// Wait for an event or for this time, then call `decide` again.
    WaitUntil(Duration),
}
