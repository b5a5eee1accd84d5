//! Preflight and rehearsal.

use crate::enums::Protocol;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use yonder_core::preflight::CheckStatus;
use yonder_core::rendition::Adapt;

/// Check of a preflight.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Check {
    /// Feed, destination or uplink.
    pub subject: String,
    /// Stable name of the check.
    pub check: String,
    /// Result.
    pub level: CheckStatus,
    /// Reason.
    pub reason: String,
    /// Next step, unless the check passed.
    pub next_step: Option<String>,
    /// Adaptation of the relay that would solve it: the value for `adapt`.
    #[serde(default)]
    pub adapt: Option<Adapt>,
    /// A change of the camera's encoder settings may solve it: `POST /feeds/{name}/tuning`.
    #[serde(default)]
    pub tune: bool,
}

/// Result of a preflight.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Preflight {
    /// Relay.
    pub relay: String,
    /// Worst result.
    pub level: CheckStatus,
    /// Time.
    #[schema(format = DateTime)]
    pub at: String,
    /// Checks.
    pub checks: Vec<Check>,
}

/// Parameters of a start.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Start {
    /// Start in spite of a failed preflight; this is audited.
    #[serde(default)]
    pub force: bool,
}

/// Rehearsal to be performed.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewRehearsal {
    /// Destination to rehearse; the first one by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<String>,
    /// Platform whose rules apply; by default the destination's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub platform: Option<String>,
    /// `rtmp` or `srt`; by default the destination's protocol.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Protocol>)]
    pub over: Option<String>,
    /// Duration in seconds, from 3 to 300; 15 by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub for_s: Option<u32>,
}

/// Grade of a received stream.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Graded {
    /// Video codec.
    pub video_codec: Option<String>,
    /// Profile.
    pub profile: Option<String>,
    /// Width in samples.
    pub width: Option<u32>,
    /// Height in lines.
    pub height: Option<u32>,
    /// Frames per second.
    pub fps: Option<f64>,
    /// Video bit rate, in kilobits per second.
    pub video_kbps: u64,
    /// Maximum over one second, in kilobits.
    pub peak_kbps: u64,
    /// Longest keyframe interval, in milliseconds.
    pub keyframe_ms: u64,
    /// Frames are sent in another order than they are shown in.
    pub b_frames: bool,
    /// Audio codec.
    pub audio_codec: Option<String>,
    /// Sampling rate in hertz.
    pub audio_rate_hz: Option<u32>,
    /// Audio bit rate, in kilobits per second.
    pub audio_kbps: u64,
    /// Largest offset between video and audio, in milliseconds.
    pub skew_ms: u64,
    /// Longest time without data, in milliseconds.
    pub longest_stall_ms: u64,
    /// Video frames received.
    pub pictures: u64,
    /// Findings, as sentences.
    pub findings: Vec<String>,
}

/// Result of a rehearsal.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Rehearsal {
    /// Relay.
    pub relay: String,
    /// Destination.
    pub destination: String,
    /// Protocol.
    pub over: String,
    /// Platform whose rules were applied.
    pub platform: Option<String>,
    /// Worst result.
    pub level: CheckStatus,
    /// Reason for not receiving a stream.
    pub trouble: Option<String>,
    /// Grade of the received stream.
    pub graded: Graded,
    /// Checks against the rules.
    pub checks: Vec<Check>,
}
