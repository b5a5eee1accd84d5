//! Problem documents (RFC 9457), with a stable code and the next step.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::book::BookFault;
use crate::preflights::Check;

/// Problem document.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// Always `about:blank`: the code identifies the problem.
    #[serde(rename = "type")]
    pub kind: String,
    /// Name of the status.
    pub title: String,
    /// HTTP status.
    pub status: u16,
    /// Message about this occurrence.
    pub detail: String,
    /// Stable code.
    pub code: String,
    /// Next step.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hint: Option<String>,
    /// Refused field of the request, if it is one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub field: Option<String>,
    /// Checks that prevent the start of a relay.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub checks: Vec<Check>,
    /// Refused records of a site book.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub faults: Vec<BookFault>,
}
