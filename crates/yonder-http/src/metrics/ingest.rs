//! Metric families of encoders that publish.

use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::registry::Registry;
use yonder_engine::FeedView;
use yonder_service::ServiceStats;

use super::labels::{PublisherLabels, RefusalLabels};

/// Metric families of encoders.
#[derive(Default)]
pub(super) struct IngestFamilies {
    publishers: Gauge,
    publishing: Family<PublisherLabels, Gauge>,
    refused: Family<RefusalLabels, Counter>,
}

impl IngestFamilies {
    pub(super) fn register(&self, registry: &mut Registry) {
        registry.register("ingest_publishers", "Encoders that publish", self.publishers.clone());
        registry.register(
            "feed_publisher",
            "An encoder publishes to the feed by this protocol",
            self.publishing.clone(),
        );
        registry.register("ingest_refused", "Refused encoders and other peers", self.refused.clone());
    }

    pub(super) fn set(&self, stats: &ServiceStats) {
        let counts = stats.ingest;
        self.publishers.set(i64::try_from(counts.publishers).unwrap_or(i64::MAX));
        let reasons = [
            ("over-limit", counts.over_limit),
            ("without-key", counts.without_key),
            ("wrong-key", counts.wrong_key),
            ("busy", counts.busy),
        ];
        for (reason, count) in reasons {
            self.refused.get_or_create(&RefusalLabels { reason }).inc_by(count);
        }
        stats.feeds.iter().for_each(|feed| self.set_feed(feed));
    }

    fn set_feed(&self, feed: &FeedView) {
        if let Some(publisher) = &feed.publisher {
            let protocol = publisher.info.protocol.as_str();
            self.publishing.get_or_create(&PublisherLabels { feed: feed.name.clone(), protocol }).set(1);
        }
    }
}
