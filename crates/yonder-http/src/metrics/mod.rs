//! Metrics of the service in `OpenMetrics` text, or in the older Prometheus text for clients without support for
//! `OpenMetrics`.

mod families;
mod ingest;
mod labels;
mod renditions;
mod requests;
mod service;
mod signposts;
mod values;

use std::collections::HashMap;
use std::fmt::Write as _;

use prometheus_client::encoding::text::encode;
use prometheus_client::metrics::info::Info;
use prometheus_client::registry::Registry;
use yonder_service::ServiceStats;

use families::Families;

pub(crate) use requests::{RequestMetrics, count_request};

/// Media type of `OpenMetrics` text.
const OPEN_METRICS: &str = "application/openmetrics-text; version=1.0.0; charset=utf-8";
/// Media type of the Prometheus text format.
const PROMETHEUS_TEXT: &str = "text/plain; version=0.0.4; charset=utf-8";

/// Returns the media type and the text for a client with this `Accept` header.
pub(crate) fn exposition(
    accept: Option<&str>,
    stats: &ServiceStats,
    requests: &RequestMetrics,
) -> (&'static str, String) {
    let text = open_metrics(stats, requests);
    // Clients without an `Accept` header get OpenMetrics as well.
    let wants_plain =
        accept.is_some_and(|accept| accept.contains("text/plain") && !accept.contains("openmetrics"));
    if wants_plain { (PROMETHEUS_TEXT, prometheus_text(&text)) } else { (OPEN_METRICS, text) }
}

fn open_metrics(stats: &ServiceStats, requests: &RequestMetrics) -> String {
    let mut registry = Registry::with_prefix("yonder");
    registry.register("build", "Version of the program", Info::new(vec![("version", stats.version.clone())]));
    let families = Families::default();
    families.register(&mut registry);
    requests.register(&mut registry);
    families.set(stats);
    let mut text = String::new();
    if encode(&mut text, &registry).is_err() {
        // Writing to a `String` cannot fail; a partial document must not look complete.
        text.clear();
        let _written = writeln!(text, "# EOF");
    }
    text
}

/// Converts `OpenMetrics` text to the Prometheus text format, in which the names of counters and infos include their
/// suffix, and which has neither units nor an end marker.
fn prometheus_text(open_metrics: &str) -> String {
    let mut text = String::with_capacity(open_metrics.len());
    let mut types = HashMap::new();
    for line in open_metrics.lines() {
        if let Some((name, kind)) = line.strip_prefix("# TYPE ").and_then(|rest| rest.split_once(' ')) {
            types.insert(name, kind);
        }
    }
    let full = |name: &str| match types.get(name).copied() {
        Some("counter") => format!("{name}_total"),
        Some("info") => format!("{name}_info"),
        _ => name.to_owned(),
    };
    for line in open_metrics.lines() {
        if let Some((name, help)) = line.strip_prefix("# HELP ").and_then(|rest| rest.split_once(' ')) {
            text += &format!("# HELP {} {help}\n", full(name));
        } else if let Some((name, kind)) = line.strip_prefix("# TYPE ").and_then(|rest| rest.split_once(' '))
        {
            text += &format!("# TYPE {} {}\n", full(name), if kind == "info" { "gauge" } else { kind });
        } else if !line.starts_with("# UNIT ") && line != "# EOF" {
            text += line;
            text.push('\n');
        }
    }
    text
}
