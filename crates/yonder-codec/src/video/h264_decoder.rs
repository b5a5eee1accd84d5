//! Decoder of H.264.

use std::cmp::Reverse;
use std::collections::BinaryHeap;
use std::fmt;

use openh264::OpenH264API;
use openh264::decoder::{DecodeOptions, DecodedYUV, Decoder, DecoderConfig, Flush};
use openh264::formats::YUVSource as _;

use crate::error::CodecError;

use super::decoder::{OnPicture, VideoDecoder};
use super::picture::PictureRef;

/// Maximum pictures in the decoder: the largest decoded picture buffer of the standard (A.3.1).
const MAX_PENDING: usize = 16;

/// Decoder of H.264, without interlaced video.
pub(crate) struct H264Decoder {
    decoder: Decoder,
    /// Presentation times of access units without a picture yet. Pictures come in output order, so each has the earliest.
    pending: BinaryHeap<Reverse<i64>>,
}

impl H264Decoder {
    /// Creates a decoder.
    ///
    /// # Errors
    /// [`CodecError::Decoder`].
    pub(crate) fn new() -> Result<Self, CodecError> {
        // Pictures that wait for earlier ones must not be flushed out of order.
        let config = DecoderConfig::new().flush_after_decode(Flush::NoFlush);
        let decoder = Decoder::with_api_config(OpenH264API::from_source(), config).map_err(failed)?;
        Ok(Self { decoder, pending: BinaryHeap::new() })
    }
}

impl fmt::Debug for H264Decoder {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("H264Decoder").field("pending", &self.pending.len()).finish_non_exhaustive()
    }
}

impl VideoDecoder for H264Decoder {
    fn decode(&mut self, stream: &[u8], pts: i64, on_picture: OnPicture<'_>) -> Result<(), CodecError> {
        self.pending.push(Reverse(pts));
        // The picture of an access unit that could not be decoded never comes.
        while self.pending.len() > MAX_PENDING {
            self.pending.pop();
        }
        let options = DecodeOptions::new().flush_after_decode(Flush::NoFlush);
        let decoded = self.decoder.decode_with_options(stream, options).map_err(failed)?;
        let Some(picture) = decoded else { return Ok(()) };
        let pts = self.pending.pop().map_or(pts, |Reverse(pts)| pts);
        on_picture(pts, borrowed(&picture))
    }

    fn flush(&mut self, on_picture: OnPicture<'_>) -> Result<(), CodecError> {
        let pictures = self.decoder.flush_remaining().map_err(failed)?;
        for picture in pictures {
            let Some(Reverse(pts)) = self.pending.pop() else { break };
            on_picture(pts, borrowed(&picture))?;
        }
        self.pending.clear();
        Ok(())
    }
}

fn borrowed<'a>(picture: &'a DecodedYUV<'_>) -> PictureRef<'a> {
    let (width, height) = picture.dimensions();
    let (y, u, v) = picture.strides();
    PictureRef { width, height, planes: [picture.y(), picture.u(), picture.v()], strides: [y, u, v] }
}

fn failed(error: openh264::Error) -> CodecError {
    CodecError::Decoder(error.to_string())
}
