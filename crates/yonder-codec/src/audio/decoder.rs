//! Interface of audio decoders.

use yonder_media::AudioConfig;

use crate::audio::aac_decoder::AacDecoder;
use crate::audio::g711_decoder::G711Decoder;
use crate::error::CodecError;

/// Decoder of one audio stream.
pub(crate) trait AudioDecoder: std::fmt::Debug + Send {
    /// Decodes a frame and appends its samples, interleaved and in the range −1 to 1, to `out`. A damaged frame yields the
    /// samples that could be decoded, often none.
    fn decode(&mut self, frame: &[u8], out: &mut Vec<f32>);
}

/// Creates the decoder of a stream.
///
/// # Errors
/// [`CodecError::UnsupportedSource`].
pub(crate) fn decoder_of(config: &AudioConfig) -> Result<Box<dyn AudioDecoder>, CodecError> {
    match config {
        AudioConfig::G711 { law, .. } => Ok(Box::new(G711Decoder::new(*law))),
        AudioConfig::Aac { facts, specific } => Ok(Box::new(AacDecoder::new(*facts, specific)?)),
    }
}
