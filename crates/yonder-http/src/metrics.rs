//! The figures of all relays as `OpenMetrics` text.

use std::fmt::Write as _;
use std::sync::atomic::AtomicU64;
use std::time::Duration;

use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::encoding::text::encode;
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::metrics::info::Info;
use prometheus_client::registry::{Registry, Unit};
use yonder_api::{FeedState, PushState, Relay, Status};
use yonder_core::{ConditionLevel, FeedPhase, PushPhase};

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

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct OfCondition {
    relay: String,
    condition: &'static str,
}

/// Metric families, new for each request, so that removed records leave no trace.
#[derive(Default)]
struct Families {
    relay_wanted: Family<OfRelay, Gauge>,
    relay_should_run: Family<OfRelay, Gauge>,
    relay_condition: Family<OfCondition, Gauge>,
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
    push_round_trip: Family<OfPush, Gauge<f64, AtomicU64>>,
    push_packets_lost: Family<OfPush, Counter>,
    push_packets_retransmitted: Family<OfPush, Counter>,
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
        registry.register("relay_wanted", "A person wants the relay to run", self.relay_wanted.clone());
        registry.register(
            "relay_should_run",
            "The relay is wanted, and within its on-air windows",
            self.relay_should_run.clone(),
        );
        registry.register(
            "relay_condition",
            "Condition of the relay: 1 for the present one, 0 for the others",
            self.relay_condition.clone(),
        );
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
        registry.register_with_unit(
            "push_round_trip",
            "Round trip of an SRT connection",
            Unit::Seconds,
            self.push_round_trip.clone(),
        );
        registry.register(
            "push_packets_lost",
            "Packets reported lost by an SRT listener, in this connection",
            self.push_packets_lost.clone(),
        );
        registry.register(
            "push_packets_retransmitted",
            "Packets sent again to an SRT listener, in this connection",
            self.push_packets_retransmitted.clone(),
        );
    }

    fn set_relay(&self, relay: &Relay) {
        let label = OfRelay { relay: relay.name.clone() };
        self.relay_wanted.get_or_create(&label).set(i64::from(relay.wanted.is_running()));
        let is_on_air = relay.on_air.as_ref().is_none_or(|on_air| on_air.now);
        let should_run = relay.wanted.is_running() && is_on_air;
        self.relay_should_run.get_or_create(&label).set(i64::from(should_run));
        for level in ConditionLevel::ALL {
            let label = OfCondition { relay: relay.name.clone(), condition: level.as_str() };
            self.relay_condition.get_or_create(&label).set(i64::from(relay.condition.level == level));
        }
        // Outside its windows a relay does not know the state of its feed, which another one may pull.
        if should_run {
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
        if let Some(link) = &push.link {
            let round_trip = Duration::from_millis(link.rtt_ms).as_secs_f64();
            self.push_round_trip.get_or_create(&label).set(round_trip);
            set_counter(&self.push_packets_lost.get_or_create(&label), link.lost);
            set_counter(&self.push_packets_retransmitted.get_or_create(&label), link.retransmitted);
        }
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

    #[test]
    fn relay_outside_its_windows_reports_neither_its_feed_nor_its_pushes() {
        let on_air = |now: bool| json!({"windows": ["daily 06:00-22:00"], "zone": "UTC", "now": now, "changes_at": null});
        let mut running = relay("Line", "Bramble");
        running.on_air = serde_json::from_value(on_air(true)).unwrap();
        running.condition.level = ConditionLevel::Good;
        running.pushes[0].link = serde_json::from_value(json!({
            "latency_ms": 120, "rtt_ms": 25, "sent": 1000, "lost": 8, "retransmitted": 9, "dropped": 0,
            "estimated_bandwidth_kbps": null, "encrypted": true,
        }))
        .unwrap();
        // The later one in the list: it must not hide what the first one says of the feed.
        let mut waiting = relay("Zed", "Hall");
        waiting.on_air = serde_json::from_value(on_air(false)).unwrap();
        waiting.feed.state = FeedPhase::Off;
        let status = Status { version: "0.1.0".into(), now: String::new(), relays: vec![running, waiting] };
        let process = ProcessFigures {
            resident_bytes: 0,
            open_files: 0,
            tasks: 0,
            heartbeat_age_ms: 0,
            loop_restarts: 0,
        };
        let text = text(&status, &process);
        for line in [
            r#"yonder_relay_wanted{relay="Zed"} 1"#,
            r#"yonder_relay_should_run{relay="Line"} 1"#,
            r#"yonder_relay_should_run{relay="Zed"} 0"#,
            r#"yonder_feed_up{feed="Summit \"main\""} 1"#,
            r#"yonder_relay_condition{relay="Line",condition="good"} 1"#,
            r#"yonder_relay_condition{relay="Line",condition="down"} 0"#,
            "# UNIT yonder_push_round_trip_seconds seconds",
            r#"yonder_push_round_trip_seconds{relay="Line",destination="Bramble"} 0.025"#,
            r#"yonder_push_packets_retransmitted_total{relay="Line",destination="Bramble"} 9"#,
        ] {
            assert!(text.contains(line), "{line} is not in {text}");
        }
        assert!(!text.contains(r#"push_up{relay="Zed""#), "{text}");
    }
}
