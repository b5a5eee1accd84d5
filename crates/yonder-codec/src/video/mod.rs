//! Video: decoders, scaler and H.264 encoder.

mod decoder;
mod decoders;
mod encoder;
mod h264_decoder;
mod h265_decoder;
mod libde265;
mod picture;
mod sample;
mod scaler;
mod target;
mod transcoder;

pub use h265_decoder::is_h265_available;
pub use sample::encode_sample;
pub use target::VideoTarget;
pub use transcoder::{EncodedPicture, VideoTranscoder};
