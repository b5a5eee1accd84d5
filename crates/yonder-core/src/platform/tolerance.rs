//! Tolerances of measured values against the limits of a platform.

/// Frames per second: 29.97 and 30.02 count as 30.
pub(crate) const FPS: f64 = 0.5;
/// Keyframe interval in seconds: one frame.
pub(crate) const KEYFRAME_INTERVAL_S: f64 = 0.1;
/// Audio bit rate in kilobits per second.
pub(crate) const AUDIO_KBPS: u64 = 8;
/// Video bit rate in percent.
const VIDEO_RATE_PERCENT: u64 = 3;

/// Returns true if a measured video bit rate exceeds a ceiling, both in kilobits per second.
pub(crate) fn exceeds_ceiling(kbps: u64, ceiling: u64) -> bool {
    kbps > ceiling + ceiling * VIDEO_RATE_PERCENT / 100
}
