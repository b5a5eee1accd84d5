//! Still picture: a keyframe, decoded and encoded as JPEG.
//!
//! Decoding takes milliseconds of CPU time; it happens on request only, and never on a media thread.

use std::sync::Arc;

use bytes::Bytes;
use image::ExtendedColorType;
use image::codecs::jpeg::JpegEncoder;
use openh264::OpenH264API;
use openh264::decoder::{DecodedYUV, Decoder, DecoderConfig, Flush};
use openh264::formats::YUVSource as _;
use yonder_media::{Payload, VideoCodec, VideoConfig};

use yonder_media::Frame;

/// JPEG quality: readable number plates at a size suited to a list.
const QUALITY: u8 = 82;
/// Start code before each NAL unit (ITU-T H.264, annex B).
const START_CODE: [u8; 4] = [0, 0, 0, 1];

/// A still picture.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Still {
    /// JPEG data.
    pub jpeg: Bytes,
    /// Width in samples.
    pub width: u32,
    /// Height in samples.
    pub height: u32,
}

/// Error for a still picture.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum StillError {
    /// No keyframe has arrived yet.
    #[error("no keyframe has come yet")]
    NoKeyframe,
    /// No decoder for this codec.
    #[error("{0} pictures cannot be decoded here; set the camera's sub stream to H.264 to see it")]
    NoDecoder(&'static str),
    /// The decoder failed.
    #[error("the keyframe cannot be decoded ({0})")]
    Undecodable(String),
}

/// Decodes a keyframe. Blocks for as long as that takes.
pub(crate) fn of_keyframe(entry: &Arc<Frame>) -> Result<Still, StillError> {
    let (Some(config), Payload::Nals(nals)) = (&entry.headers.video, &entry.unit.payload) else {
        return Err(StillError::NoKeyframe);
    };
    if config.codec() != VideoCodec::H264 {
        return Err(StillError::NoDecoder(config.codec().name()));
    }
    let stream = annex_b(config, nals);
    let refused = |error: openh264::Error| StillError::Undecodable(error.to_string());
    let options = DecoderConfig::new().flush_after_decode(Flush::NoFlush);
    let mut decoder = Decoder::with_api_config(OpenH264API::from_source(), options).map_err(refused)?;
    let at_once = decoder.decode(&stream).map_err(refused)?.map(|picture| to_rgb(&picture));
    // A decoder that reorders returns the picture only when flushed.
    let picture = match at_once {
        Some(picture) => Some(picture),
        None => decoder.flush_remaining().map_err(refused)?.first().map(to_rgb),
    };
    let (rgb, width, height) =
        picture.ok_or_else(|| StillError::Undecodable("no picture came out".to_owned()))?;
    compress(&rgb, width, height)
}

fn annex_b(config: &VideoConfig, nals: &[Bytes]) -> Vec<u8> {
    let mut stream = Vec::new();
    for nal in config.parameter_sets().chain(nals) {
        stream.extend_from_slice(&START_CODE);
        stream.extend_from_slice(nal);
    }
    stream
}

fn to_rgb(picture: &DecodedYUV<'_>) -> (Vec<u8>, usize, usize) {
    let (width, height) = picture.dimensions();
    let mut rgb = vec![0; width * height * 3];
    picture.write_rgb8(&mut rgb);
    (rgb, width, height)
}

fn compress(rgb: &[u8], width: usize, height: usize) -> Result<Still, StillError> {
    let refused = |error: &dyn std::fmt::Display| StillError::Undecodable(error.to_string());
    let columns = u32::try_from(width).map_err(|error| refused(&error))?;
    let rows = u32::try_from(height).map_err(|error| refused(&error))?;
    let mut jpeg = Vec::new();
    JpegEncoder::new_with_quality(&mut jpeg, QUALITY)
        .encode(rgb, columns, rows, ExtendedColorType::Rgb8)
        .map_err(|error| refused(&error))?;
    Ok(Still { jpeg: Bytes::from(jpeg), width: columns, height: rows })
}
