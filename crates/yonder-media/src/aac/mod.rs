//! AAC: `AudioSpecificConfig`, LATM elements and ADTS files.

mod adts;
mod config;
mod latm;
mod silence;

pub use adts::{AdtsError, adts_header, split_adts};
pub use config::{AudioSpecificConfig, ConfigError};
pub use latm::{LatmError, StreamMux};
pub use silence::silent_frame;

/// PCM samples per AAC-LC access unit (ISO/IEC 14496-3, 4.5.1.1, `frameLengthFlag` 0).
pub const SAMPLES_PER_FRAME: u32 = 1024;

/// Sampling rates by index (ISO/IEC 14496-3, table 1.18), in hertz.
pub(crate) const SAMPLE_RATES: [u32; 13] =
    [96_000, 88_200, 64_000, 48_000, 44_100, 32_000, 24_000, 22_050, 16_000, 12_000, 11_025, 8_000, 7_350];
