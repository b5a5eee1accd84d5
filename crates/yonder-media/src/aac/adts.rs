//! ADTS files (ISO/IEC 14496-3, 1.A.2.2): AAC frames with a header each.

use bytes::{BufMut, Bytes, BytesMut};

use crate::bits::{BitReader, BitsError};
use crate::stream::AudioConfig;

use super::SAMPLE_RATES;
use super::config::{AudioSpecificConfig, ConfigError};

/// Bytes of a header without a check value.
const HEADER: usize = 7;

/// Error in an ADTS file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum AdtsError {
    /// A header does not begin where the last frame ended.
    #[error("no ADTS header at byte {at}")]
    NoHeader {
        /// Offset of the expected header.
        at: usize,
    },
    /// A frame is longer than the rest of the file.
    #[error("frame at byte {at} is cut short")]
    Short {
        /// Offset of the frame's header.
        at: usize,
    },
    /// The header holds reserved values.
    #[error(transparent)]
    Config(#[from] ConfigError),
    /// The file contains no frame.
    #[error("no frames")]
    Empty,
}

impl From<BitsError> for AdtsError {
    fn from(error: BitsError) -> Self {
        Self::Config(ConfigError::Bits(error))
    }
}

/// Splits an ADTS file into raw frames and the configuration from its first header. Shares `data`.
///
/// # Errors
/// [`AdtsError`] with the offset of the first fault.
pub fn split_adts(data: &Bytes) -> Result<(AudioConfig, Vec<Bytes>), AdtsError> {
    let mut frames = Vec::new();
    let mut config = None;
    let mut at = 0_usize;
    while at < data.len() {
        let mut r = BitReader::new(data.get(at..).unwrap_or_default());
        if r.bits(12)? != 0xfff {
            return Err(AdtsError::NoHeader { at });
        }
        r.skip(3)?; // ID, layer
        let unprotected = r.bit()?;
        let profile = r.bits(2)?;
        let rate = r.bits(4)?;
        r.skip(1)?;
        let channels = r.bits(3)?;
        r.skip(4)?;
        let length = usize::try_from(r.bits(13)?).unwrap_or_default();
        let header = if unprotected { HEADER } else { HEADER + 2 };
        if length <= header || at + length > data.len() {
            return Err(AdtsError::Short { at });
        }
        if config.is_none() {
            config = Some(specific_config(profile + 1, rate, channels)?);
        }
        frames.push(data.slice(at + header..at + length));
        at += length;
    }
    Ok((config.ok_or(AdtsError::Empty)?, frames))
}

/// Returns the ADTS header, without CRC, of a raw frame of `frame` bytes; `None` if ADTS cannot express the configuration or
/// the length.
#[must_use]
pub fn adts_header(facts: &AudioSpecificConfig, frame: usize) -> Option<Bytes> {
    let rate = SAMPLE_RATES.iter().position(|rate| *rate == facts.sample_rate)?;
    let rate = u64::try_from(rate).ok()?;
    // The profile field is the object type of the core coder minus one; decoders detect the extensions of HE-AAC themselves.
    let profile = match facts.object_type {
        object @ 1..=4 => u64::from(object - 1),
        5 | 29 => 1,
        _ => return None,
    };
    let channels = match facts.channels {
        8 => 7,
        channels @ 1..=6 => u64::from(channels),
        _ => return None,
    };
    let length = u64::try_from(frame + HEADER).ok().filter(|length| *length < 1 << 13)?;
    // syncword, MPEG-4, layer 0, no check value; then the fields, and a buffer fullness of all ones.
    let word = 0xfff1 << 40 | profile << 38 | rate << 34 | channels << 30 | length << 13 | 0x7ff << 2;
    let mut header = BytesMut::with_capacity(HEADER);
    header.put_uint(word, HEADER);
    Some(header.freeze())
}

fn specific_config(object_type: u32, rate: u32, channels: u32) -> Result<AudioConfig, ConfigError> {
    let word = u16::try_from((object_type << 11 | rate << 7 | channels << 3) & 0xffff).unwrap_or_default();
    let mut specific = BytesMut::with_capacity(2);
    specific.put_u16(word);
    Ok(AudioConfig::Aac { facts: AudioSpecificConfig::parse(&specific)?, specific: specific.freeze() })
}

#[cfg(test)]
mod tests {
    use super::*;

    /// AAC-LC, 48 kHz, stereo, 10 bytes in all.
    const FRAME: [u8; 10] = [0xff, 0xf1, 0x4c, 0x80, 0x01, 0x5f, 0xfc, 0xaa, 0xbb, 0xcc];

    #[test]
    fn frames_come_out_without_headers_and_the_configuration_with_them() {
        let (config, frames) = split_adts(&Bytes::from([FRAME, FRAME].concat())).unwrap();
        assert_eq!(frames, vec![&[0xaa, 0xbb, 0xcc][..]; 2]);
        assert_eq!((config.sample_rate(), config.channels()), (48_000, 2));
        let AudioConfig::Aac { specific, .. } = config else { panic!("{config:?}") };
        assert_eq!(specific[..], [0x11, 0x90]);
    }

    #[test]
    fn header_survives_a_round_trip() {
        let facts = AudioSpecificConfig { object_type: 2, sample_rate: 48_000, channels: 2 };
        assert_eq!(adts_header(&facts, 3).unwrap()[..], FRAME[..7]);
        assert_eq!(adts_header(&facts, 8_185), None);
        assert_eq!(adts_header(&AudioSpecificConfig { channels: 0, ..facts }, 3), None);
        assert_eq!(adts_header(&AudioSpecificConfig { sample_rate: 12_345, ..facts }, 3), None);
    }

    #[test]
    fn invalid_file_is_refused_with_the_offset() {
        let cut = Bytes::from([&FRAME[..], &FRAME[..9]].concat());
        assert_eq!(split_adts(&cut).unwrap_err(), AdtsError::Short { at: 10 });
        let other = Bytes::from([&FRAME[..], b"RIFFRIFFRIFF"].concat());
        assert_eq!(split_adts(&other).unwrap_err(), AdtsError::NoHeader { at: 10 });
        assert_eq!(split_adts(&Bytes::new()).unwrap_err(), AdtsError::Empty);
    }
}
