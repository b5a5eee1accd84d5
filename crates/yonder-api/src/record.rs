//! Logbook and report.

use crate::enums::{Origin, ReportSubject};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use yonder_core::{Side, record};

use crate::book::FieldChange;

/// Which lines of the logbook are asked for.
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
    /// Only lines with a cause on this side: `camera`, `network`, `platform`, `ours` or `planned`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[param(value_type = Option<Side>)]
    pub side: Option<String>,
    /// Only what people did (true), or only what happened by itself (false).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub changes: Option<bool>,
    /// Only lines from this time on, in RFC 3339.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// Only lines about the record of that name or id, under its former names as well, and about pushes of it or to it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub about: Option<String>,
    /// The latest so many: 200 unless said otherwise, 10 000 at most.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limit: Option<u32>,
}

/// A line of the logbook.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LogEntry {
    /// Number; later lines have higher ones.
    pub id: i64,
    /// When.
    #[schema(format = DateTime)]
    pub at: String,
    /// `feed`, `push`, `relay`, `destination`, `platform`, `uplink` or `pattern`.
    pub kind: String,
    /// Name of what it is about; of a push its relay's.
    pub name: String,
    /// Destination of a push.
    pub part: Option<String>,
    /// State that began, or what was done.
    pub what: String,
    /// Cause code.
    pub code: Option<String>,
    /// Fault domain of the cause.
    pub side: Option<Side>,
    /// Further information.
    pub message: String,
    /// Name of the person.
    pub who: Option<String>,
    /// Stable id of the record that it is about; of a push that of its relay. The name is the one of that time.
    #[serde(default)]
    pub record_id: Option<String>,
    /// Stable id of the destination of a push.
    #[serde(default)]
    pub part_id: Option<String>,
}

/// Which month is asked for.
#[derive(Debug, Clone, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct ReportRequest {
    /// Like `2026-11`; this one unless said otherwise.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub month: Option<String>,
    /// Maximum number of outages, from 1 to 10 000; all by default. The address of the next page is in the header `Link`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[param(minimum = 1, maximum = 10_000)]
    pub limit: Option<usize>,
    /// Number of outages to leave out at the begin.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub skip: Option<usize>,
}

/// Downtime of one fault domain.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SideShare {
    /// Side.
    pub side: Side,
    /// Seconds down.
    pub down_s: u64,
}

/// A line of the report.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ReportLine {
    /// `feed`, `push`, `relay` or `site`.
    #[schema(value_type = ReportSubject)]
    pub kind: String,
    /// Name; of a push its relay's.
    pub name: String,
    /// Destination of a push.
    pub part: Option<String>,
    /// Seconds in which it should have run.
    pub wanted_s: u64,
    /// Seconds of that in which it was down.
    pub down_s: u64,
    /// Outages.
    pub outages: usize,
    /// Seconds of the longest.
    pub longest_s: u64,
    /// Share of the wanted time in which it ran, in per cent to three decimals.
    pub availability_percent: Option<f64>,
    /// Downtime by fault domain, the longest first.
    pub shares: Vec<SideShare>,
    /// Stable id of the record; of a push that of its relay. None of a site, and of a record that was removed.
    #[serde(default)]
    pub record_id: Option<String>,
}

/// A stretch of time in which something was down.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Outage {
    /// `feed`, `push` or `relay`.
    #[schema(value_type = ReportSubject)]
    pub kind: String,
    /// Name; of a push its relay's.
    pub name: String,
    /// Destination of a push.
    pub part: Option<String>,
    /// Begin.
    #[schema(format = DateTime)]
    pub begin: String,
    /// End, where it has ended.
    #[schema(format = DateTime)]
    pub end: Option<String>,
    /// Seconds of it within the report's time.
    pub down_s: u64,
    /// Cause code.
    pub code: String,
    /// Fault domain.
    pub side: Side,
    /// One sentence.
    pub message: String,
}

/// Availability over a month, or the elapsed part of it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Report {
    /// Month, in UTC.
    pub month: String,
    /// Its begin.
    #[schema(format = DateTime)]
    pub from: String,
    /// Its end, or now.
    #[schema(format = DateTime)]
    pub to: String,
    /// Feeds by their sites.
    pub sites: Vec<ReportLine>,
    /// Feeds, relays and pushes.
    pub lines: Vec<ReportLine>,
    /// Outages, oldest first; a page of them where a limit was given.
    pub outages: Vec<Outage>,
    /// Number of all outages.
    #[serde(default)]
    pub outage_count: usize,
}

/// The last day of every relay, in bands.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Day {
    /// When the first step begins.
    #[schema(format = DateTime)]
    pub from: String,
    /// Seconds of a step.
    pub step_s: u32,
    /// All relays by name.
    pub relays: Vec<RelayDay>,
}

/// The last day of a relay.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RelayDay {
    /// Its name.
    pub name: String,
    /// Bands one after the other; together they fill the day.
    pub bands: Vec<Band>,
}

/// Some steps in which the worst that a relay was is the same.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Band {
    /// Level.
    pub state: record::Level,
    /// How many.
    pub steps: u32,
}

/// Which entries of the audit trail are asked for.
#[derive(Debug, Clone, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct AuditRequest {
    /// Only entries with a lower number: the next page.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub before: Option<i64>,
    /// Only entries about this kind of record, like `relay`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kind: Option<String>,
    /// Only entries about the record of this name or id.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub about: Option<String>,
    /// Only changes by this person or token.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub who: Option<String>,
    /// The latest so many: 100 unless said otherwise, 1 000 at most.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limit: Option<u32>,
}

/// An entry of the audit trail: a change, with what was there before and after.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AuditEntry {
    /// Number; later entries have higher ones.
    pub number: i64,
    /// When.
    #[schema(format = DateTime)]
    pub at: String,
    /// Person or token that made the change.
    pub who: String,
    /// Origin: `console`, `command-line`, `api`, `site-book` or `schedule`.
    #[schema(value_type = Origin)]
    pub origin: String,
    /// Network address of the caller.
    pub address: Option<String>,
    /// Action, like `added`, `changed`, `removed`, `started` or `key-revealed`.
    pub action: String,
    /// Kind of the record.
    pub kind: String,
    /// Name of the record at that time.
    pub name: String,
    /// Stable id of the record.
    pub id: Option<String>,
    /// Fields that changed; of a secret the name alone.
    pub fields: Vec<FieldChange>,
}
