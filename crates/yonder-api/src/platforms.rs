//! Platforms: rule sheets.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A sheet to be added.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewPlatform {
    /// Name, unique among platforms.
    pub name: String,
    /// Name of a platform whose rules it begins with.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub like: Option<String>,
    /// Rules by name, each as a text with its unit: `"video.ceiling": "6Mbit/s"`.
    #[serde(default)]
    pub rules: BTreeMap<String, String>,
}

/// A change of a sheet; what is left out stays. A shipped sheet that is changed becomes one's own.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PlatformChange {
    /// Rules by name; an empty text takes a rule away.
    pub rules: BTreeMap<String, String>,
}

/// A rule with its value.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PlatformRule {
    /// Name.
    pub rule: String,
    /// Value with its unit.
    pub value: String,
}

/// A rule that a sheet can have.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RuleKind {
    /// Name.
    pub rule: String,
    /// Form of the value.
    pub wants: String,
}

/// A platform.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Platform {
    /// Name.
    pub name: String,
    /// Stable id of a sheet of one's own; null for one that ships.
    #[serde(default)]
    pub id: Option<String>,
    /// Number that each change of a sheet of one's own raises, for `If-Match`.
    #[serde(default)]
    pub revision: Option<i64>,
    /// It ships with the program, and nobody changed it.
    pub shipped: bool,
    /// Rules that are set, in order.
    pub rules: Vec<PlatformRule>,
    /// Destinations on it.
    pub destinations: Vec<String>,
}
