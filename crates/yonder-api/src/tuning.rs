//! Tuning: encoder settings of a feed's camera.

use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use yonder_core::tuning::{
    CameraOptions, EncoderFormat, EncoderSettings, SettingChange, TuningReason, VerifiedSetting,
};

/// Camera whose settings are requested.
#[derive(Debug, Clone, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct TuningRequest {
    /// ONVIF device service, in place of that of the feed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub device: Option<String>,
}

/// Encoder settings of a feed's camera: what it has, what it offers, and what suits the relays best.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Tuning {
    /// Feed.
    pub feed: String,
    /// Address of the device service.
    pub device: String,
    /// Model.
    pub model: String,
    /// Firmware version.
    pub firmware: String,
    /// Media profile of the feed's stream.
    pub profile: String,
    /// Configured format.
    pub configured: EncoderFormat,
    /// Options of the camera.
    pub offered: CameraOptions,
    /// Settings that suit the destinations of the feed's relays best; empty if nothing is to be changed.
    pub proposed: EncoderSettings,
    /// Changes that the proposal makes.
    pub changes: Vec<SettingChange>,
    /// Reasons for them.
    pub reasons: Vec<TuningReason>,
    /// Settings that a destination needs and the camera does not offer.
    pub missing: Vec<TuningReason>,
    /// Other profiles with the same video encoder: a change is one of their streams, too.
    pub shared_with: Vec<String>,
    /// Other profiles with the same audio encoder.
    pub audio_shared_with: Vec<String>,
    /// Running relays of the feed: their pictures may pause for some seconds at a change.
    pub on_air: Vec<String>,
    /// Last change, if there is one that can be undone.
    pub undo: Option<TuningUndo>,
}

/// Change that can be undone.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct TuningUndo {
    /// Time of the change.
    #[schema(format = DateTime)]
    pub at: String,
    /// Format before it.
    pub before: EncoderFormat,
}

/// Change of the encoder settings of a feed's camera.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewTuning {
    /// ONVIF device service, in place of that of the feed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub device: Option<String>,
    /// New settings; the proposal if empty.
    #[serde(default)]
    pub settings: EncoderSettings,
    /// Restore the settings before the last change.
    #[serde(default)]
    pub undo: bool,
    /// Change an encoder that other profiles use as well.
    #[serde(default)]
    pub shared: bool,
}

/// Result of a change.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct TuningResult {
    /// Feed.
    pub feed: String,
    /// Changed settings, with what the camera reports and sends since.
    pub settings: Vec<VerifiedSetting>,
    /// The stream has all settings that the camera reports.
    pub verified: bool,
    /// Profiles that the camera has changed in place of the requested one.
    pub elsewhere: Vec<TunedElsewhere>,
    /// Result in one or two sentences.
    pub message: String,
    /// Next step, unless everything was applied.
    pub next_step: Option<String>,
}

/// Profile that a camera has changed in place of the requested one.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TunedElsewhere {
    /// Name of the profile.
    pub profile: String,
    /// Its former values were restored.
    pub restored: bool,
}
