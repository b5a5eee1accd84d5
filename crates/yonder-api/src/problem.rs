//! Problems (RFC 9457): what was wrong, under a stable code, with a next step.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::book::BookFault;
use crate::preflights::Check;

/// A problem document.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// Always `about:blank`: the code tells the kind.
    #[serde(rename = "type")]
    pub kind: String,
    /// The status in words.
    pub title: String,
    /// HTTP status.
    pub status: u16,
    /// One sentence about this case.
    pub detail: String,
    /// Stable code.
    pub code: String,
    /// Next step.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hint: Option<String>,
    /// The field of the request that was refused, where it is one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub field: Option<String>,
    /// The checks that keep a relay from starting.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub checks: Vec<Check>,
    /// The records of a site book that are refused.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub faults: Vec<BookFault>,
}
