//! Decoder of G.711 (ITU-T G.711).

use yonder_media::g711::Law;

use crate::audio::decoder::AudioDecoder;

/// Decoder of G.711.
#[derive(Debug)]
pub(crate) struct G711Decoder(Law);

impl G711Decoder {
    pub(crate) fn new(law: Law) -> Self {
        Self(law)
    }
}

impl AudioDecoder for G711Decoder {
    fn decode(&mut self, frame: &[u8], out: &mut Vec<f32>) {
        out.extend(frame.iter().map(|byte| f32::from(self.0.decode(*byte)) / 32_768.0));
    }
}
