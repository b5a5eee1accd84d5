//! Audio: decoders, resampler and AAC encoder.

mod aac_decoder;
mod aac_encoder;
mod channels;
mod decoder;
mod decoders;
mod g711_decoder;
mod resampler;
#[cfg(test)]
mod test_signal;
mod transcoder;
mod vo_aacenc;

pub use decoders::can_decode;
pub use transcoder::{AudioTarget, AudioTranscoder, EncodedFrame};
