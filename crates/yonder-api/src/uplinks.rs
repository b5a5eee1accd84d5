//! Uplinks and their budget.

use crate::enums::{BudgetVerdict, Fit, Protocol};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Uplink to be added.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewUplink {
    /// Name, unique among uplinks.
    pub name: String,
    /// Site; omitted for the service's machine.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub site: Option<String>,
    /// Upstream rate with its unit, such as `20Mbit/s`.
    pub rate: String,
    /// Monthly allowance with its unit, such as `500GB`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub allowance: Option<String>,
    /// Headroom in percent; 25 by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub headroom_percent: Option<u8>,
    /// Used only while the main uplink is unavailable.
    #[serde(default)]
    pub backup: bool,
    /// Local address that binds pushes to it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub source: Option<String>,
    /// Network interface that binds pushes to it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub interface: Option<String>,
}

/// Change of an uplink; omitted fields are kept.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct UplinkChange {
    /// New name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// New site; empty for the service's machine.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub site: Option<String>,
    /// New rate with its unit.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rate: Option<String>,
    /// New allowance with its unit; empty removes it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub allowance: Option<String>,
    /// New headroom in percent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub headroom_percent: Option<u8>,
    /// Used only while the main uplink is unavailable.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub backup: Option<bool>,
    /// New local address that binds pushes to it; empty removes it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub source: Option<String>,
    /// New network interface; empty removes it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub interface: Option<String>,
}

/// Uplink.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Uplink {
    /// Name.
    pub name: String,
    /// Stable ID, independent of the name.
    #[serde(default)]
    pub id: String,
    /// Revision, incremented by each change. A change with `If-Match: "<revision>"` of another revision is refused (412).
    #[serde(default)]
    pub revision: i64,
    /// Site; null for the service's machine.
    pub site: Option<String>,
    /// Upstream rate in kilobits (1000 bits) per second.
    pub up_kbps: u64,
    /// Headroom in percent.
    pub headroom_percent: u64,
    /// Monthly allowance in bytes.
    pub allowance_bytes: Option<u64>,
    /// Used only while the main uplink is unavailable.
    pub backup: bool,
    /// Local address that binds pushes to it.
    #[serde(default)]
    pub source: Option<String>,
    /// Network interface that binds pushes to it.
    #[serde(default)]
    pub interface: Option<String>,
    /// Bytes sent this month.
    pub sent_bytes: u64,
}

/// Hypothetical changes.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct WhatIf {
    /// Number of additional pushes of the largest feed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub more: Option<u32>,
    /// Protocol of those: `rtmp`, `rtmps` or `srt`; `rtmp` by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Protocol>)]
    pub over: Option<String>,
    /// Media bit rate of every feed, with its unit.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rate: Option<String>,
    /// Hours per day.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hours: Option<f64>,
    /// Number of destinations for the chart of frame sizes that fit.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub destinations: Option<u32>,
    /// Include relays that are off.
    #[serde(default)]
    pub all: bool,
}

/// Load on an uplink.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Load {
    /// Description.
    pub what: String,
    /// Kilobits per second on the uplink; null until measured.
    pub kbps: Option<u64>,
}

/// Budget of one uplink.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct UplinkBudget {
    /// Uplink.
    pub uplink: Uplink,
    /// Loads.
    pub loads: Vec<Load>,
    /// Sum of the loads.
    pub sum_kbps: u64,
    /// Capacity without the headroom.
    pub usable_kbps: u64,
    /// `fits`, `tight` or `over`.
    #[schema(value_type = BudgetVerdict)]
    pub verdict: String,
    /// Projected volume of the month, in bytes.
    pub projected_bytes: u64,
    /// Projected volume in percent of the allowance.
    pub projected_percent: Option<u64>,
    /// `fits`, `tight` or `over`, if there is an allowance.
    #[schema(value_type = Option<BudgetVerdict>)]
    pub month_verdict: Option<String>,
}

/// Frame size at a frame rate.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FitRow {
    /// Width in samples.
    pub width: u32,
    /// Height in lines.
    pub lines: u32,
    /// Frames per second.
    pub fps: u32,
    /// Media bit rate for acceptable quality.
    pub plain_kbps: u64,
    /// Media bit rate for good quality.
    pub good_kbps: u64,
    /// `good`, `plain` or `no`.
    #[schema(value_type = Fit)]
    pub fit: String,
}

/// Frame sizes that fit an uplink.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct WhatFits {
    /// Name of the uplink.
    pub uplink: String,
    /// Number of destinations.
    pub destinations: u32,
    /// Media bit rate of each.
    pub each_kbps: u64,
    /// Frame sizes.
    pub rows: Vec<FitRow>,
}

/// Budget of all uplinks.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Budget {
    /// Uplinks, in order.
    pub uplinks: Vec<UplinkBudget>,
    /// Loads on uplinks that are not described.
    pub undescribed: Vec<Load>,
    /// The month, like `2026-11`.
    pub month: String,
    /// Remaining days of the month, including the current one.
    pub days_left: u32,
    /// Frame sizes that fit, if requested.
    pub fits: Vec<WhatFits>,
}
