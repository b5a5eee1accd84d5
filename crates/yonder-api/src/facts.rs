//! Causes, and facts that are measured or negotiated.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use yonder_core::{DialStep as DialStepName, FaultDomain};

/// Cause of a state that is not the desired one.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct CauseFacts {
    /// Stable code.
    pub code: String,
    /// Fault domain.
    pub side: FaultDomain,
    /// Message, in one sentence.
    pub message: String,
    /// Next step.
    pub hint: String,
    /// Probable reasons, the likeliest first; often empty.
    #[serde(default)]
    pub probable_causes: Vec<String>,
}

/// Completed step of a dial.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DialStep {
    /// Step.
    pub name: DialStepName,
    /// Milliseconds since the dial began.
    pub after_ms: u64,
}

/// Statistics of an SRT connection.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LinkFacts {
    /// Negotiated latency.
    pub latency_ms: u64,
    /// Round-trip time.
    pub rtt_ms: u64,
    /// Packets sent in this connection, without retransmissions.
    pub sent: u64,
    /// Packets reported as lost.
    pub lost: u64,
    /// Retransmitted packets.
    pub retransmitted: u64,
    /// Packets dropped because they were too late.
    pub dropped: u64,
    /// Link capacity estimated by the platform, once known.
    pub estimated_bandwidth_kbps: Option<u64>,
    /// The connection is encrypted.
    pub encrypted: bool,
}
