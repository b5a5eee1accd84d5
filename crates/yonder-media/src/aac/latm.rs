//! LATM (ISO/IEC 14496-3, 1.7.3): AAC frames in multiplex elements, as RFC 6416 carries them.

use bytes::Bytes;

use crate::bits::{BitReader, BitsError};

use super::config::{AudioSpecificConfig, ConfigError};

/// Maximum frames in an element: `numSubFrames` has six bits.
const MAX_FRAMES: u32 = 64;
/// Maximum size of a frame: 6144 bits per channel, 48 channels.
const MAX_FRAME_BYTES: usize = 48 * 768;

/// Error in an element or its configuration.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum LatmError {
    /// It is truncated.
    #[error(transparent)]
    Bits(#[from] BitsError),
    /// Invalid configuration of the codec.
    #[error(transparent)]
    Config(#[from] ConfigError),
    /// A part of the format that single AAC streams do not need.
    #[error("{0} is not supported")]
    Unsupported(&'static str),
    /// An element before its configuration.
    #[error("no configuration yet")]
    NoConfig,
}

/// `StreamMuxConfig` (1.7.3.2.3) of one AAC stream.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StreamMux {
    /// The `AudioSpecificConfig`, padded to whole bytes.
    pub specific: Bytes,
    /// Frames in each element.
    frames: u32,
    other_data_bits: u32,
}

impl StreamMux {
    /// Parses an out-of-band configuration.
    ///
    /// # Errors
    /// [`LatmError`] if it is truncated or describes more than one AAC stream.
    pub fn parse(data: &[u8]) -> Result<Self, LatmError> {
        Self::read(&mut BitReader::new(data))
    }

    fn read(r: &mut BitReader<'_>) -> Result<Self, LatmError> {
        if r.bit()? {
            return Err(LatmError::Unsupported("audioMuxVersion 1"));
        }
        if !r.bit()? {
            return Err(LatmError::Unsupported("several time framings"));
        }
        let frames = r.bits(6)? + 1;
        if r.bits(4)? != 0 || r.bits(3)? != 0 {
            return Err(LatmError::Unsupported("more than one program or layer"));
        }
        let mut copy = r.clone();
        let begin = r.position();
        AudioSpecificConfig::read(r)?;
        let specific = take_bits(&mut copy, r.position() - begin)?;
        if r.bits(3)? != 0 {
            return Err(LatmError::Unsupported("a frame length type other than 0"));
        }
        r.skip(8)?; // latmBufferFullness
        let mut other_data_bits = 0_u32;
        if r.bit()? {
            loop {
                let more = r.bit()?;
                other_data_bits = other_data_bits.saturating_mul(256).saturating_add(r.bits(8)?);
                if !more {
                    break;
                }
            }
        }
        if r.bit()? {
            r.skip(8)?; // crcCheckSum
        }
        Ok(Self { specific, frames: frames.min(MAX_FRAMES), other_data_bits })
    }

    /// Extracts the frames of an element. With `in_band` the element may begin with a new configuration, which replaces
    /// `known`.
    ///
    /// # Errors
    /// [`LatmError`] if the element is truncated or has no configuration.
    pub fn take_frames(
        known: &mut Option<Self>,
        in_band: bool,
        data: &Bytes,
    ) -> Result<Vec<Bytes>, LatmError> {
        let mut r = BitReader::new(data);
        // useSameStreamMux
        if in_band && !r.bit()? {
            *known = Some(Self::read(&mut r)?);
        }
        let mux = known.as_ref().ok_or(LatmError::NoConfig)?;
        let mut frames = Vec::new();
        for _ in 0..mux.frames {
            let length = read_length(&mut r)?;
            frames.push(take_frame(&mut r, data, length)?);
        }
        r.skip(mux.other_data_bits)?;
        Ok(frames)
    }
}

/// `PayloadLengthInfo` (1.7.3.2.5) for frame length type 0: the sum of bytes up to one that is not 255.
fn read_length(r: &mut BitReader<'_>) -> Result<usize, LatmError> {
    let mut length = 0_usize;
    loop {
        let part = usize::try_from(r.bits(8)?).unwrap_or_default();
        length += part;
        if part != 255 {
            return Ok(length);
        }
        if length > MAX_FRAME_BYTES {
            return Err(LatmError::Unsupported("a frame longer than any"));
        }
    }
}

/// Extracts a frame: shared if it is byte-aligned, otherwise shifted into a copy.
fn take_frame(r: &mut BitReader<'_>, data: &Bytes, length: usize) -> Result<Bytes, LatmError> {
    let at = r.position();
    if !at.is_multiple_of(8) {
        return Ok(take_bits(r, length * 8)?);
    }
    let end = at / 8 + length;
    if end > data.len() {
        return Err(BitsError::Ended { at: data.len() * 8 }.into());
    }
    r.skip(u32::try_from(length * 8).unwrap_or(u32::MAX))?;
    Ok(data.slice(at / 8..end))
}

fn take_bits(r: &mut BitReader<'_>, mut count: usize) -> Result<Bytes, BitsError> {
    let mut bytes = Vec::with_capacity(count.div_ceil(8).min(MAX_FRAME_BYTES));
    while count > 0 {
        let now = count.min(8);
        let width = u32::try_from(now).unwrap_or_default();
        bytes.push(u8::try_from(r.bits(width)? << (8 - width) & 0xff).unwrap_or_default());
        count -= now;
    }
    Ok(Bytes::from(bytes))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// RFC 6416, 7.4.1: AAC-LC, 44.1 kHz, one channel, one frame an element.
    const CONFIG: [u8; 6] = [0x40, 0x00, 0x24, 0x10, 0x3f, 0xc0];

    #[test]
    fn a_configuration_gives_its_audio_specific_config() {
        let mux = StreamMux::parse(&CONFIG).unwrap();
        let facts = AudioSpecificConfig::parse(&mux.specific).unwrap();
        assert_eq!((facts.object_type, facts.sample_rate, facts.channels), (2, 44_100, 1));
        assert_eq!((mux.frames, mux.other_data_bits), (1, 0));
    }

    #[test]
    fn frames_are_shared_and_long_ones_add_up_their_length() {
        let mut known = StreamMux::parse(&CONFIG).ok();
        let mut element = vec![255, 45];
        element.extend((0..300_u16).map(|at| (at & 0xff) as u8));
        let element = Bytes::from(element);
        let frames = StreamMux::take_frames(&mut known, false, &element).unwrap();
        assert_eq!(frames, vec![element.slice(2..)]);
        assert_eq!(frames[0].as_ptr(), element[2..].as_ptr());
    }

    #[test]
    fn a_configuration_in_band_shifts_the_frame() {
        // useSameStreamMux 0, the configuration's 44 bits, then length 2 and two bytes.
        let bits = format!(
            "0{}{:08b}{:08b}{:08b}",
            CONFIG.iter().map(|byte| format!("{byte:08b}")).collect::<String>().split_at(44).0,
            2,
            0xab,
            0xcd
        );
        let element: Vec<u8> = bits
            .as_bytes()
            .chunks(8)
            .map(|chunk| chunk.iter().enumerate().fold(0, |byte, (at, bit)| byte | (bit - b'0') << (7 - at)))
            .collect();
        let mut known = None;
        let frames = StreamMux::take_frames(&mut known, true, &Bytes::from(element)).unwrap();
        assert_eq!(frames, vec![Bytes::from_static(&[0xab, 0xcd])]);
        assert!(known.is_some());
    }

    #[test]
    fn an_element_before_its_configuration_or_cut_short_is_refused() {
        let element = Bytes::from_static(&[0x80, 0x01, 0x00]);
        assert_eq!(StreamMux::take_frames(&mut None, true, &element), Err(LatmError::NoConfig));
        let mut known = StreamMux::parse(&CONFIG).ok();
        let short = Bytes::from_static(&[9, 1, 2]);
        assert!(matches!(StreamMux::take_frames(&mut known, false, &short), Err(LatmError::Bits(_))));
        assert_eq!(StreamMux::parse(&[0x80]), Err(LatmError::Unsupported("audioMuxVersion 1")));
    }

    proptest! {
        #[test]
        fn any_bytes_are_parsed_or_refused(data: Vec<u8>, in_band: bool) {
            let mut known = StreamMux::parse(&CONFIG).ok();
            if let Ok(frames) = StreamMux::take_frames(&mut known, in_band, &Bytes::from(data.clone())) {
                prop_assert!(frames.iter().map(Bytes::len).sum::<usize>() <= data.len());
            }
        }
    }
}
