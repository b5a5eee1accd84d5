//! Values of metrics.

use std::sync::atomic::AtomicU64;

use prometheus_client::metrics::gauge::Gauge;

/// Gauge with a floating-point value.
pub(super) type Float = Gauge<f64, AtomicU64>;

/// Bytes per second in a kilobit per second.
pub(super) const BYTES_PER_S_OF_KBPS: u64 = 125;

/// Converts a counter to the value of a gauge.
pub(super) fn signed(value: u64) -> i64 {
    i64::try_from(value).unwrap_or(i64::MAX)
}
