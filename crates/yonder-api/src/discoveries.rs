//! Camera discovery.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::secret::Secret;

/// Scope of a discovery.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewDiscovery {
    /// Hosts, comma-separated, with the port of their web service unless it is 80; if omitted, all networks of the
    /// service's machine are probed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
    /// User name for the cameras at the given hosts. Not used for the networks, where any device can answer.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// Password for the cameras.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<Secret>,
    /// Time to wait for responses, in seconds: 1 to 30; 3 by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub for_s: Option<u32>,
}

/// Camera found by a discovery.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct FoundCamera {
    /// Name from the device, or its host.
    pub name: String,
    /// Host that answered.
    pub host: String,
    /// Address of its device service.
    pub service: String,
    /// Model.
    pub model: String,
    /// Firmware version.
    pub firmware: String,
    /// Seconds by which its clock is ahead of ours.
    pub clock_ahead_s: Option<i64>,
    /// Lenses or channels.
    pub channels: Vec<FoundChannel>,
    /// Reason for missing or incomplete information.
    pub problem: Option<String>,
    /// Authentication is required, or has failed.
    #[serde(default)]
    pub needs_sign_in: bool,
}

/// Lens, or channel of a recorder, with its streams from the largest to the smallest.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct FoundChannel {
    /// Name for a feed of it.
    pub name: String,
    /// Streams.
    pub streams: Vec<FoundStream>,
}

/// Stream as described by the camera; nothing is measured.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct FoundStream {
    /// Name of the profile.
    pub profile: String,
    /// Codec.
    pub codec: String,
    /// Width in samples.
    pub width: u32,
    /// Height in samples.
    pub height: u32,
    /// Maximum frame rate.
    pub fps: Option<f64>,
    /// Maximum bit rate, in kilobits per second.
    pub kbps: Option<u32>,
    /// Keyframe interval in seconds.
    pub keyframe_interval_s: Option<f64>,
    /// Audio codec.
    pub audio: Option<String>,
    /// Address, with the host of the request.
    pub address: String,
    /// Address as reported by the camera, if its host differs.
    pub reported_address: Option<String>,
}
