//! Interface of video decoders.

use crate::error::CodecError;

use super::picture::PictureRef;

/// Receiver of decoded pictures with their presentation times, in ticks.
pub(crate) type OnPicture<'a> = &'a mut dyn FnMut(i64, PictureRef<'_>) -> Result<(), CodecError>;

/// Decoder of one video stream.
pub(crate) trait VideoDecoder: std::fmt::Debug + Send {
    /// Decodes an access unit (Annex B) that is presented at `pts`, and passes complete pictures to `on_picture` in output
    /// order.
    ///
    /// # Errors
    /// [`CodecError::Decoder`] for a damaged access unit: decoding continues at the next keyframe.
    fn decode(&mut self, stream: &[u8], pts: i64, on_picture: OnPicture<'_>) -> Result<(), CodecError>;

    /// Passes all pictures that wait for later ones to `on_picture`, and begins with the next keyframe.
    ///
    /// # Errors
    /// Those of `on_picture`.
    fn flush(&mut self, on_picture: OnPicture<'_>) -> Result<(), CodecError>;
}
