//! `AudioSpecificConfig` (ISO/IEC 14496-3, 1.6.2.1).

use bytes::Bytes;

use crate::bits::{BitReader, BitsError};

use super::SAMPLE_RATES;

/// Error in an `AudioSpecificConfig`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum ConfigError {
    /// It is truncated.
    #[error(transparent)]
    Bits(#[from] BitsError),
    /// The sampling rate index is reserved.
    #[error("sampling frequency index {0} is reserved")]
    ReservedRate(u32),
    /// An explicit sampling rate of zero.
    #[error("sampling rate is zero")]
    NoRate,
    /// Object type with a configuration of unknown length.
    #[error("audio object type {0} is not supported in this form")]
    Unsupported(u32),
}

/// Fields of an `AudioSpecificConfig`.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct AudioSpecificConfig {
    /// Audio object type; 2 is AAC-LC.
    pub object_type: u8,
    /// Sampling rate of the core coder in hertz.
    pub sample_rate: u32,
    /// Channel count; 0 when the stream describes its channels in-band.
    pub channels: u8,
}

impl AudioSpecificConfig {
    /// Parses the three core fields and ignores the rest.
    ///
    /// # Errors
    /// [`ConfigError`] if it is truncated or has a reserved value.
    pub fn parse(data: &[u8]) -> Result<Self, ConfigError> {
        Self::read_core(&mut BitReader::new(data))
    }

    /// Returns the configuration of AAC-LC at a standard sampling rate, with one to six channels or eight; `None` for others.
    #[must_use]
    pub fn lc(sample_rate: u32, channels: u8) -> Option<Bytes> {
        let rate = SAMPLE_RATES.iter().position(|rate| *rate == sample_rate)?;
        let rate = u8::try_from(rate).ok()?;
        let layout = match channels {
            1..=6 => channels,
            8 => 7,
            _ => return None,
        };
        // Five bits of object type 2, four of the rate, four of the channels.
        Some(Bytes::copy_from_slice(&[2 << 3 | rate >> 1, rate << 7 | layout << 3]))
    }

    /// Parses the configuration and advances the reader past it; LATM has more fields after it.
    ///
    /// # Errors
    /// As [`AudioSpecificConfig::parse`], and [`ConfigError::Unsupported`] for object types of unknown length.
    pub(super) fn read(r: &mut BitReader<'_>) -> Result<Self, ConfigError> {
        let config = Self::read_core(r)?;
        let mut object_type = u32::from(config.object_type);
        if matches!(object_type, 5 | 29) {
            read_rate(r)?; // extensionSamplingFrequency
            object_type = read_object_type(r)?;
        }
        // GASpecificConfig (4.4.1); other coders and channel layouts of a program config element do not occur.
        if !matches!(object_type, 1..=4) || config.channels == 0 {
            return Err(ConfigError::Unsupported(object_type));
        }
        r.skip(1)?; // frameLengthFlag
        if r.bit()? {
            r.skip(14)?; // coreCoderDelay
        }
        r.skip(1)?; // extensionFlag
        Ok(config)
    }

    fn read_core(r: &mut BitReader<'_>) -> Result<Self, ConfigError> {
        let object_type = read_object_type(r)?;
        let sample_rate = read_rate(r)?;
        let channels = match r.bits(4)? {
            7 => 8,
            code => code,
        };
        Ok(Self {
            object_type: u8::try_from(object_type).unwrap_or_default(),
            sample_rate,
            channels: u8::try_from(channels).unwrap_or_default(),
        })
    }
}

fn read_object_type(r: &mut BitReader<'_>) -> Result<u32, ConfigError> {
    let object_type = r.bits(5)?;
    Ok(if object_type == 31 { 32 + r.bits(6)? } else { object_type })
}

fn read_rate(r: &mut BitReader<'_>) -> Result<u32, ConfigError> {
    let rate = match r.bits(4)? {
        15 => r.bits(24)?,
        index => usize::try_from(index)
            .ok()
            .and_then(|index| SAMPLE_RATES.get(index).copied())
            .ok_or(ConfigError::ReservedRate(index))?,
    };
    if rate == 0 { Err(ConfigError::NoRate) } else { Ok(rate) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case(48_000, 2, Some(&[0x11, 0x90][..]))]
    #[case(16_000, 1, Some(&[0x14, 0x08][..]))]
    #[case(8_000, 1, Some(&[0x15, 0x88][..]))]
    #[case(48_000, 7, None)]
    #[case(44_000, 1, None)]
    fn configuration_of_aac_lc_is_made(
        #[case] rate: u32,
        #[case] channels: u8,
        #[case] bytes: Option<&[u8]>,
    ) {
        let made = AudioSpecificConfig::lc(rate, channels);
        assert_eq!(made.as_deref(), bytes);
        let read = made.map(|made| AudioSpecificConfig::parse(&made).unwrap());
        assert!(read.is_none_or(|read| (read.object_type, read.sample_rate, read.channels) == (2, rate, channels)));
    }

    #[rstest]
    #[case::lc_48k_stereo(&[0x11, 0x90], 2, 48_000, 2)]
    #[case::lc_44k_mono(&[0x12, 0x08], 2, 44_100, 1)]
    #[case::lc_16k_mono(&[0x14, 0x08], 2, 16_000, 1)]
    #[case::eight_channels(&[0x11, 0xb8], 2, 48_000, 8)]
    #[case::rate_written_out(&[0x17, 0x80, 0x5d, 0xc0, 0x08], 2, 48_000, 1)]
    #[case::escaped_object_type(&[0xf8, 0x46, 0x40], 34, 48_000, 2)]
    fn configurations_are_read(
        #[case] data: &[u8],
        #[case] object: u8,
        #[case] rate: u32,
        #[case] channels: u8,
    ) {
        let config = AudioSpecificConfig::parse(data).unwrap();
        assert_eq!((config.object_type, config.sample_rate, config.channels), (object, rate, channels));
    }

    #[test]
    fn a_reserved_rate_and_a_short_configuration_are_refused() {
        assert_eq!(AudioSpecificConfig::parse(&[0x16, 0x90]), Err(ConfigError::ReservedRate(13)));
        assert!(matches!(AudioSpecificConfig::parse(&[0x11]), Err(ConfigError::Bits(_))));
    }

    proptest! {
        #[test]
        fn any_bytes_are_parsed_or_refused(data: Vec<u8>) {
            if let Ok(config) = AudioSpecificConfig::parse(&data) {
                prop_assert!(config.sample_rate > 0);
            }
        }
    }
}
