//! Frames without a change: a P slice in which all macroblocks are skipped (ITU-T H.264, 7.3.3 and 7.3.4). About twenty bytes
//! for any frame size.

use bytes::Bytes;

use crate::bits::{BitReader, BitWriter, BitsError};
use crate::nal::{escape, unescape};

use super::parameters::Config;

/// Maximum size of a picture parameter set that is parsed; typical ones have ten bytes.
const MAX_PPS_BYTES: usize = 256;
/// NAL unit header of a non-IDR reference picture with the lowest `nal_ref_idc`.
const HEADER: u8 = 0x21;
/// `slice_type`: P, and the same for all slices of the picture.
const ALL_P: u32 = 5;

/// Fields of a picture parameter set that determine the slice header.
#[derive(Debug)]
struct PictureSet {
    id: u32,
    order_in_fields: bool,
    controls_deblocking: bool,
    counts_redundant: bool,
}

/// Returns a frame without a change, the `at`-th one after an IDR picture. `at` counts from 1 and must rise by one from
/// frame to frame.
///
/// `None` for streams with other slice headers: arithmetic coding, fields, slice groups, explicit weighting, separate
/// color planes, or picture order count type 1.
#[must_use]
pub fn unchanged_picture(config: &Config, at: u32) -> Option<Bytes> {
    let sps = &config.facts;
    if !sps.frames_only || sps.separate_planes || sps.order_type == 1 {
        return None;
    }
    let set = config.pps.iter().find_map(|pps| PictureSet::read(pps).ok().flatten())?;
    let macroblocks = sps.width.div_ceil(16) * sps.height.div_ceil(16);
    let low_bits = |value: u32, count: u8| value & ((1_u32 << count) - 1);
    let mut bits = BitWriter::default();
    bits.ue(0); // first_mb_in_slice
    bits.ue(ALL_P);
    bits.ue(set.id);
    bits.put(low_bits(at, sps.frame_num_bits), u32::from(sps.frame_num_bits)); // frame_num
    if sps.order_type == 0 {
        // A frame is two fields.
        bits.put(low_bits(2 * at, sps.order_lsb_bits), u32::from(sps.order_lsb_bits));
        if set.order_in_fields {
            bits.ue(0); // delta_pic_order_cnt_bottom
        }
    }
    if set.counts_redundant {
        bits.ue(0); // redundant_pic_cnt
    }
    bits.put(1, 1); // num_ref_idx_active_override_flag
    bits.ue(0); // num_ref_idx_l0_active_minus1: the picture before
    bits.put(0, 1); // ref_pic_list_modification_flag_l0
    bits.put(0, 1); // adaptive_ref_pic_marking_mode_flag
    bits.ue(0); // slice_qp_delta
    if set.controls_deblocking {
        bits.ue(1); // disable_deblocking_filter_idc
    }
    bits.ue(macroblocks); // mb_skip_run
    bits.put(1, 1); // rbsp_stop_one_bit
    Some(escape(HEADER, &bits.finish()))
}

impl PictureSet {
    /// Parses a set (7.3.2.2); `None` if its slice headers are not supported.
    fn read(nal: &[u8]) -> Result<Option<Self>, BitsError> {
        let raw = unescape(nal, super::HEADER, MAX_PPS_BYTES);
        let mut r = BitReader::new(&raw);
        let id = r.ue()?;
        r.ue()?; // seq_parameter_set_id
        let arithmetic = r.bit()?;
        let order_in_fields = r.bit()?;
        if r.ue()? > 0 {
            return Ok(None); // slice groups
        }
        r.ue()?; // num_ref_idx_l0_default_active_minus1
        r.ue()?; // num_ref_idx_l1_default_active_minus1
        let weighted = r.bit()?;
        r.skip(2)?; // weighted_bipred_idc
        for _ in 0..3 {
            r.se()?; // pic_init_qp_minus26, pic_init_qs_minus26, chroma_qp_index_offset
        }
        let controls_deblocking = r.bit()?;
        r.skip(1)?; // constrained_intra_pred_flag
        let counts_redundant = r.bit()?;
        if arithmetic || weighted {
            return Ok(None);
        }
        Ok(Some(Self { id, order_in_fields, controls_deblocking, counts_redundant }))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::h264::sps::tests::{SAMPLE_BASELINE_VGA, SAMPLE_HIGH_1080P};
    use crate::h264::{ParameterSets, SliceStart};

    /// CAVLC with deblocking control; the second one with arithmetic coding.
    const PLAIN: [u8; 4] = [0x68, 0xce, 0x3c, 0x80];
    const ARITHMETIC: [u8; 4] = [0x68, 0xee, 0x3c, 0x80];

    fn config(sps: &[u8], pps: &[u8]) -> Config {
        let mut sets = ParameterSets::default();
        sets.take(&Bytes::copy_from_slice(sps));
        sets.take(&Bytes::copy_from_slice(pps));
        sets.config().unwrap()
    }

    #[test]
    fn header_of_an_unchanged_frame_parses_back() {
        let config = config(SAMPLE_BASELINE_VGA, &PLAIN);
        for at in [1, 2, 15, 16, 255, 300] {
            let nal = unchanged_picture(&config, at).unwrap();
            assert!(nal.len() < 24);
            let start = SliceStart::parse(&nal, &config.facts).unwrap();
            assert_eq!((start.first_macroblock, start.idr), (0, false));
            let lsb = (config.facts.order_type == 0).then(|| 2 * at % (1 << config.facts.order_lsb_bits));
            assert_eq!(start.order_lsb, lsb);
        }
    }

    #[test]
    fn arithmetic_coding_is_not_supported() {
        assert!(unchanged_picture(&config(SAMPLE_HIGH_1080P, &ARITHMETIC), 1).is_none());
    }
}
