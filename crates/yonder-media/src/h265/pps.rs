//! Picture parameter set (ITU-T H.265, 7.3.2.3), up to the fields that determine slice headers.

use crate::bits::{BitReader, BitsError};
use crate::nal::unescape;

/// Fields of a picture parameter set that determine the slice segment header.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Pps {
    /// `pps_pic_parameter_set_id`.
    pub id: u32,
    /// `pps_seq_parameter_set_id`.
    pub sps_id: u32,
    /// `output_flag_present_flag`.
    pub has_output_flag: bool,
    /// `num_extra_slice_header_bits`.
    pub extra_bits: u32,
}

impl Pps {
    /// Parses the NAL unit `nal`, including its header.
    ///
    /// # Errors
    /// [`BitsError`] if it is truncated.
    pub fn parse(nal: &[u8]) -> Result<Self, BitsError> {
        let raw = unescape(nal, super::HEADER, 16);
        let mut r = BitReader::new(&raw);
        let (id, sps_id) = (r.ue()?, r.ue()?);
        r.skip(1)?; // dependent_slice_segments_enabled_flag
        Ok(Self { id, sps_id, has_output_flag: r.bit()?, extra_bits: r.bits(3)? })
    }
}
