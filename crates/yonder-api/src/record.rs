//! Logbook, report, rates and audit log.

use crate::enums::{Origin, ReportSubject};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use yonder_core::{FaultDomain, record};

/// Filter for lines of the logbook.
#[derive(Debug, Clone, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct LogbookRequest {
    /// Only lines with a higher number.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub after: Option<i64>,
    /// Only lines with a lower number.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub before: Option<i64>,
    /// Only lines about this kind: `feed`, `push`, `relay`, `destination` and so on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kind: Option<String>,
    /// Only lines with a cause in this fault domain: `camera`, `network`, `platform`, `ours` or `planned`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[param(value_type = Option<FaultDomain>)]
    pub side: Option<String>,
    /// Only actions of people (true), or only other lines (false).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub changes: Option<bool>,
    /// Only lines from this time on, in RFC 3339.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// Only lines about the record with this name or ID, also under former names, and about pushes of it or to it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub about: Option<String>,
    /// Maximum number of lines, 200 by default, at most 10 000; the latest are returned.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limit: Option<u32>,
}

/// Line of the logbook.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LogEntry {
    /// Number; later lines have higher ones.
    pub id: i64,
    /// Time.
    #[schema(format = DateTime)]
    pub at: String,
    /// Kind of the subject: `feed`, `push`, `relay`, `destination`, `platform`, `uplink` or `pattern`.
    pub kind: String,
    /// Name of the subject; of a push, that of its relay.
    pub name: String,
    /// Destination of a push.
    pub part: Option<String>,
    /// State or action.
    pub what: String,
    /// Cause code.
    pub code: Option<String>,
    /// Fault domain of the cause.
    pub side: Option<FaultDomain>,
    /// Further information.
    pub message: String,
    /// Name of the person.
    pub who: Option<String>,
    /// Stable ID of the record; of a push, that of its relay. The name is that at the time of the line.
    #[serde(default)]
    pub record_id: Option<String>,
    /// Stable ID of the destination of a push.
    #[serde(default)]
    pub part_id: Option<String>,
}

/// Parameters of a report.
#[derive(Debug, Clone, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct ReportRequest {
    /// Month, such as `2026-11`; the current one by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub month: Option<String>,
    /// Maximum number of outages, from 1 to 10 000; all by default. The address of the next page is in the header `Link`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[param(minimum = 1, maximum = 10_000)]
    pub limit: Option<usize>,
    /// Number of outages to skip.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub skip: Option<usize>,
}

/// Downtime of one fault domain.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SideShare {
    /// Fault domain.
    pub side: FaultDomain,
    /// Downtime in seconds.
    pub down_s: u64,
}

/// Line of the report.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ReportLine {
    /// `feed`, `push`, `relay` or `site`.
    #[schema(value_type = ReportSubject)]
    pub kind: String,
    /// Name; of a push, that of its relay.
    pub name: String,
    /// Destination of a push.
    pub part: Option<String>,
    /// Desired run time, in seconds.
    pub wanted_s: u64,
    /// Downtime within it, in seconds.
    pub down_s: u64,
    /// Number of outages.
    pub outages: usize,
    /// Longest outage, in seconds.
    pub longest_s: u64,
    /// Availability within the desired run time, in percent with three decimals.
    pub availability_percent: Option<f64>,
    /// Downtime by fault domain, the largest first.
    pub shares: Vec<SideShare>,
    /// Stable ID of the record; of a push, that of its relay. Null for a site, and for a removed record.
    #[serde(default)]
    pub record_id: Option<String>,
}

/// Outage.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Outage {
    /// `feed`, `push` or `relay`.
    #[schema(value_type = ReportSubject)]
    pub kind: String,
    /// Name; of a push, that of its relay.
    pub name: String,
    /// Destination of a push.
    pub part: Option<String>,
    /// Begin.
    #[schema(format = DateTime)]
    pub begin: String,
    /// End; null while it lasts.
    #[schema(format = DateTime)]
    pub end: Option<String>,
    /// Seconds of it within the reported time.
    pub down_s: u64,
    /// Cause code.
    pub code: String,
    /// Fault domain.
    pub side: FaultDomain,
    /// Message, in one sentence.
    pub message: String,
}

/// Availability over a month, or the elapsed part of it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Report {
    /// Month, in UTC.
    pub month: String,
    /// Begin.
    #[schema(format = DateTime)]
    pub from: String,
    /// End, or now.
    #[schema(format = DateTime)]
    pub to: String,
    /// Feeds summed up by site.
    pub sites: Vec<ReportLine>,
    /// Feeds, relays and pushes.
    pub lines: Vec<ReportLine>,
    /// Outages, the oldest first; a page of them if a limit was given.
    pub outages: Vec<Outage>,
    /// Number of all outages.
    #[serde(default)]
    pub outage_count: usize,
}

/// Last day of all relays, as bands.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Day {
    /// Begin of the first step.
    #[schema(format = DateTime)]
    pub from: String,
    /// Length of a step, in seconds.
    pub step_s: u32,
    /// All relays by name.
    pub relays: Vec<RelayDay>,
}

/// Last day of a relay.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RelayDay {
    /// Name of the relay.
    pub name: String,
    /// Consecutive bands, which fill the day.
    pub bands: Vec<Band>,
}

/// Consecutive steps with the same worst level.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Band {
    /// Level.
    pub state: record::DayLevel,
    /// Number of steps.
    pub steps: u32,
}

/// Filter for entries of the audit log.
#[derive(Debug, Clone, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct AuditRequest {
    /// Only entries with a lower number: the next page.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub before: Option<i64>,
    /// Only entries about this kind of record, such as `relay`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kind: Option<String>,
    /// Only entries about the record with this name or ID.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub about: Option<String>,
    /// Only changes by this person or token.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub who: Option<String>,
    /// Maximum number of entries, 100 by default, at most 1 000; the latest are returned.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limit: Option<u32>,
}

/// Entry of the audit log: a change, with the state before and after it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AuditEntry {
    /// Number; later entries have higher ones.
    pub number: i64,
    /// Time.
    #[schema(format = DateTime)]
    pub at: String,
    /// Person or token that made the change.
    pub who: String,
    /// Origin: `console`, `command-line`, `api`, `site-book` or `schedule`.
    #[schema(value_type = Origin)]
    pub origin: String,
    /// Network address of the caller.
    pub address: Option<String>,
    /// Action, such as `added`, `changed`, `removed`, `started` or `key-revealed`.
    pub action: String,
    /// Kind of the record.
    pub kind: String,
    /// Name of the record at that time.
    pub name: String,
    /// Stable ID of the record.
    pub id: Option<String>,
    /// Changed fields; of a secret only its name.
    pub fields: Vec<FieldChange>,
}

/// Changed field.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FieldChange {
    /// Name of the field.
    pub field: String,
    /// Value before; null for none, and for a secret.
    pub before: Option<String>,
    /// Value after; null for none, and for a secret.
    pub after: Option<String>,
}
