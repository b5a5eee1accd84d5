//! Choice of a video decoder.

use yonder_media::VideoCodec;

use crate::error::CodecError;

use super::decoder::VideoDecoder;
use super::h264_decoder::H264Decoder;
use super::h265_decoder::H265Decoder;

/// Creates the decoder of a codec.
///
/// # Errors
/// [`CodecError::Decoder`], or [`CodecError::MissingLibrary`] for H.265.
pub(crate) fn decoder_of(codec: VideoCodec) -> Result<Box<dyn VideoDecoder>, CodecError> {
    match codec {
        VideoCodec::H264 => Ok(Box::new(H264Decoder::new()?)),
        VideoCodec::H265 => Ok(Box::new(H265Decoder::new()?)),
    }
}
