//! Estimate of the processor time of a rendition.

use crate::MeasuredVideo;

use super::Rendition;

/// Speed of the codecs on this machine, from a short measurement at the start.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct CodecSpeed {
    /// Samples that one core decodes per second.
    pub decoded_per_s: f64,
    /// Samples that one core scales and encodes per second.
    pub encoded_per_s: f64,
    /// Cores for one audio channel.
    pub cores_per_channel: f64,
}

/// Returns the number of cores that a rendition of this feed occupies.
#[must_use]
pub fn estimate_cores(rendition: &Rendition, feed: &MeasuredVideo, speed: CodecSpeed) -> f64 {
    let audio = rendition.audio.map_or(0.0, |audio| f64::from(audio.channels) * speed.cores_per_channel);
    let video = rendition.video.map_or(0.0, |video| {
        let samples = |width: u32, height: u32| f64::from(width) * f64::from(height);
        // Frames that are not encoded have to be decoded, since others refer to them.
        let decoded = samples(feed.width, feed.height) * video.fps * f64::from(video.frame_divisor);
        let encoded = samples(video.width, video.height) * video.fps;
        decoded / speed.decoded_per_s.max(1.0) + encoded / speed.encoded_per_s.max(1.0)
    });
    audio + video
}
