//! Metric families of relays, feeds, pushes, uplinks, alerts, records and the process.

use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::registry::{Registry, Unit};
use yonder_api::Relay;
use yonder_core::{ConditionLevel, FeedPhase, PushPhase};
use yonder_engine::{FeedView, PushView};
use yonder_media::Track;
use yonder_service::{AlertStats, ServiceStats};

use super::ingest::IngestFamilies;
use super::labels::{
    AlertLabels, CauseLabels, ConditionLabels, ContactLabels, DropLabels, FeedLabels, FeedStateLabels,
    PushLabels, PushStateLabels, RelayLabels,
};
use super::renditions::RenditionFamilies;
use super::service::{ServiceFamilies, UplinkFamilies};
use super::signposts::SignpostFamilies;
use super::values::{BYTES_PER_S_OF_KBPS, Float, signed};

/// Metric families, built for each request, so that removed records disappear.
#[derive(Default)]
pub(super) struct Families {
    relay_wanted: Family<RelayLabels, Gauge>,
    relay_should_run: Family<RelayLabels, Gauge>,
    relay_condition: Family<ConditionLabels, Gauge>,
    cause: Family<CauseLabels, Gauge>,
    feed: FeedFamilies,
    push: PushFamilies,
    rendition: RenditionFamilies,
    uplink: UplinkFamilies,
    ingest: IngestFamilies,
    signposts: SignpostFamilies,
    alerts_open: Family<AlertLabels, Gauge>,
    notifications_undelivered: Family<ContactLabels, Gauge>,
    contact_unreachable: Family<ContactLabels, Gauge>,
    service: ServiceFamilies,
}

#[derive(Default)]
struct FeedFamilies {
    up: Family<FeedLabels, Gauge>,
    state: Family<FeedStateLabels, Gauge>,
    bytes: Family<FeedLabels, Counter>,
    lost: Family<FeedLabels, Counter>,
    units_dropped: Family<FeedLabels, Counter>,
    skipped_bytes: Family<FeedLabels, Counter>,
    skipped_header_lines: Family<FeedLabels, Counter>,
    unused: Family<DropLabels, Counter>,
    reconnects: Family<FeedLabels, Counter>,
}

#[derive(Default)]
struct PushFamilies {
    up: Family<PushLabels, Gauge>,
    holding: Family<PushLabels, Gauge>,
    state: Family<PushStateLabels, Gauge>,
    bytes: Family<PushLabels, Counter>,
    frames: Family<PushLabels, Counter>,
    frames_dropped: Family<PushLabels, Counter>,
    reconnects: Family<PushLabels, Counter>,
    backlog: Family<PushLabels, Float>,
    latency: Family<PushLabels, Float>,
    round_trip: Family<PushLabels, Float>,
    packets: Family<PushLabels, Counter>,
    packets_lost: Family<PushLabels, Counter>,
    packets_retransmitted: Family<PushLabels, Counter>,
    packets_dropped: Family<PushLabels, Counter>,
    estimated_bandwidth: Family<PushLabels, Gauge>,
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
        self.rendition.register(registry);
        self.uplink.register(registry);
        self.ingest.register(registry);
        self.signposts.register(registry);
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
        for feed in &stats.feeds {
            self.feed.set(feed);
            self.rendition.set(feed);
        }
        for relay in &stats.running {
            self.set_cause(&relay.name, "", relay.feed.cause.as_ref());
            for push in &relay.pushes {
                self.push.set(&relay.name, push);
                self.set_cause(&relay.name, &push.destination, push.cause.as_ref());
            }
        }
        self.uplink.set(stats);
        self.ingest.set(stats);
        self.signposts.set(stats);
        self.set_alerts(&stats.alerts);
        self.service.set(stats);
    }

    fn set_relay(&self, relay: &Relay) {
        let label = RelayLabels { relay: relay.name.clone() };
        self.relay_wanted.get_or_create(&label).set(i64::from(relay.wanted.is_running()));
        let is_on_air = relay.on_air.as_ref().is_none_or(|on_air| on_air.now);
        let should_run = relay.wanted.is_running() && is_on_air;
        self.relay_should_run.get_or_create(&label).set(i64::from(should_run));
        for level in ConditionLevel::ALL {
            let label = ConditionLabels { relay: relay.name.clone(), condition: level.as_str() };
            self.relay_condition.get_or_create(&label).set(i64::from(relay.condition.level == level));
        }
    }

    fn set_cause(&self, relay: &str, destination: &str, cause: Option<&yonder_engine::CauseView>) {
        let Some(cause) = cause else { return };
        let (relay, destination) = (relay.to_owned(), destination.to_owned());
        let label = CauseLabels { relay, destination, code: cause.code, side: cause.side.as_str() };
        self.cause.get_or_create(&label).set(1);
    }

    fn set_alerts(&self, alerts: &AlertStats) {
        for (alert, is_acknowledged) in &alerts.open {
            let acknowledged = if *is_acknowledged { "yes" } else { "no" };
            self.alerts_open.get_or_create(&AlertLabels { alert: alert.clone(), acknowledged }).inc();
        }
        for contact in &alerts.undelivered {
            self.notifications_undelivered.get_or_create(&ContactLabels { contact: contact.clone() }).inc();
        }
        for contact in &alerts.unreachable {
            self.contact_unreachable.get_or_create(&ContactLabels { contact: contact.clone() }).set(1);
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
        let label = FeedLabels { feed: feed.name.clone() };
        self.up.get_or_create(&label).set(i64::from(feed.state == FeedPhase::Flowing));
        for state in FeedPhase::ALL {
            let label = FeedStateLabels { feed: feed.name.clone(), state: state.as_str() };
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
                self.unused
                    .get_or_create(&DropLabels { feed: feed.name.clone(), track, reason })
                    .inc_by(count);
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
        let label = PushLabels { relay: relay.to_owned(), destination: push.destination.clone() };
        self.up.get_or_create(&label).set(i64::from(push.state.is_sending()));
        self.holding.get_or_create(&label).set(i64::from(push.state == PushPhase::Holding));
        for state in PushPhase::ALL {
            let PushLabels { relay, destination } = label.clone();
            let label = PushStateLabels { relay, destination, state: state.as_str() };
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
