//! Video parameter set (ITU-T H.265, 7.3.2.1), parsed for its frame rate, which some encoders declare only here.

use crate::bits::{BitReader, BitsError};
use crate::nal::unescape;
use crate::ticks::FrameRate;

use super::level::ProfileTierLevel;

const MAX_VPS_BYTES: usize = 1024;
/// Maximum layer sets to skip; single-layer streams have one.
const MAX_LAYER_SETS: u32 = 1023;

/// Fields of a video parameter set.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Vps {
    /// Frames per second as numerator and denominator, if declared.
    pub frame_rate: Option<FrameRate>,
}

impl Vps {
    /// Parses the NAL unit `nal`, including its header.
    ///
    /// # Errors
    /// [`BitsError`] if it is truncated.
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
