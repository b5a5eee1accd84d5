//! Errors of codecs.

/// Error of a codec.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum CodecError {
    /// Sampling rate, channels or bit rate that the encoder does not support.
    #[error("the AAC encoder does not support {sample_rate} Hz with {channels} channels at {kbps} kbit/s")]
    UnsupportedTarget {
        /// Sampling rate in hertz.
        sample_rate: u32,
        /// Channels.
        channels: u8,
        /// Bit rate in kilobits per second.
        kbps: u32,
    },
    /// Audio that cannot be decoded, such as AAC with another object type than LC.
    #[error("the audio cannot be decoded: {0}")]
    UnsupportedSource(String),
    /// The audio encoder failed.
    #[error("the AAC encoder failed (code {0:#x})")]
    Encoder(u64),
    /// The resampler failed.
    #[error("the audio cannot be resampled: {0}")]
    Resampler(String),
    /// Video that cannot be decoded, such as interlaced H.264.
    #[error("the video cannot be decoded: {0}")]
    Decoder(String),
    /// The library for H.265 is not installed.
    #[error("H.265 cannot be decoded; install the package libde265-0")]
    MissingLibrary,
    /// The video cannot be scaled.
    #[error("the video cannot be scaled: {0}")]
    Scaler(String),
    /// The video encoder failed.
    #[error("the H.264 encoder failed: {0}")]
    VideoEncoder(String),
}
