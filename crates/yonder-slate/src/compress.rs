//! Encoder of a slate as a GOP of H.264: a keyframe, and P frames whose macroblocks are all skipped.

use std::sync::Arc;

use bytes::Bytes;
use image::RgbImage;
use openh264::OpenH264API;
use openh264::encoder::{BitRate, Encoder, EncoderConfig, FrameRate, QpRange, RateControlMode, VuiConfig};
use openh264::formats::{RgbSliceU8, YUVBuffer};
use yonder_media::h264::{NalKind, ParameterSets, kind_of, unchanged_picture};
use yonder_media::{AudioConfig, Payload, StreamHeaders, VideoConfig, split_nals};

use crate::SlateError;
use crate::gop::{Silence, SlateFrame, SlateGop};

/// Quantizer range: fine enough for small text, coarse enough for a slow uplink.
const QUALITY: QpRange = QpRange::new(20, 28);
/// Target bit rate, far above that of a still image.
const TARGET: BitRate = BitRate::from_bps(4_000_000);

/// Encodes a GOP of `seconds` at `fps`.
///
/// # Errors
/// [`SlateError`] if the encoder fails.
pub(crate) fn gop(
    image: &RgbImage,
    fps: f64,
    seconds: f64,
    audio: Option<&AudioConfig>,
) -> Result<SlateGop, SlateError> {
    #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "a small positive number")]
    let (count, frame_ticks) = ((fps * seconds).round().max(2.0) as u32, (90_000.0 / fps).round() as i64);
    #[expect(clippy::cast_possible_truncation, reason = "a frame rate")]
    let rate = FrameRate::from_hz(fps as f32);
    let config = EncoderConfig::new()
        .max_frame_rate(rate)
        .bitrate(TARGET)
        .rate_control_mode(RateControlMode::Quality)
        .qp(QUALITY)
        .num_threads(1)
        // Color format of the conversion below.
        .vui(VuiConfig::bt601());
    let mut encoder = Encoder::with_api_config(OpenH264API::from_source(), config)?;
    let (width, height) = image.dimensions();
    let side = |side: u32| usize::try_from(side).unwrap_or_default();
    let picture = YUVBuffer::from_rgb8_source(RgbSliceU8::new(image.as_raw(), (side(width), side(height))));

    let stream = Bytes::from(encoder.encode(&picture)?.to_vec());
    let mut sets = ParameterSets::default();
    let mut keyframe = Vec::new();
    for nal in split_nals(&stream) {
        match kind_of(&nal) {
            NalKind::Sps | NalKind::Pps => {
                sets.take(&nal);
            }
            _ => keyframe.push(nal),
        }
    }
    let config = sets.config().ok_or(SlateError::NoStream)?;
    if !keyframe.iter().any(|nal| kind_of(nal) == NalKind::IdrSlice) {
        return Err(SlateError::NoStream);
    }
    let mut frames = vec![SlateFrame { payload: Payload::Nals(keyframe), keyframe: true }];
    for at in 1..count {
        let unchanged = unchanged_picture(&config, at).ok_or(SlateError::NoStream)?;
        frames.push(SlateFrame { payload: Payload::Nals(vec![unchanged]), keyframe: false });
    }
    let video = VideoConfig::H264(config);
    let headers = Arc::new(StreamHeaders { video: Some(video), audio: audio.cloned() });
    Ok(SlateGop { headers, frames, frame_ticks, silence: audio.and_then(Silence::of) })
}

#[cfg(test)]
mod tests {
    use super::*;
    use openh264::decoder::Decoder;
    use openh264::formats::YUVSource as _;
    use rstest::rstest;

    #[rstest]
    #[case::full(1_920, 1_080, 25.0)]
    #[case::small(636, 356, 12.5)]
    fn every_frame_of_a_gop_decodes_to_the_first(#[case] width: u32, #[case] height: u32, #[case] fps: f64) {
        let image = crate::card::draw(width, height, "Summit Station", None);
        let gop = gop(&image, fps, 2.0, None).unwrap();
        let video = gop.headers.video.as_ref().unwrap();
        assert_eq!((video.facts().width, video.facts().height), (width, height));
        let mut decoder = Decoder::new().unwrap();
        let mut first: Option<Vec<u8>> = None;
        let mut decoded = 0;
        // Twice, since the GOP is repeated.
        for frame in gop.frames.iter().chain(&gop.frames) {
            let Payload::Nals(nals) = &frame.payload else { panic!() };
            let sets: Vec<&Bytes> =
                if frame.keyframe { video.parameter_sets().collect() } else { Vec::new() };
            let mut stream = Vec::new();
            for nal in sets.into_iter().chain(nals) {
                stream.extend_from_slice(&[0, 0, 0, 1]);
                stream.extend_from_slice(nal);
            }
            let Some(picture) = decoder.decode(&stream).unwrap() else { continue };
            decoded += 1;
            let luma = picture.y().to_vec();
            assert!(*first.get_or_insert_with(|| luma.clone()) == luma, "picture {decoded} differs");
        }
        assert_eq!(decoded, gop.frames.len() * 2);
        let bytes: usize = gop.frames.iter().map(|frame| frame.payload.len()).sum();
        assert!(bytes < 250_000, "{bytes} bytes");
    }
}
