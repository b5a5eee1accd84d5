//! Finding cameras.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::secret::Secret;

/// Scope of a search for cameras.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewDiscovery {
    /// Hosts, separated by commas, with the port of their web service where that is not 80; left out, all networks of the
    /// service's machine are probed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
    /// User name for the cameras at the hosts given. A search in the networks has none: any device can answer it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// Password for the cameras.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<Secret>,
    /// Seconds to wait for answers: 1 to 30; 3 where left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub for_s: Option<u32>,
}

/// A camera that was found.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct FoundCamera {
    /// Name that it gives itself, else its host.
    pub name: String,
    /// Host that answered.
    pub host: String,
    /// Address of its device service.
    pub service: String,
    /// Model that it names.
    pub model: String,
    /// Firmware that it names.
    pub firmware: String,
    /// Seconds by which its clock is ahead of ours.
    pub clock_ahead_s: Option<i64>,
    /// Its lenses or channels.
    pub channels: Vec<FoundChannel>,
    /// Why it gave nothing, or not all.
    pub problem: Option<String>,
    /// It asks for a user name and password, or refused those given.
    #[serde(default)]
    pub needs_sign_in: bool,
}

/// One lens, or one channel of a recorder, with its streams from the largest to the smallest.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct FoundChannel {
    /// Name that a feed of it would get.
    pub name: String,
    /// Its streams.
    pub streams: Vec<FoundStream>,
}

/// A stream, as the camera describes it; nothing of this is measured.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct FoundStream {
    /// Name of the profile.
    pub profile: String,
    /// Codec.
    pub codec: String,
    /// Samples.
    pub width: u32,
    /// Samples.
    pub height: u32,
    /// Frames per second at most.
    pub fps: Option<f64>,
    /// Bit rate at most.
    pub kbps: Option<u32>,
    /// Seconds between keyframes.
    pub keyframe_interval_s: Option<f64>,
    /// Sound codec.
    pub sound: Option<String>,
    /// Address with the host that was asked.
    pub address: String,
    /// Address as the camera reported it, where that names another host.
    pub told: Option<String>,
}
