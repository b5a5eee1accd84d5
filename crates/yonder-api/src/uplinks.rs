//! Uplinks, and the budget of what they carry.

use crate::enums::{BudgetVerdict, Fit, Protocol};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// An uplink to be added.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewUplink {
    /// Name, unique among uplinks.
    pub name: String,
    /// Site; left out for the machine that the service runs on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub site: Option<String>,
    /// Rate upwards with its unit, like `20Mbit/s`.
    pub rate: String,
    /// Monthly allowance with its unit, like `500GB`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub allowance: Option<String>,
    /// Share that stays free, in hundredths; 25 where nothing is said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub headroom_percent: Option<u8>,
    /// Used only while the main one cannot be.
    #[serde(default)]
    pub backup: bool,
    /// Address of the service's machine by which pushes are bound to it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub source: Option<String>,
    /// Network interface by which they are, instead.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub interface: Option<String>,
}

/// A change of an uplink; what is left out stays.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct UplinkChange {
    /// New name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// New site; empty for the machine that the service runs on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub site: Option<String>,
    /// New rate with its unit.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rate: Option<String>,
    /// New allowance with its unit; empty removes it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub allowance: Option<String>,
    /// New share that stays free.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub headroom_percent: Option<u8>,
    /// Used only while the main one cannot be.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub backup: Option<bool>,
    /// New address by which pushes are bound to it; empty removes it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub source: Option<String>,
    /// New network interface; empty removes it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub interface: Option<String>,
}

/// An uplink.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Uplink {
    /// Name.
    pub name: String,
    /// Stable id: it stays when the name changes.
    #[serde(default)]
    pub id: String,
    /// Number that each change raises. A change with `If-Match: "<revision>"` is refused (412) once it is another one.
    #[serde(default)]
    pub revision: i64,
    /// Site; null for the machine that the service runs on.
    pub site: Option<String>,
    /// Rate upwards in kilobits (1000 bits) per second.
    pub up_kbps: u64,
    /// Share that stays free, in hundredths.
    pub headroom_percent: u64,
    /// Bytes that a month may have.
    pub allowance_bytes: Option<u64>,
    /// Used only while the main one cannot be.
    pub backup: bool,
    /// Address by which pushes are bound to it.
    #[serde(default)]
    pub source: Option<String>,
    /// Network interface by which they are, instead.
    #[serde(default)]
    pub interface: Option<String>,
    /// Bytes sent this month.
    pub sent_bytes: u64,
}

/// Hypothetical changes.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct WhatIf {
    /// So many more pushes of the largest feed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub more: Option<u32>,
    /// Protocol of those: `rtmp`, `rtmps` or `srt`; `rtmp` where nothing is said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Protocol>)]
    pub over: Option<String>,
    /// Media rate of every feed, with its unit.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rate: Option<String>,
    /// Hours a day.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hours: Option<f64>,
    /// Draw up what fits to so many destinations.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub destinations: Option<u32>,
    /// Everything that is kept, and not only what is wanted on.
    #[serde(default)]
    pub all: bool,
}

/// Load on an uplink.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Load {
    /// Description.
    pub what: String,
    /// Kilobits per second on the uplink; null where nothing was measured yet.
    pub kbps: Option<u64>,
}

/// One uplink's budget.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct UplinkBudget {
    /// The uplink.
    pub uplink: Uplink,
    /// Loads.
    pub loads: Vec<Load>,
    /// Their sum.
    pub sum_kbps: u64,
    /// Usable rate, without the headroom.
    pub usable_kbps: u64,
    /// `fits`, `tight` or `over`.
    #[schema(value_type = BudgetVerdict)]
    pub verdict: String,
    /// Bytes that the month will have come to.
    pub projected_bytes: u64,
    /// That, in hundredths of the allowance.
    pub projected_percent: Option<u64>,
    /// `fits`, `tight` or `over`, where there is an allowance.
    #[schema(value_type = Option<BudgetVerdict>)]
    pub month_verdict: Option<String>,
}

/// One size at one frame rate.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FitRow {
    /// Samples a line.
    pub width: u32,
    /// Lines.
    pub lines: u32,
    /// Frames per second.
    pub fps: u32,
    /// Media rate at which it looks plain.
    pub plain_kbps: u64,
    /// Media rate at which it looks good.
    pub good_kbps: u64,
    /// `good`, `plain` or `no`.
    #[schema(value_type = Fit)]
    pub fit: String,
}

/// Renditions that fit on an uplink.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct WhatFits {
    /// Name of the uplink.
    pub uplink: String,
    /// Destinations.
    pub destinations: u32,
    /// Media rate that each can have.
    pub each_kbps: u64,
    /// Sizes.
    pub rows: Vec<FitRow>,
}

/// The budget of everything.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Budget {
    /// Uplinks in order.
    pub uplinks: Vec<UplinkBudget>,
    /// Loads on an uplink that is not described.
    pub undescribed: Vec<Load>,
    /// The month, like `2026-11`.
    pub month: String,
    /// Days of it that are left, begun ones included.
    pub days_left: u32,
    /// Renditions that fit, if requested.
    pub fits: Vec<WhatFits>,
}
