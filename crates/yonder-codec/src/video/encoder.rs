//! Encoder of H.264 at a constant bit rate, without B-frames.

#![expect(unsafe_code, reason = "some options have no safe interface")]

use std::fmt;

use bytes::Bytes;
use openh264::encoder::{
    BitRate, Complexity, Encoder, EncoderConfig, FrameRate, FrameType, Profile, RateControlMode, VuiConfig,
};
use openh264::formats::YUVSlices;
use openh264::{OpenH264API, Timestamp};
use openh264_sys2::{
    ENCODER_OPTION_BITRATE, ENCODER_OPTION_MAX_BITRATE, ENCODER_OPTION_TRACE_LEVEL, SBitrateInfo,
    SPATIAL_LAYER_ALL, WELS_LOG_QUIET,
};
use yonder_media::h264::{NalKind, ParameterSets, kind_of};
use yonder_media::{TICKS_PER_SECOND, VideoConfig, split_nals};

use crate::error::CodecError;

use super::picture::PictureRef;
use super::target::VideoTarget;

/// Share of the target at which the encoder is set, in percent: its rate control exceeds its target by a few percent.
const TARGET_PERCENT: u32 = 93;
/// Height from which video without a declared color format is assumed to be BT.709.
const HD_LINES: usize = 720;

/// Encoded picture.
#[derive(Debug)]
pub(super) struct EncodedNals {
    pub(super) nals: Vec<Bytes>,
    pub(super) is_keyframe: bool,
}

/// Encoder of one stream.
pub(super) struct H264Encoder {
    encoder: Encoder,
    sets: ParameterSets,
    config: Option<VideoConfig>,
}

impl fmt::Debug for H264Encoder {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("H264Encoder").field("config", &self.config).finish_non_exhaustive()
    }
}

impl H264Encoder {
    /// Creates an encoder. `source_lines` is the height of the source, by which its color format is assumed.
    ///
    /// # Errors
    /// [`CodecError::VideoEncoder`].
    pub(super) fn new(target: &VideoTarget, source_lines: usize) -> Result<Self, CodecError> {
        let vui = if source_lines >= HD_LINES { VuiConfig::bt709() } else { VuiConfig::bt601() };
        #[expect(clippy::as_conversions, clippy::cast_possible_truncation, reason = "a frame rate")]
        let rate = FrameRate::from_hz(target.fps as f32);
        let config = EncoderConfig::new()
            .max_frame_rate(rate)
            .bitrate(BitRate::from_bps(encoder_bps(target.kbps)))
            .rate_control_mode(RateControlMode::Bitrate)
            .skip_frames(false)
            .profile(Profile::High)
            .complexity(Complexity::Low)
            // Keyframes come at the interval of the platform.
            .scene_change_detect(false)
            .num_threads(1)
            .vui(vui);
        let mut encoder = Encoder::with_api_config(OpenH264API::from_source(), config).map_err(failed)?;
        let mut quiet = WELS_LOG_QUIET;
        // SAFETY: the option has this type. The encoder would write to standard error while it is initialized.
        let _accepted =
            unsafe { encoder.raw_api().set_option(ENCODER_OPTION_TRACE_LEVEL, (&raw mut quiet).cast()) };
        Ok(Self { encoder, sets: ParameterSets::default(), config: None })
    }

    /// Returns the configuration, once a picture was encoded.
    pub(super) fn config(&self) -> Option<&VideoConfig> {
        self.config.as_ref()
    }

    /// Changes the bit rate, in kilobits per second.
    ///
    /// # Errors
    /// [`CodecError::VideoEncoder`].
    pub(super) fn set_kbps(&mut self, kbps: u32) -> Result<(), CodecError> {
        if self.config.is_none() {
            // The encoder is initialized by its first picture.
            return Ok(());
        }
        let bits = i32::try_from(encoder_bps(kbps)).unwrap_or(i32::MAX);
        let mut info = SBitrateInfo { iLayer: SPATIAL_LAYER_ALL, iBitrate: bits };
        // SAFETY: the encoder is initialized, and the option has this type.
        let code = unsafe {
            let api = self.encoder.raw_api();
            // The maximum bounds the target.
            let max = api.set_option(ENCODER_OPTION_MAX_BITRATE, (&raw mut info).cast());
            if max == 0 { api.set_option(ENCODER_OPTION_BITRATE, (&raw mut info).cast()) } else { max }
        };
        if code == 0 {
            return Ok(());
        }
        Err(CodecError::VideoEncoder(format!("it refused {kbps} kbit/s (code {code})")))
    }

    /// Encodes a picture at `pts`, in ticks from the first one.
    ///
    /// # Errors
    /// [`CodecError::VideoEncoder`].
    pub(super) fn encode(
        &mut self,
        picture: &PictureRef<'_>,
        pts: i64,
        is_keyframe_due: bool,
    ) -> Result<Option<EncodedNals>, CodecError> {
        if is_keyframe_due && self.config.is_some() {
            self.encoder.force_intra_frame();
        }
        let milliseconds = u64::try_from(pts.max(0) * 1_000 / TICKS_PER_SECOND).unwrap_or_default();
        let slices =
            slices(picture).ok_or_else(|| CodecError::VideoEncoder("an odd picture size".to_owned()))?;
        let stream = self.encoder.encode_at(&slices, Timestamp::from_millis(milliseconds)).map_err(failed)?;
        let is_keyframe = matches!(stream.frame_type(), FrameType::IDR);
        let stream = Bytes::from(stream.to_vec());
        let mut nals = Vec::new();
        for nal in split_nals(&stream) {
            match kind_of(&nal) {
                NalKind::Sps | NalKind::Pps => {
                    self.sets.take(&nal);
                }
                _ => nals.push(nal),
            }
        }
        if self.config.is_none() {
            self.config = self.sets.config().map(VideoConfig::H264);
        }
        Ok((!nals.is_empty()).then_some(EncodedNals { nals, is_keyframe }))
    }
}

/// Returns the target of the encoder, in bits per second.
fn encoder_bps(kbps: u32) -> u32 {
    kbps.saturating_mul(10 * TARGET_PERCENT)
}

/// Returns the planes for the encoder, whole lines each.
fn slices<'a>(picture: &PictureRef<'a>) -> Option<YUVSlices<'a>> {
    let [y, u, v] = picture.planes;
    let [y_stride, u_stride, v_stride] = picture.strides;
    let (width, height) = (picture.width, picture.height);
    let planes =
        (y.get(..y_stride * height)?, u.get(..u_stride * (height / 2))?, v.get(..v_stride * (height / 2))?);
    let is_even = width % 2 == 0 && height % 2 == 0;
    is_even.then(|| YUVSlices::new(planes, (width, height), (y_stride, u_stride, v_stride)))
}

fn failed(error: openh264::Error) -> CodecError {
    CodecError::VideoEncoder(error.to_string())
}
