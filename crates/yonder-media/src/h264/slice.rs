//! Beginning of a slice header (ITU-T H.264, 7.3.3), up to the picture order count.

use crate::bits::{BitReader, BitsError};
use crate::nal::unescape;

use super::nal::{NalKind, kind_of};
use super::sps::Sps;

/// Bytes of a slice that contain these fields.
const HEADER_BYTES: usize = 32;

/// First fields of a slice header.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SliceStart {
    /// `first_mb_in_slice`; zero for the first slice of a picture.
    pub first_macroblock: u32,
    /// `pic_order_cnt_lsb`, for picture order count type 0.
    pub order_lsb: Option<u32>,
    /// The picture is an IDR picture.
    pub idr: bool,
}

impl SliceStart {
    /// Parses the beginning of the slice NAL unit `nal` under `sps`.
    ///
    /// # Errors
    /// [`BitsError`] if the unit is truncated.
    pub fn parse(nal: &[u8], sps: &Sps) -> Result<Self, BitsError> {
        let raw = unescape(nal, super::HEADER, HEADER_BYTES);
        let idr = kind_of(nal) == NalKind::IdrSlice;
        let mut r = BitReader::new(&raw);
        let first_macroblock = r.ue()?;
        r.ue()?; // slice_type
        r.ue()?; // pic_parameter_set_id
        if sps.separate_planes {
            r.skip(2)?;
        }
        r.bits(u32::from(sps.frame_num_bits))?;
        if !sps.frames_only && r.bit()? {
            r.skip(1)?; // bottom_field_flag
        }
        if idr {
            r.ue()?; // idr_pic_id
        }
        let order_lsb = if sps.order_type == 0 { Some(r.bits(u32::from(sps.order_lsb_bits))?) } else { None };
        Ok(Self { first_macroblock, order_lsb, idr })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::h264::sps::tests::{SAMPLE_HIGH_1080P, parse};
    #[test]
    fn a_slice_cut_short_is_an_error_not_a_panic() {
        let sps = parse(SAMPLE_HIGH_1080P);
        assert!(SliceStart::parse(&[0x65], &sps).is_err());
        assert!(SliceStart::parse(&[], &sps).is_err());
    }
}
