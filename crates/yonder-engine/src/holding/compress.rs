//! A still picture as a round of H.264: a keyframe, and pictures that say that nothing changed.

use std::sync::Arc;

use bytes::Bytes;
use image::RgbImage;
use openh264::OpenH264API;
use openh264::encoder::{
    BitRate, Encoder, EncoderConfig, FrameRate, IntraFramePeriod, QpRange, RateControlMode, UsageType,
    VuiConfig,
};
use openh264::formats::{RgbSliceU8, YUVBuffer};
use yonder_media::h264::{NalKind, kind_of};
use yonder_media::{AudioConfig, ParameterSets, Payload, StreamHeaders, VideoCodec, split_nals};

use super::HoldError;
use super::round::{Round, Shot, Silence};

/// Fine enough for small letters, coarse enough for a slow uplink.
const QUALITY: QpRange = QpRange::new(20, 28);
/// The encoder's target; a still picture stays far below.
const TARGET: BitRate = BitRate::from_bps(4_000_000);

/// One round of `seconds` at `fps`.
pub(super) fn round(
    image: &RgbImage,
    fps: f64,
    seconds: f64,
    audio: Option<&AudioConfig>,
) -> Result<Round, HoldError> {
    #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "a small positive number")]
    let (count, frame_ticks) = ((fps * seconds).round().max(2.0) as u32, (90_000.0 / fps).round() as i64);
    #[expect(clippy::cast_possible_truncation, reason = "a frame rate")]
    let rate = FrameRate::from_hz(fps as f32);
    let config = EncoderConfig::new()
        .max_frame_rate(rate)
        .bitrate(TARGET)
        .rate_control_mode(RateControlMode::Quality)
        .usage_type(UsageType::ScreenContentRealTime)
        .qp(QUALITY)
        .skip_frames(false)
        .scene_change_detect(false)
        .intra_frame_period(IntraFramePeriod::from_num_frames(count))
        .num_threads(1)
        // What the conversion below makes.
        .vui(VuiConfig::bt601());
    let mut encoder = Encoder::with_api_config(OpenH264API::from_source(), config)?;
    let (width, height) = image.dimensions();
    let side = |side: u32| usize::try_from(side).unwrap_or_default();
    let picture = YUVBuffer::from_rgb8_source(RgbSliceU8::new(image.as_raw(), (side(width), side(height))));

    let mut sets = ParameterSets::new(VideoCodec::H264);
    let mut shots = Vec::new();
    for _ in 0..count {
        let stream = Bytes::from(encoder.encode(&picture)?.to_vec());
        let mut nals = Vec::new();
        let mut keyframe = false;
        for nal in split_nals(&stream) {
            match kind_of(&nal) {
                NalKind::Sps | NalKind::Pps => {
                    sets.take(&nal);
                }
                kind => {
                    keyframe |= kind == NalKind::IdrSlice;
                    nals.push(nal);
                }
            }
        }
        shots.push(Shot { payload: Payload::Nals(nals), keyframe });
    }
    let video = sets.config().ok_or(HoldError::NoStream)?;
    let begins_well = shots.first().is_some_and(|shot| shot.keyframe);
    if !begins_well || shots.iter().any(|shot| shot.payload.is_empty()) {
        return Err(HoldError::NoStream);
    }
    let headers = Arc::new(StreamHeaders { video: Some(video), audio: audio.cloned() });
    Ok(Round { headers, shots, frame_ticks, silence: audio.and_then(Silence::of) })
}
