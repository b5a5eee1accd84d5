//! Platforms (rule sheets).

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Rule sheet to be added.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewPlatform {
    /// Name, unique among platforms.
    pub name: String,
    /// Name of a platform to copy the rules from.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub like: Option<String>,
    /// Rules by name, as text with units: `"video.ceiling": "6Mbit/s"`.
    #[serde(default)]
    pub rules: BTreeMap<String, String>,
}

/// Change of a rule sheet; omitted rules are kept. A changed built-in sheet becomes user-defined.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PlatformChange {
    /// Rules by name; an empty text removes a rule.
    pub rules: BTreeMap<String, String>,
}

/// Rule with its value.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PlatformRule {
    /// Name.
    pub rule: String,
    /// Value, as text with its unit.
    pub value: String,
}

/// Kind of rule.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RuleKind {
    /// Name.
    pub rule: String,
    /// Form of the value.
    pub wants: String,
}

/// Platform.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Platform {
    /// Name.
    pub name: String,
    /// Stable ID of a user-defined sheet; null for a built-in one.
    #[serde(default)]
    pub id: Option<String>,
    /// Revision of a user-defined sheet, incremented by each change, for `If-Match`.
    #[serde(default)]
    pub revision: Option<i64>,
    /// It is built in and unchanged.
    pub shipped: bool,
    /// Rules that are set, in display order.
    pub rules: Vec<PlatformRule>,
    /// Destinations on this platform.
    pub destinations: Vec<String>,
}
