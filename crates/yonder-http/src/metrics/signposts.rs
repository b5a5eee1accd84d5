//! Metric families of signposts.

use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::registry::{Registry, Unit};
use yonder_service::ServiceStats;

use super::labels::SignpostLabels;

/// Metric families of signposts.
#[derive(Default)]
pub(super) struct SignpostFamilies {
    live: Family<SignpostLabels, Gauge>,
    viewers: Family<SignpostLabels, Gauge>,
    bytes: Family<SignpostLabels, Counter>,
}

impl SignpostFamilies {
    pub(super) fn register(&self, registry: &mut Registry) {
        registry.register("signpost_live", "The picture can be watched", self.live.clone());
        registry.register("signpost_viewers", "Viewers of the own player", self.viewers.clone());
        registry.register_with_unit("signpost", "Bytes to viewers", Unit::Bytes, self.bytes.clone());
    }

    pub(super) fn set(&self, stats: &ServiceStats) {
        for signpost in &stats.signposts {
            let labels = SignpostLabels { signpost: signpost.name.clone() };
            self.live.get_or_create(&labels).set(i64::from(signpost.is_live));
            self.viewers.get_or_create(&labels).set(i64::from(signpost.viewers));
            self.bytes.get_or_create(&labels).inc_by(signpost.bytes);
        }
    }
}
