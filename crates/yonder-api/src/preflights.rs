//! Preflight and rehearsal.

use crate::enums::Protocol;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use yonder_core::preflight::Level as CheckLevel;

/// One check.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Check {
    /// Feed, destination or uplink that was checked.
    pub subject: String,
    /// Stable word for the check.
    pub check: String,
    /// Result.
    pub level: CheckLevel,
    /// Why.
    pub reason: String,
    /// Next step, unless the check passed.
    pub next_step: Option<String>,
}

/// The checks before a start.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Preflight {
    /// Relay.
    pub relay: String,
    /// The worst of all.
    pub level: CheckLevel,
    /// When it was done.
    #[schema(format = DateTime)]
    pub at: String,
    /// All checks.
    pub checks: Vec<Check>,
}

/// How to start a relay.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Start {
    /// Start in spite of a failed preflight; that is recorded.
    #[serde(default)]
    pub force: bool,
}

/// A rehearsal to be held.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewRehearsal {
    /// Destination of the relay that is rehearsed; the first one where none is named.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<String>,
    /// Platform by whose rules it is judged; the destination's own where nothing is said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub platform: Option<String>,
    /// `rtmp` or `srt`; the destination's own where nothing is said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Protocol>)]
    pub over: Option<String>,
    /// Seconds, from 3 to 300; 15 where nothing is said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub for_s: Option<u32>,
}

/// Grade of a received stream.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Graded {
    /// Codec of the picture.
    pub video_codec: Option<String>,
    /// Profile.
    pub profile: Option<String>,
    /// Samples a line.
    pub width: Option<u32>,
    /// Lines.
    pub height: Option<u32>,
    /// Frames per second.
    pub fps: Option<f64>,
    /// Kilobits per second of the picture.
    pub video_kbps: u64,
    /// Kilobits in the fullest second.
    pub peak_kbps: u64,
    /// Longest time between keyframes.
    pub keyframe_ms: u64,
    /// Pictures come in another order than they are shown in.
    pub b_frames: bool,
    /// Codec of the sound.
    pub audio_codec: Option<String>,
    /// Hertz.
    pub audio_rate_hz: Option<u32>,
    /// Kilobits per second of the sound.
    pub audio_kbps: u64,
    /// Largest distance between picture and sound.
    pub skew_ms: u64,
    /// Longest time without anything coming.
    pub longest_stall_ms: u64,
    /// Pictures received.
    pub pictures: u64,
    /// Findings, in sentences.
    pub findings: Vec<String>,
}

/// A rehearsal that was held.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Rehearsal {
    /// Relay.
    pub relay: String,
    /// Destination that was rehearsed.
    pub destination: String,
    /// Protocol.
    pub over: String,
    /// Platform by whose rules it was judged.
    pub platform: Option<String>,
    /// The worst of all.
    pub level: CheckLevel,
    /// Why nothing came, if nothing did.
    pub trouble: Option<String>,
    /// Grade of the received stream.
    pub graded: Graded,
    /// Checks against the rules.
    pub checks: Vec<Check>,
}
