//! Decoder of AAC-LC.

use symphonia_core::audio::{Channels, layouts};
use symphonia_core::codecs::audio::well_known::CODEC_ID_AAC;
use symphonia_core::codecs::audio::{AudioCodecParameters, AudioDecoder as _, AudioDecoderOptions};
use symphonia_core::packet::Packet;
use symphonia_core::units::{Duration, Timestamp};
use yonder_media::aac::{AudioSpecificConfig, SAMPLES_PER_FRAME};

use crate::audio::decoder::AudioDecoder;
use crate::error::CodecError;

/// Decoder of AAC-LC.
pub(crate) struct AacDecoder {
    decoder: symphonia_codec_aac::AacDecoder,
    number: i64,
    /// Samples of the last frame, reused.
    samples: Vec<f32>,
}

impl std::fmt::Debug for AacDecoder {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("AacDecoder").field("number", &self.number).finish_non_exhaustive()
    }
}

impl AacDecoder {
    /// Creates a decoder for an `AudioSpecificConfig` (ISO/IEC 14496-3, 1.6.2.1).
    ///
    /// # Errors
    /// [`CodecError::UnsupportedSource`] for other object types than LC, and for more than two channels.
    pub(crate) fn new(facts: AudioSpecificConfig, specific: &[u8]) -> Result<Self, CodecError> {
        let layout: Channels = match facts.channels {
            1 => layouts::CHANNEL_LAYOUT_MONO,
            2 => layouts::CHANNEL_LAYOUT_STEREO,
            other => return Err(CodecError::UnsupportedSource(format!("AAC with {other} channels"))),
        };
        let mut parameters = AudioCodecParameters::new();
        parameters.for_codec(CODEC_ID_AAC).with_sample_rate(facts.sample_rate).with_channels(layout);
        parameters.with_extra_data(specific.into());
        let decoder = symphonia_codec_aac::AacDecoder::try_new(&parameters, &AudioDecoderOptions::default())
            .map_err(|error| CodecError::UnsupportedSource(error.to_string()))?;
        Ok(Self { decoder, number: 0, samples: Vec::new() })
    }
}

impl AudioDecoder for AacDecoder {
    fn decode(&mut self, frame: &[u8], out: &mut Vec<f32>) {
        let length = SAMPLES_PER_FRAME;
        let packet = Packet::new(
            0,
            Timestamp::new(self.number * i64::from(length)),
            Duration::new(u64::from(length)),
            frame.to_vec(),
        );
        self.number += 1;
        if let Ok(decoded) = self.decoder.decode(&packet) {
            self.samples.clear();
            decoded.copy_to_vec_interleaved(&mut self.samples);
            out.extend_from_slice(&self.samples);
        }
    }
}
