//! Format of encoded video.

/// Format of the encoded video.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct VideoTarget {
    /// Width in samples, even.
    pub width: u32,
    /// Height in lines, even.
    pub height: u32,
    /// One of this many frames of the feed is encoded.
    pub frame_divisor: u32,
    /// Frames per second, for the rate control.
    pub fps: f64,
    /// Bit rate in kilobits per second.
    pub kbps: u32,
    /// Keyframe interval in seconds.
    pub keyframe_interval_s: f64,
}
