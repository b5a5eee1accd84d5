//! Encoded test pattern, to measure the speed of the codecs.

use yonder_media::{AccessUnit, Payload, TICKS_PER_SECOND, Track, VideoConfig};

use crate::error::CodecError;

use super::encoder::H264Encoder;
use super::picture::Picture;
use super::target::VideoTarget;

/// Frames per second of the pattern.
const FPS: i64 = 25;

/// Encodes `count` pictures of a moving pattern, at about 0.1 bit per sample.
///
/// # Errors
/// [`CodecError::VideoEncoder`].
pub fn encode_sample(
    width: u32,
    height: u32,
    count: i64,
) -> Result<(VideoConfig, Vec<AccessUnit>), CodecError> {
    let target = VideoTarget {
        width,
        height,
        frame_divisor: 1,
        fps: 25.0,
        kbps: width.saturating_mul(height) * 25 / 10_000,
        keyframe_interval_s: 2.0,
    };
    let side = |side: u32| usize::try_from(side).unwrap_or_default();
    let mut picture = Picture::black(side(width), side(height));
    let mut encoder = H264Encoder::new(&target, picture.height)?;
    let mut units = Vec::new();
    for number in 0..count {
        draw(&mut picture, number);
        let dts = number * TICKS_PER_SECOND / FPS;
        if let Some(encoded) = encoder.encode(&picture.as_ref(), dts, number == 0)? {
            let (keyframe, payload) = (encoded.is_keyframe, Payload::Nals(encoded.nals));
            units.push(AccessUnit { track: Track::Video, dts, pts: dts, keyframe, payload });
        }
    }
    let config = encoder.config().cloned();
    Ok((config.ok_or_else(|| CodecError::VideoEncoder("no parameter sets".to_owned()))?, units))
}

/// Draws the pattern: gradients that move, with texture.
fn draw(picture: &mut Picture, number: i64) {
    let shift = usize::try_from(number).unwrap_or_default();
    let width = picture.width;
    let [luma, ..] = &mut picture.planes;
    for (y, line) in luma.chunks_mut(width.max(1)).enumerate() {
        for (x, sample) in line.iter_mut().enumerate() {
            let value = (x + 3 * shift) / 2 + (y + shift) + ((x * 7 + y * 13) % 11) * 4;
            *sample = value.to_le_bytes().first().copied().unwrap_or_default();
        }
    }
}
