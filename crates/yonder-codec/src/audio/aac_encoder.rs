//! Encoder of AAC-LC.

use std::ops::RangeInclusive;

use bytes::Bytes;
use yonder_media::aac::SAMPLES_PER_FRAME;

use crate::audio::vo_aacenc::VoAacEncoder;
use crate::error::CodecError;

/// Maximum size of a frame in bytes per channel: 6144 bits (ISO/IEC 14496-3, 4.5.1.1).
const MAX_FRAME: usize = 768;
/// Maximum channels of the encoder.
const MAX_CHANNELS: u8 = 2;
/// Bit rates per channel, in kilobits per second, at which the encoder works as intended.
const KBPS_PER_CHANNEL: RangeInclusive<u32> = 16..=160;

/// Delay of the encoder and a decoder together, in samples: the decoder's output of a frame begins with the sample that the
/// encoder received this much earlier. A test measures it.
pub(crate) const DELAY: u32 = 1_600;

/// Encoder of AAC-LC.
pub(crate) struct AacEncoder {
    encoder: VoAacEncoder,
    samples: Vec<i16>,
    out: Vec<u8>,
}

impl std::fmt::Debug for AacEncoder {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("AacEncoder").field("encoder", &self.encoder).finish_non_exhaustive()
    }
}

impl AacEncoder {
    /// Creates an encoder.
    ///
    /// # Errors
    /// [`CodecError::UnsupportedTarget`].
    pub(crate) fn new(sample_rate: u32, channels: u8, kbps: u32) -> Result<Self, CodecError> {
        let unsupported = CodecError::UnsupportedTarget { sample_rate, channels, kbps };
        let is_supported = (1..=MAX_CHANNELS).contains(&channels)
            && KBPS_PER_CHANNEL.contains(&(kbps / u32::from(channels)));
        if !is_supported {
            return Err(unsupported);
        }
        let encoder =
            VoAacEncoder::new(sample_rate, channels, kbps.saturating_mul(1_000)).map_err(|_| unsupported)?;
        Ok(Self { encoder, samples: Vec::new(), out: vec![0; MAX_FRAME * usize::from(channels)] })
    }

    /// Encodes one frame: [`SAMPLES_PER_FRAME`] interleaved samples per channel in the range −1 to 1. Louder ones are
    /// clipped.
    ///
    /// # Errors
    /// [`CodecError::Encoder`].
    pub(crate) fn encode(&mut self, samples: impl Iterator<Item = f32>) -> Result<Bytes, CodecError> {
        self.samples.clear();
        self.samples.extend(samples.map(to_i16));
        debug_assert!(self.samples.len().is_multiple_of(usize::try_from(SAMPLES_PER_FRAME).unwrap_or(1)));
        let size = self.encoder.encode(&mut self.samples, &mut self.out)?;
        Ok(Bytes::copy_from_slice(self.out.get(..size).unwrap_or_default()))
    }
}

fn to_i16(sample: f32) -> i16 {
    #[expect(
        clippy::as_conversions,
        clippy::cast_possible_truncation,
        reason = "the cast saturates, and NaN becomes 0"
    )]
    let sample = (sample * 32_768.0).round() as i16;
    sample
}
