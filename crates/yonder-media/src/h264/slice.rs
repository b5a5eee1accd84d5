//! The beginning of a slice header (ITU-T H.264, 7.3.3), as far as picture order count, and the count itself.

use crate::bits::{BitReader, BitsError};

use super::nal::{NalKind, kind_of, unescape};
use super::sps::Sps;

/// Bytes of a slice that are enough for the fields read here.
const HEADER_BYTES: usize = 32;

/// The first fields of a slice header.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SliceStart {
    /// `first_mb_in_slice`: zero begins a new picture.
    pub first_macroblock: u32,
    /// `pic_order_cnt_lsb`, for streams of order type 0.
    pub order_lsb: Option<u32>,
    /// The picture is an IDR picture.
    pub idr: bool,
}

impl SliceStart {
    /// Reads the beginning of the slice NAL unit `nal` under `sps`.
    ///
    /// # Errors
    /// [`BitsError`] when the unit is cut short.
    pub fn parse(nal: &[u8], sps: &Sps) -> Result<Self, BitsError> {
        let raw = unescape(nal, HEADER_BYTES);
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

/// Unwraps picture order counts of type 0 (8.2.1.1) over a stream whose pictures all are references or whose
/// count moves by less than half its range between pictures, as every real encoder's does.
#[derive(Debug, Clone, Default)]
pub struct PictureOrder {
    msb: i64,
    last_lsb: i64,
}

impl PictureOrder {
    /// The full count of the picture that `slice` begins, relative to its last IDR picture.
    pub fn next(&mut self, slice: &SliceStart, sps: &Sps) -> i64 {
        let lsb = i64::from(slice.order_lsb.unwrap_or_default());
        let range = 1_i64 << sps.order_lsb_bits;
        if slice.idr {
            self.msb = 0;
        } else if lsb < self.last_lsb && self.last_lsb - lsb >= range / 2 {
            self.msb += range;
        } else if lsb > self.last_lsb && lsb - self.last_lsb > range / 2 {
            self.msb -= range;
        }
        self.last_lsb = lsb;
        self.msb + lsb
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::h264::sps::tests::{SAMPLE_HIGH_1080P, parse};

    fn slice(idr: bool, lsb: u32) -> SliceStart {
        SliceStart { first_macroblock: 0, order_lsb: Some(lsb), idr }
    }

    #[test]
    fn order_counts_run_on_over_the_wrap_of_their_low_bits() {
        let mut sps = parse(SAMPLE_HIGH_1080P);
        sps.order_lsb_bits = 4;
        let mut order = PictureOrder::default();
        let counts: Vec<i64> =
            [(true, 0), (false, 6), (false, 2), (false, 4), (false, 12), (false, 2), (false, 14)]
                .into_iter()
                .map(|(idr, lsb)| order.next(&slice(idr, lsb), &sps))
                .collect();
        assert_eq!(counts, vec![0, 6, 2, 4, 12, 18, 14]);
    }

    #[test]
    fn a_slice_cut_short_is_an_error_not_a_panic() {
        let sps = parse(SAMPLE_HIGH_1080P);
        assert!(SliceStart::parse(&[0x65], &sps).is_err());
        assert!(SliceStart::parse(&[], &sps).is_err());
    }
}
