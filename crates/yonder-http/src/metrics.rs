//! The figures of all relays as `OpenMetrics` text.

use std::fmt::Write as _;

use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::encoding::text::encode;
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::metrics::info::Info;
use prometheus_client::registry::Registry;
use yonder_api::{FeedState, PushState, Relay, Status};
use yonder_core::{FeedPhase, PushPhase};

use yonder_service::ProcessFigures;

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct OfFeed {
    feed: String,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct OfPush {
    relay: String,
    destination: String,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct OfRelay {
    relay: String,
}

/// Names, helps and families, all made anew for each look: what is gone leaves no trace.
#[derive(Default)]
struct Families {
    relay_wanted: Family<OfRelay, Gauge>,
    feed_up: Family<OfFeed, Gauge>,
    feed_bytes: Family<OfFeed, Counter>,
    feed_lost: Family<OfFeed, Counter>,
    feed_reconnects: Family<OfFeed, Counter>,
    push_up: Family<OfPush, Gauge>,
    push_holding: Family<OfPush, Gauge>,
    push_bytes: Family<OfPush, Counter>,
    push_frames: Family<OfPush, Counter>,
    push_dropped: Family<OfPush, Counter>,
    push_reconnects: Family<OfPush, Counter>,
    push_backlog: Family<OfPush, Gauge>,
}

fn register_process(registry: &mut Registry, process: &ProcessFigures) {
    let gauge = |value: u64| {
        let gauge = Gauge::<i64>::default();
        gauge.set(i64::try_from(value).unwrap_or(i64::MAX));
        gauge
    };
    let figures = [
        ("process_resident_memory_bytes", "Memory that the program takes", process.resident_bytes),
        ("process_open_files", "Open files and sockets", process.open_files),
        ("process_tasks", "Pulls, pushes and what watches them", process.tasks),
        (
            "media_thread_heartbeat_age_milliseconds",
            "Time since the oldest heartbeat of a media thread; above 5000 one stands still",
            process.heartbeat_age_ms,
        ),
    ];
    for (name, help, value) in figures {
        registry.register(name, help, gauge(value));
    }
    let restarts = Counter::<u64>::default();
    restarts.inc_by(process.loop_restarts);
    registry.register("service_loop_restarts", "Background loops restarted after a panic", restarts);
}

impl Families {
    fn register(&self, registry: &mut Registry) {
        registry.register("relay_wanted", "The relay should run", self.relay_wanted.clone());
        registry.register("feed_up", "Pictures come", self.feed_up.clone());
        registry.register("feed_bytes", "Bytes received", self.feed_bytes.clone());
        registry.register("feed_packets_lost", "Packets that never came", self.feed_lost.clone());
        registry.register("feed_reconnects", "Returns after an absence", self.feed_reconnects.clone());
        registry.register("push_up", "The platform takes pictures", self.push_up.clone());
        registry.register("push_holding", "They are the holding picture", self.push_holding.clone());
        registry.register("push_bytes", "Bytes sent", self.push_bytes.clone());
        registry.register("push_frames", "Pictures sent", self.push_frames.clone());
        registry.register("push_frames_dropped", "Pictures skipped", self.push_dropped.clone());
        registry.register("push_reconnects", "Returns after an absence", self.push_reconnects.clone());
        registry.register(
            "push_backlog_milliseconds",
            "How far it is behind its feed",
            self.push_backlog.clone(),
        );
    }

    fn set_relay(&self, relay: &Relay) {
        let label = OfRelay { relay: relay.name.clone() };
        self.relay_wanted.get_or_create(&label).set(i64::from(relay.wanted.is_running()));
        if relay.wanted.is_running() {
            self.set_feed(&relay.feed);
            relay.pushes.iter().for_each(|push| self.set_push(&relay.name, push));
        }
    }

    /// Two relays of one feed tell the same of it: counters are set once.
    fn set_feed(&self, feed: &FeedState) {
        let label = OfFeed { feed: feed.name.clone() };
        self.feed_up.get_or_create(&label).set(i64::from(feed.state == FeedPhase::Flowing));
        set_counter(&self.feed_bytes.get_or_create(&label), feed.bytes);
        set_counter(&self.feed_lost.get_or_create(&label), feed.packets_lost);
        set_counter(&self.feed_reconnects.get_or_create(&label), feed.reconnects);
    }

    fn set_push(&self, relay: &str, push: &PushState) {
        let label = OfPush { relay: relay.to_owned(), destination: push.destination.clone() };
        let is_up = push.state.is_sending();
        self.push_up.get_or_create(&label).set(i64::from(is_up));
        self.push_holding.get_or_create(&label).set(i64::from(push.state == PushPhase::Holding));
        set_counter(&self.push_bytes.get_or_create(&label), push.bytes);
        set_counter(&self.push_frames.get_or_create(&label), push.frames_sent);
        set_counter(&self.push_dropped.get_or_create(&label), push.frames_dropped);
        set_counter(&self.push_reconnects.get_or_create(&label), push.reconnects);
        let backlog = i64::try_from(push.backlog_ms).unwrap_or(i64::MAX);
        self.push_backlog.get_or_create(&label).set(backlog);
    }
}

fn set_counter(counter: &Counter, value: u64) {
    counter.inc_by(value.saturating_sub(counter.get()));
}

/// The figures at this moment.
pub(crate) fn text(status: &Status, process: &ProcessFigures) -> String {
    let mut registry = Registry::with_prefix("yonder");
    registry.register("build", "The program", Info::new(vec![("version", status.version.clone())]));
    register_process(&mut registry, process);
    let families = Families::default();
    families.register(&mut registry);
    status.relays.iter().for_each(|relay| families.set_relay(relay));
    let mut text = String::new();
    if encode(&mut text, &registry).is_err() {
        // Writing to a text does not fail; half a document must not look like a whole one.
        text.clear();
        let _written = writeln!(text, "# EOF");
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn relay(name: &str, push: &str) -> Relay {
        serde_json::from_value(json!({
            "name": name, "wanted": "on",
            "feed": {"name": "Summit \"main\"", "state": "flowing", "since": null, "cause": null, "retry_in_s": null,
                "transport": null, "video": null, "audio": null, "bytes": 7, "packets_lost": 3, "reconnects": 0},
            "pushes": [{"destination": push, "state": "holding", "since": null, "cause": null, "retry_in_s": null,
                "kbps": 1, "bytes": 12, "frames_sent": 34, "frames_dropped": 5, "reconnects": 2, "backlog_ms": 40,
                "steps": []}],
        }))
        .unwrap()
    }

    #[test]
    fn figures_are_told_once_for_each_feed_and_push() {
        let status = Status {
            version: "0.1.0".into(),
            now: String::new(),
            relays: vec![relay("One", "Bramble"), relay("Two", "Hall")],
        };
        let process = ProcessFigures {
            resident_bytes: 40_960,
            open_files: 21,
            tasks: 17,
            heartbeat_age_ms: 12,
            loop_restarts: 1,
        };
        let text = text(&status, &process);
        for line in [
            r#"yonder_build_info{version="0.1.0"} 1"#,
            "yonder_process_resident_memory_bytes 40960",
            "yonder_process_open_files 21",
            "yonder_process_tasks 17",
            "yonder_media_thread_heartbeat_age_milliseconds 12",
            r#"yonder_feed_up{feed="Summit \"main\""} 1"#,
            r#"yonder_feed_bytes_total{feed="Summit \"main\""} 7"#,
            r#"yonder_push_up{relay="One",destination="Bramble"} 1"#,
            r#"yonder_push_holding{relay="Two",destination="Hall"} 1"#,
            r#"yonder_push_frames_dropped_total{relay="Two",destination="Hall"} 5"#,
            "# TYPE yonder_push_bytes counter",
        ] {
            assert!(text.contains(line), "{line} is not in {text}");
        }
        assert!(text.ends_with("# EOF\n"));
    }
}
