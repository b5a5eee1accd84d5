//! Metric families of renditions.

use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::registry::Registry;
use yonder_engine::FeedView;

use super::values::Float;

/// Labels of a rendition.
#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct RenditionLabels {
    feed: String,
    rendition: String,
}

/// Families of renditions; each rendition is one series, however many pushes use it.
#[derive(Default)]
pub(super) struct RenditionFamilies {
    pushes: Family<RenditionLabels, Gauge>,
    frames_in: Family<RenditionLabels, Counter>,
    frames_out: Family<RenditionLabels, Counter>,
    frames_skipped: Family<RenditionLabels, Counter>,
    restarts: Family<RenditionLabels, Counter>,
    cpu_cores: Family<RenditionLabels, Float>,
}

impl RenditionFamilies {
    pub(super) fn register(&self, registry: &mut Registry) {
        registry.register("rendition_pushes", "Pushes that send the adapted stream", self.pushes.clone());
        registry.register(
            "rendition_frames_in",
            "Video frames received from the feed",
            self.frames_in.clone(),
        );
        registry.register("rendition_frames_out", "Video frames made", self.frames_out.clone());
        registry.register(
            "rendition_frames_skipped",
            "Video frames of the feed skipped because the machine was too slow",
            self.frames_skipped.clone(),
        );
        registry.register("rendition_restarts", "Restarts after failures", self.restarts.clone());
        registry.register(
            "rendition_cpu_cores",
            "Processor cores occupied, averaged over the last seconds",
            self.cpu_cores.clone(),
        );
    }

    pub(super) fn set(&self, feed: &FeedView) {
        for view in &feed.renditions {
            let label = RenditionLabels { feed: feed.name.clone(), rendition: view.rendition.to_string() };
            self.pushes.get_or_create(&label).set(view.shared_by.into());
            self.frames_in.get_or_create(&label).inc_by(view.frames_in);
            self.frames_out.get_or_create(&label).inc_by(view.frames_out);
            self.frames_skipped.get_or_create(&label).inc_by(view.skipped);
            self.restarts.get_or_create(&label).inc_by(view.restarts);
            self.cpu_cores.get_or_create(&label).set(view.cpu_cores);
        }
    }
}
