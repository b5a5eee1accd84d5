//! Label sets of the metrics.

use prometheus_client::encoding::EncodeLabelSet;

/// Label of a feed.
#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
pub(super) struct FeedLabels {
    pub(super) feed: String,
}

/// Labels of an encoder that publishes.
#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
pub(super) struct PublisherLabels {
    pub(super) feed: String,
    pub(super) protocol: &'static str,
}

/// Label of refused peers.
#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
pub(super) struct RefusalLabels {
    pub(super) reason: &'static str,
}

/// Label of a signpost.
#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
pub(super) struct SignpostLabels {
    pub(super) signpost: String,
}

/// Labels of a feed's state.
#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
pub(super) struct FeedStateLabels {
    pub(super) feed: String,
    pub(super) state: &'static str,
}

/// Labels of discarded media data.
#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
pub(super) struct DropLabels {
    pub(super) feed: String,
    pub(super) track: &'static str,
    pub(super) reason: &'static str,
}

/// Labels of a push.
#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
pub(super) struct PushLabels {
    pub(super) relay: String,
    pub(super) destination: String,
}

/// Labels of a push's state.
#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
pub(super) struct PushStateLabels {
    pub(super) relay: String,
    pub(super) destination: String,
    pub(super) state: &'static str,
}

/// Label of a relay.
#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
pub(super) struct RelayLabels {
    pub(super) relay: String,
}

/// Labels of a relay's condition.
#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
pub(super) struct ConditionLabels {
    pub(super) relay: String,
    pub(super) condition: &'static str,
}

/// Labels of a cause.
#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
pub(super) struct CauseLabels {
    pub(super) relay: String,
    pub(super) destination: String,
    pub(super) code: &'static str,
    pub(super) side: &'static str,
}

/// Label of an uplink.
#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
pub(super) struct UplinkLabels {
    pub(super) uplink: String,
}

/// Labels of an alert.
#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
pub(super) struct AlertLabels {
    pub(super) alert: String,
    pub(super) acknowledged: &'static str,
}

/// Label of a contact.
#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
pub(super) struct ContactLabels {
    pub(super) contact: String,
}

/// Empty label set, for a metric that can be absent.
#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
pub(super) struct NoLabels {}
