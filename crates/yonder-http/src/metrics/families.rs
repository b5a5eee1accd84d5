//! Metric families of relays, feeds, pushes, uplinks, alerts, records and the process.

use std::sync::atomic::AtomicU64;
use std::time::{Duration, SystemTime};

use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::registry::{Registry, Unit};
use yonder_api::{Relay, UplinkBudget};
use yonder_core::{ConditionLevel, FeedPhase, PushPhase};
use yonder_engine::{FeedView, PushView};
use yonder_media::Track;
use yonder_service::{AlertStats, ProcessStats, ServiceStats};

/// Gauge with a floating-point value.
type Float = Gauge<f64, AtomicU64>;

/// Bytes per second in a kilobit per second.
const BYTES_PER_S_OF_KBPS: u64 = 125;

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct OfFeed {
    feed: String,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct OfFeedState {
    feed: String,
    state: &'static str,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct OfDrop {
    feed: String,
    track: &'static str,
    reason: &'static str,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct OfPush {
    relay: String,
    destination: String,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct OfPushState {
    relay: String,
    destination: String,
    state: &'static str,
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

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct OfCause {
    relay: String,
    destination: String,
    code: &'static str,
    side: &'static str,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct OfUplink {
    uplink: String,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct OfAlert {
    alert: String,
    acknowledged: &'static str,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct OfContact {
    contact: String,
}

/// Empty label set, for a metric that can be absent.
#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct NoLabels {}

/// Metric families, built for each request, so that removed records disappear.
#[derive(Default)]
pub(super) struct Families {
    relay_wanted: Family<OfRelay, Gauge>,
    relay_should_run: Family<OfRelay, Gauge>,
    relay_condition: Family<OfCondition, Gauge>,
    cause: Family<OfCause, Gauge>,
    feed: FeedFamilies,
    push: PushFamilies,
    uplink: UplinkFamilies,
    alerts_open: Family<OfAlert, Gauge>,
    notifications_undelivered: Family<OfContact, Gauge>,
    contact_unreachable: Family<OfContact, Gauge>,
    service: ServiceFamilies,
}

#[derive(Default)]
struct FeedFamilies {
    up: Family<OfFeed, Gauge>,
    state: Family<OfFeedState, Gauge>,
    bytes: Family<OfFeed, Counter>,
    lost: Family<OfFeed, Counter>,
    units_dropped: Family<OfFeed, Counter>,
    skipped_bytes: Family<OfFeed, Counter>,
    skipped_header_lines: Family<OfFeed, Counter>,
    unused: Family<OfDrop, Counter>,
    reconnects: Family<OfFeed, Counter>,
}

#[derive(Default)]
struct PushFamilies {
    up: Family<OfPush, Gauge>,
    holding: Family<OfPush, Gauge>,
    state: Family<OfPushState, Gauge>,
    bytes: Family<OfPush, Counter>,
    frames: Family<OfPush, Counter>,
    frames_dropped: Family<OfPush, Counter>,
    reconnects: Family<OfPush, Counter>,
    backlog: Family<OfPush, Float>,
    latency: Family<OfPush, Float>,
    round_trip: Family<OfPush, Float>,
    packets: Family<OfPush, Counter>,
    packets_lost: Family<OfPush, Counter>,
    packets_retransmitted: Family<OfPush, Counter>,
    packets_dropped: Family<OfPush, Counter>,
    estimated_bandwidth: Family<OfPush, Gauge>,
}

#[derive(Default)]
struct UplinkFamilies {
    capacity: Family<OfUplink, Gauge>,
    usage: Family<OfUplink, Gauge>,
    allowance: Family<OfUplink, Gauge>,
    month: Family<OfUplink, Gauge>,
    projected: Family<OfUplink, Gauge>,
}

/// Metrics without labels. A family that is not set is absent.
#[derive(Default)]
struct ServiceFamilies {
    resident: Gauge,
    open_files: Gauge,
    tasks: Gauge,
    heartbeat_age: Float,
    loop_restarts: Counter,
    unwritten: Family<NoLabels, Gauge>,
    records_blocked: Gauge,
    disk_free: Family<NoLabels, Gauge>,
    records: Gauge,
    last_backup: Family<NoLabels, Gauge>,
    backup_failed: Gauge,
}

impl Families {
    pub(super) fn register(&self, registry: &mut Registry) {
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
        registry.register(
            "cause",
            "Present cause of a feed (without a destination) or of a push that does not run",
            self.cause.clone(),
        );
        self.feed.register(registry);
        self.push.register(registry);
        self.uplink.register(registry);
        registry.register("alerts_open", "Open alerts", self.alerts_open.clone());
        registry.register(
            "notifications_undelivered",
            "Notifications that wait for delivery",
            self.notifications_undelivered.clone(),
        );
        registry.register(
            "contact_unreachable",
            "The contact could not be reached several times in a row",
            self.contact_unreachable.clone(),
        );
        self.service.register(registry);
    }

    pub(super) fn set(&self, stats: &ServiceStats) {
        stats.relays.iter().for_each(|relay| self.set_relay(relay));
        stats.feeds.iter().for_each(|feed| self.feed.set(feed));
        for relay in &stats.running {
            self.set_cause(&relay.name, "", relay.feed.cause.as_ref());
            for push in &relay.pushes {
                self.push.set(&relay.name, push);
                self.set_cause(&relay.name, &push.destination, push.cause.as_ref());
            }
        }
        self.uplink.set(stats);
        self.set_alerts(&stats.alerts);
        self.service.set(stats);
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
    }

    fn set_cause(&self, relay: &str, destination: &str, cause: Option<&yonder_engine::CauseView>) {
        let Some(cause) = cause else { return };
        let (relay, destination) = (relay.to_owned(), destination.to_owned());
        let label = OfCause { relay, destination, code: cause.code, side: cause.side.as_str() };
        self.cause.get_or_create(&label).set(1);
    }

    fn set_alerts(&self, alerts: &AlertStats) {
        for (alert, is_acknowledged) in &alerts.open {
            let acknowledged = if *is_acknowledged { "yes" } else { "no" };
            self.alerts_open.get_or_create(&OfAlert { alert: alert.clone(), acknowledged }).inc();
        }
        for contact in &alerts.undelivered {
            self.notifications_undelivered.get_or_create(&OfContact { contact: contact.clone() }).inc();
        }
        for contact in &alerts.unreachable {
            self.contact_unreachable.get_or_create(&OfContact { contact: contact.clone() }).set(1);
        }
    }
}

impl FeedFamilies {
    fn register(&self, registry: &mut Registry) {
        registry.register("feed_up", "Video arrives", self.up.clone());
        registry.register(
            "feed_state",
            "State of the feed: 1 for the present one, 0 for the others",
            self.state.clone(),
        );
        registry.register_with_unit("feed", "Bytes received", Unit::Bytes, self.bytes.clone());
        registry.register("feed_packets_lost", "Packets that did not arrive", self.lost.clone());
        registry.register_with_unit(
            "feed_skipped",
            "Bytes in RTSP connections that belonged to no message and no frame",
            Unit::Bytes,
            self.skipped_bytes.clone(),
        );
        registry.register(
            "feed_skipped_header_lines",
            "Header lines of the camera's messages that are no fields",
            self.skipped_header_lines.clone(),
        );
        registry.register(
            "feed_units_dropped",
            "Frames dropped because of packet loss, with those that depended on them",
            self.units_dropped.clone(),
        );
        registry.register(
            "feed_unused",
            "Parts of packets that could not be used in this session, by reason",
            self.unused.clone(),
        );
        registry.register("feed_reconnects", "Reconnections", self.reconnects.clone());
    }

    fn set(&self, feed: &FeedView) {
        let label = OfFeed { feed: feed.name.clone() };
        self.up.get_or_create(&label).set(i64::from(feed.state == FeedPhase::Flowing));
        for state in FeedPhase::ALL {
            let label = OfFeedState { feed: feed.name.clone(), state: state.as_str() };
            self.state.get_or_create(&label).set(i64::from(feed.state == state));
        }
        self.bytes.get_or_create(&label).inc_by(feed.bytes);
        self.lost.get_or_create(&label).inc_by(feed.packets_lost);
        self.units_dropped.get_or_create(&label).inc_by(feed.units_dropped);
        self.skipped_bytes.get_or_create(&label).inc_by(feed.skipped.bytes);
        self.skipped_header_lines.get_or_create(&label).inc_by(feed.skipped.header_lines);
        self.reconnects.get_or_create(&label).inc_by(feed.reconnects);
        for reception in &feed.reception {
            let track = match reception.track {
                Track::Video => "video",
                Track::Audio => "audio",
            };
            for (reason, count) in reception.drops.by_reason().into_iter().filter(|(_, count)| *count > 0) {
                self.unused.get_or_create(&OfDrop { feed: feed.name.clone(), track, reason }).inc_by(count);
            }
        }
    }
}

impl PushFamilies {
    fn register(&self, registry: &mut Registry) {
        registry.register("push_up", "The platform accepts media", self.up.clone());
        registry.register("push_holding", "The push sends the holding picture", self.holding.clone());
        registry.register(
            "push_state",
            "State of the push: 1 for the present one, 0 for the others",
            self.state.clone(),
        );
        registry.register_with_unit("push", "Bytes sent", Unit::Bytes, self.bytes.clone());
        registry.register("push_frames", "Video frames sent", self.frames.clone());
        registry.register(
            "push_frames_dropped",
            "Video frames skipped because the connection was too slow",
            self.frames_dropped.clone(),
        );
        registry.register("push_reconnects", "Reconnections", self.reconnects.clone());
        registry.register_with_unit(
            "push_backlog",
            "Media that waits to be sent",
            Unit::Seconds,
            self.backlog.clone(),
        );
        registry.register_with_unit(
            "push_latency",
            "Negotiated latency of an SRT connection",
            Unit::Seconds,
            self.latency.clone(),
        );
        registry.register_with_unit(
            "push_round_trip",
            "Round-trip time of an SRT connection",
            Unit::Seconds,
            self.round_trip.clone(),
        );
        registry.register(
            "push_packets",
            "Packets sent for the first time in this SRT connection",
            self.packets.clone(),
        );
        registry.register(
            "push_packets_lost",
            "Packets reported lost in this SRT connection",
            self.packets_lost.clone(),
        );
        registry.register(
            "push_packets_retransmitted",
            "Packets retransmitted in this SRT connection",
            self.packets_retransmitted.clone(),
        );
        registry.register(
            "push_packets_dropped",
            "Packets dropped because they were too late, in this SRT connection",
            self.packets_dropped.clone(),
        );
        registry.register_with_unit(
            "push_estimated_bandwidth",
            "Bandwidth that the SRT listener estimates",
            Unit::Other("bytes_per_second".to_owned()),
            self.estimated_bandwidth.clone(),
        );
    }

    fn set(&self, relay: &str, push: &PushView) {
        let label = OfPush { relay: relay.to_owned(), destination: push.destination.clone() };
        self.up.get_or_create(&label).set(i64::from(push.state.is_sending()));
        self.holding.get_or_create(&label).set(i64::from(push.state == PushPhase::Holding));
        for state in PushPhase::ALL {
            let OfPush { relay, destination } = label.clone();
            let label = OfPushState { relay, destination, state: state.as_str() };
            self.state.get_or_create(&label).set(i64::from(push.state == state));
        }
        self.bytes.get_or_create(&label).inc_by(push.bytes);
        self.frames.get_or_create(&label).inc_by(push.frames_sent);
        self.frames_dropped.get_or_create(&label).inc_by(push.frames_dropped);
        self.reconnects.get_or_create(&label).inc_by(push.reconnects);
        self.backlog.get_or_create(&label).set(push.backlog.as_secs_f64());
        if let Some(link) = &push.link {
            self.latency.get_or_create(&label).set(link.latency.as_secs_f64());
            self.round_trip.get_or_create(&label).set(link.rtt.as_secs_f64());
            self.packets.get_or_create(&label).inc_by(link.sent);
            self.packets_lost.get_or_create(&label).inc_by(link.lost);
            self.packets_retransmitted.get_or_create(&label).inc_by(link.retransmitted);
            self.packets_dropped.get_or_create(&label).inc_by(link.dropped);
            if let Some(kbps) = link.estimated_bandwidth_kbps {
                self.estimated_bandwidth.get_or_create(&label).set(signed(kbps * BYTES_PER_S_OF_KBPS));
            }
        }
    }
}

impl UplinkFamilies {
    fn register(&self, registry: &mut Registry) {
        let per_second = || Unit::Other("bytes_per_second".to_owned());
        registry.register_with_unit(
            "uplink_capacity",
            "Rate of the uplink",
            per_second(),
            self.capacity.clone(),
        );
        registry.register_with_unit(
            "uplink_usage",
            "Rate that the running relays need on the uplink",
            per_second(),
            self.usage.clone(),
        );
        registry.register_with_unit(
            "uplink_allowance",
            "Monthly allowance",
            Unit::Bytes,
            self.allowance.clone(),
        );
        registry.register_with_unit(
            "uplink_month",
            "Bytes sent in this month",
            Unit::Bytes,
            self.month.clone(),
        );
        registry.register_with_unit(
            "uplink_month_projected",
            "Bytes that this month will have come to",
            Unit::Bytes,
            self.projected.clone(),
        );
    }

    fn set(&self, stats: &ServiceStats) {
        for UplinkBudget { uplink, sum_kbps, projected_bytes, .. } in &stats.disk.uplinks {
            let label = OfUplink { uplink: uplink.name.clone() };
            self.capacity.get_or_create(&label).set(signed(uplink.up_kbps * BYTES_PER_S_OF_KBPS));
            self.usage.get_or_create(&label).set(signed(sum_kbps * BYTES_PER_S_OF_KBPS));
            self.month.get_or_create(&label).set(signed(uplink.sent_bytes));
            self.projected.get_or_create(&label).set(signed(*projected_bytes));
            if let Some(bytes) = uplink.allowance_bytes {
                self.allowance.get_or_create(&label).set(signed(bytes));
            }
        }
    }
}

impl ServiceFamilies {
    fn register(&self, registry: &mut Registry) {
        registry.register_with_unit(
            "process_resident_memory",
            "Resident memory of the process",
            Unit::Bytes,
            self.resident.clone(),
        );
        registry.register("process_open_files", "Open files and sockets", self.open_files.clone());
        registry.register(
            "process_tasks",
            "Tasks of the engine: pulls, pushes and their supervision",
            self.tasks.clone(),
        );
        registry.register_with_unit(
            "media_thread_heartbeat_age",
            "Age of the oldest heartbeat of a media thread; above 5 s one is blocked",
            Unit::Seconds,
            self.heartbeat_age.clone(),
        );
        registry.register(
            "service_loop_restarts",
            "Background loops restarted after a panic",
            self.loop_restarts.clone(),
        );
        registry.register(
            "records_unwritten",
            "Entries of logbook, history and audit trail that wait for the disk",
            self.unwritten.clone(),
        );
        registry.register(
            "records_blocked",
            "A write of the records does not return",
            self.records_blocked.clone(),
        );
        registry.register_with_unit("records_size", "Size of the records", Unit::Bytes, self.records.clone());
        registry.register_with_unit(
            "disk_free",
            "Free space on the disk of the records",
            Unit::Bytes,
            self.disk_free.clone(),
        );
        registry.register_with_unit(
            "last_backup_timestamp",
            "Time of the last backup, since 1970",
            Unit::Seconds,
            self.last_backup.clone(),
        );
        registry.register(
            "scheduled_backup_failed",
            "The last scheduled backup failed",
            self.backup_failed.clone(),
        );
    }

    fn set(&self, stats: &ServiceStats) {
        let ProcessStats { resident_bytes, open_files, tasks, heartbeat_age_ms, loop_restarts } =
            stats.process;
        self.resident.set(signed(resident_bytes));
        self.open_files.set(signed(open_files));
        self.tasks.set(signed(tasks));
        self.heartbeat_age.set(Duration::from_millis(heartbeat_age_ms).as_secs_f64());
        self.loop_restarts.inc_by(loop_restarts);
        match stats.unwritten {
            Some(count) => {
                self.unwritten
                    .get_or_create(&NoLabels {})
                    .set(signed(u64::try_from(count).unwrap_or(u64::MAX)));
            }
            None => {
                self.records_blocked.set(1);
            }
        }
        self.records.set(signed(stats.disk.records_bytes));
        if let Some(free) = stats.disk.free_bytes {
            self.disk_free.get_or_create(&NoLabels {}).set(signed(free));
        }
        let scheduled = stats.scheduled_backup.and_then(|at| at.duration_since(SystemTime::UNIX_EPOCH).ok());
        let scheduled_s = scheduled.map(|since| signed(since.as_secs()));
        let last_s = stats.disk.last_backup_ms.map(|at_ms| at_ms / 1_000);
        if let Some(at_s) = scheduled_s.max(last_s) {
            self.last_backup.get_or_create(&NoLabels {}).set(at_s);
        }
        self.backup_failed.set(i64::from(stats.backup_failed));
    }
}

fn signed(value: u64) -> i64 {
    i64::try_from(value).unwrap_or(i64::MAX)
}
