//! Beginning of a slice segment header (ITU-T H.265, 7.3.6.1), up to the picture order count.

use crate::bits::{BitReader, BitsError};
use crate::nal::unescape;

use super::nal::{NalKind, kind_of};
use super::pps::Pps;
use super::sps::Sps;

/// Bytes of a slice segment that contain these fields.
const HEADER_BYTES: usize = 24;

/// First fields of the first slice segment of a picture.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SliceStart {
    /// `slice_pic_order_cnt_lsb`; zero for IDR pictures, which have none.
    pub order_lsb: u32,
    /// The picture is an IDR picture.
    pub idr: bool,
    /// Decoding can start at the picture.
    pub random_access: bool,
}

impl SliceStart {
    /// Parses the first slice segment of a picture; `None` for further segments.
    ///
    /// # Errors
    /// [`BitsError`] if the unit is truncated.
    pub fn parse(nal: &[u8], sps: &Sps, pps: &Pps) -> Result<Option<Self>, BitsError> {
        let kind = kind_of(nal);
        let raw = unescape(nal, super::HEADER, HEADER_BYTES);
        let mut r = BitReader::new(&raw);
        if !r.bit()? {
            return Ok(None);
        }
        let (idr, random_access) = (kind == NalKind::Idr, kind.is_random_access());
        if random_access {
            r.skip(1)?; // no_output_of_prior_pics_flag
        }
        r.ue()?; // slice_pic_parameter_set_id
        r.skip(pps.extra_bits)?;
        r.ue()?; // slice_type
        if pps.has_output_flag {
            r.skip(1)?;
        }
        if sps.separate_planes {
            r.skip(2)?;
        }
        let order_lsb = if idr { 0 } else { r.bits(u32::from(sps.order_lsb_bits))? };
        Ok(Some(Self { order_lsb, idr, random_access }))
    }
}
