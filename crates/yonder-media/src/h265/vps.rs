//! The video parameter set (ITU-T H.265, 7.3.2.1), read for its frame rate: some encoders declare it only here.

use crate::bits::{BitReader, BitsError};
use crate::nal::unescape;

use super::level::ProfileTierLevel;

const MAX_VPS_BYTES: usize = 1024;
/// Most layer sets whose flags are passed over; single-layer streams have one.
const MAX_LAYER_SETS: u32 = 1023;

/// The facts of a video parameter set.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Vps {
    /// Frames per second as numerator and denominator, where declared.
    pub frame_rate: Option<(u32, u32)>,
}

impl Vps {
    /// Reads the NAL unit `nal`, header included.
    ///
    /// # Errors
    /// [`BitsError`] when it is cut short.
    pub fn parse(nal: &[u8]) -> Result<Self, BitsError> {
        let raw = unescape(nal, super::HEADER, MAX_VPS_BYTES);
        let mut r = BitReader::new(&raw);
        r.skip(12)?; // identifier, two flags, vps_max_layers_minus1
        let sub_layers = r.bits(3)?;
        r.skip(17)?; // vps_temporal_id_nesting_flag, vps_reserved_0xffff_16bits
        ProfileTierLevel::read(&mut r, sub_layers)?;
        let all = r.bit()?; // vps_sub_layer_ordering_info_present_flag
        for _ in (if all { 0 } else { sub_layers })..=sub_layers {
            for _ in 0..3 {
                r.ue()?;
            }
        }
        let max_layer = r.bits(6)?;
        let layer_sets = r.ue()?.min(MAX_LAYER_SETS);
        r.skip(layer_sets * (max_layer + 1))?;
        if !r.bit()? {
            return Ok(Self { frame_rate: None });
        }
        let (units, scale) = (r.bits(32)?, r.bits(32)?);
        Ok(Self { frame_rate: super::sps::frame_rate(units, scale) })
    }
}
