//! Summary of a demo: all pushes, as reported by the service and by the platforms.

use std::time::Duration;

use serde::Serialize;
use yonder_api::Relay;
use yonder_core::PushPhase;
use yonder_service::Service;

use super::railway::Railway;
use crate::output::{Tone, colorize, grouped, table};

/// Grade of a push by its platform.
#[derive(Debug, Serialize)]
struct Grade {
    good: bool,
    pictures: u64,
    width: u32,
    height: u32,
    kbps: u64,
    keyframe_ms: u64,
    findings: Vec<String>,
}

#[derive(Debug, Serialize)]
struct PushSummary {
    relay: String,
    destination: String,
    state: PushPhase,
    kbps: u64,
    frames_sent: u64,
    frames_dropped: u64,
    reconnects: u64,
    graded: Option<Grade>,
}

/// Summary of a demo.
#[derive(Debug, Serialize)]
pub(super) struct Summary {
    /// Every push was live and graded good.
    pub(super) good: bool,
    seconds: u64,
    pushes: Vec<PushSummary>,
}

impl Summary {
    pub(super) fn take(service: &Service, railway: &Railway, ran: Duration) -> Self {
        let relays = service.records().relays();
        let running = relays.iter().filter(|relay| relay.wanted.is_running());
        let pushes: Vec<PushSummary> = running.flat_map(|relay| pushes_of(relay, railway)).collect();
        let good = !pushes.is_empty()
            && pushes
                .iter()
                .all(|push| push.state == PushPhase::Live && push.graded.as_ref().is_some_and(|g| g.good));
        Self { good, seconds: ran.as_secs(), pushes }
    }

    pub(super) fn text(&self, color: bool) -> String {
        let rows: Vec<Vec<String>> = self
            .pushes
            .iter()
            .map(|push| {
                let (size, grade) = match &push.graded {
                    Some(grade) if grade.good => {
                        (format!("{}×{}", grade.width, grade.height), "good".to_owned())
                    }
                    Some(grade) => (format!("{}×{}", grade.width, grade.height), grade.findings.join("; ")),
                    None => ("-".to_owned(), "nothing came".to_owned()),
                };
                vec![
                    push.relay.clone(),
                    push.destination.clone(),
                    push.state.to_string(),
                    format!("{} kbit/s", grouped(push.kbps)),
                    grouped(push.frames_sent),
                    size,
                    grade,
                ]
            })
            .collect();
        let head = ["RELAY", "DESTINATION", "STATE", "RATE", "FRAMES", "SIZE", "GRADED"];
        let verdict = if self.good {
            "Every push was live and graded good."
        } else {
            "Not every push was live and graded good."
        };
        let tone = if self.good { Tone::Good } else { Tone::Bad };
        format!(
            "\nAfter {} s:\n\n{}\n{}\n",
            self.seconds,
            table(&head, &rows),
            colorize(verdict, tone, color)
        )
    }
}

fn pushes_of(relay: &Relay, railway: &Railway) -> Vec<PushSummary> {
    relay
        .pushes
        .iter()
        .map(|push| PushSummary {
            relay: relay.name.clone(),
            destination: push.destination.clone(),
            state: push.state,
            kbps: push.kbps,
            frames_sent: push.frames_sent,
            frames_dropped: push.frames_dropped,
            reconnects: push.reconnects,
            graded: railway.report(&push.destination).map(|report| {
                let (width, height) = report.size().unwrap_or_default();
                Grade {
                    good: report.is_good(),
                    pictures: report.pictures,
                    width,
                    height,
                    kbps: report.kbps,
                    keyframe_ms: report.keyframe_ms,
                    findings: report.findings.iter().map(yonder_core::grade::Finding::sentence).collect(),
                }
            }),
        })
        .collect()
}
