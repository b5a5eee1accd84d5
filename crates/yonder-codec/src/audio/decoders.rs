//! Choice of an audio decoder.

use yonder_media::AudioConfig;

use crate::audio::aac_decoder::AacDecoder;
use crate::audio::decoder::AudioDecoder;
use crate::audio::g711_decoder::G711Decoder;
use crate::error::CodecError;

/// Audio object type of AAC-LC (ISO/IEC 14496-3, table 1.17).
const AAC_LC: u8 = 2;
/// Maximum channels of the decoders.
const MAX_CHANNELS: u8 = 2;

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

/// Returns true if audio can be decoded, without creating a decoder.
#[must_use]
pub fn can_decode(config: &AudioConfig) -> bool {
    match config {
        AudioConfig::G711 { .. } => true,
        AudioConfig::Aac { facts, .. } => {
            facts.object_type == AAC_LC && (1..=MAX_CHANNELS).contains(&facts.channels)
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use yonder_media::g711::Law;

    use super::*;

    #[rstest]
    #[case::g711(Some(AudioConfig::G711 { law: Law::A, sample_rate: 8_000, channels: 1 }), true)]
    #[case::lc(AudioConfig::aac(vec![0x11, 0x90].into()), true)]
    #[case::main_profile(AudioConfig::aac(vec![0x0a, 0x10].into()), false)]
    #[case::six_channels(AudioConfig::aac(vec![0x11, 0xb0].into()), false)]
    #[case::high_efficiency(AudioConfig::aac(vec![0x2b, 0x11, 0x88, 0x00].into()), false)]
    fn answer_is_that_of_the_decoders(#[case] config: Option<AudioConfig>, #[case] expected: bool) {
        let config = config.unwrap();
        assert_eq!((can_decode(&config), decoder_of(&config).is_ok()), (expected, expected));
    }
}
