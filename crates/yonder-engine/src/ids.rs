//! IDs within a feed's actor.

/// ID of an output of a relay within its feed's actor.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct OutputId(pub(crate) u64);

/// ID of a connection attempt within its feed's actor: results of older attempts are ignored.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) struct Attempt(pub(crate) u64);

/// ID of a push within its feed's actor.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct PushId(pub(crate) u64);
