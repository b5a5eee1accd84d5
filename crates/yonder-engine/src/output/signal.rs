//! State of an output for its pushes.

use yonder_core::{Cause, Source};

/// State of the output for its pushes.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct OutputSignal {
    /// Source on the output.
    pub(crate) source: Source,
    /// Cause while it is not the feed; `None` if an operator requested the hold.
    pub(crate) cause: Option<Cause>,
}
