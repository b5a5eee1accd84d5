//! Sequence parameter set (ITU-T H.265, 7.3.2.2) with video usability information (annex E).

use crate::bits::BitReader;
use crate::nal::unescape;
use crate::range::{bounded, byte};
use crate::ticks::FrameRate;

pub use crate::range::SpsError;

use super::level::ProfileTierLevel;
use super::nal::{NalKind, kind_of};

/// Maximum size that is parsed. Real ones are under 150 bytes, with scaling lists up to 1200.
const MAX_SPS_BYTES: usize = 4096;
/// Maximum width and height, in samples. Level 6.2 allows about 8 444.
const MAX_EDGE: u32 = 16_384;
/// `num_short_term_ref_pic_sets` (7.4.3.2.1).
const MAX_SHORT_TERM_SETS: u32 = 64;
/// Maximum pictures in a set: `sps_max_dec_pic_buffering_minus1` is at most 15.
const MAX_SET_PICTURES: u32 = 16;

/// Fields of a sequence parameter set.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Sps {
    /// Profile, tier and level.
    pub level: ProfileTierLevel,
    /// `sps_max_sub_layers_minus1` plus one.
    pub sub_layers: u8,
    /// `sps_temporal_id_nesting_flag`.
    pub nested: bool,
    /// `sps_seq_parameter_set_id`.
    pub id: u32,
    /// `chroma_format_idc`; 1 is 4:2:0.
    pub chroma_format: u8,
    /// Bits per luma sample.
    pub luma_bits: u8,
    /// Bits per chroma sample.
    pub chroma_bits: u8,
    /// Picture width in samples after the conformance window.
    pub width: u32,
    /// Picture height in samples after the conformance window.
    pub height: u32,
    /// Frames per second as numerator and denominator, if declared.
    pub frame_rate: Option<FrameRate>,
    /// `sps_max_num_reorder_pics` of the highest sub-layer.
    pub reorder_frames: u8,
    /// Bits of `slice_pic_order_cnt_lsb`.
    pub order_lsb_bits: u8,
    /// Color planes are coded separately, which adds a field to slice headers.
    pub separate_planes: bool,
}

impl Sps {
    /// Parses the NAL unit `nal`, including its header.
    ///
    /// # Errors
    /// [`SpsError`] for another type, a truncated unit, or a value out of range.
    pub fn parse(nal: &[u8]) -> Result<Self, SpsError> {
        if kind_of(nal) != NalKind::Sps {
            return Err(SpsError::NotAnSps);
        }
        let raw = unescape(nal, super::HEADER, MAX_SPS_BYTES);
        let mut r = BitReader::new(&raw);
        r.skip(4)?; // sps_video_parameter_set_id
        let sub_layers = bounded("sps_max_sub_layers_minus1", r.bits(3)?, 6)?;
        let nested = r.bit()?;
        let level = ProfileTierLevel::read(&mut r, sub_layers)?;
        let id = bounded("sps_seq_parameter_set_id", r.ue()?, 15)?;
        let chroma_format = bounded("chroma_format_idc", r.ue()?, 3)?;
        let separate_planes = chroma_format == 3 && r.bit()?;
        let (width, height) = read_size(&mut r, chroma_format, separate_planes)?;
        let luma_bits = bounded("bit_depth_luma_minus8", r.ue()?, 8)? + 8;
        let chroma_bits = bounded("bit_depth_chroma_minus8", r.ue()?, 8)? + 8;
        let order_lsb_bits = bounded("log2_max_pic_order_cnt_lsb_minus4", r.ue()?, 12)? + 4;
        let reorder_frames = read_ordering(&mut r, sub_layers)?;
        // The rest is needed for the frame rate only; a fault in it does not matter.
        let frame_rate = read_to_frame_rate(&mut r, chroma_format, order_lsb_bits).ok().flatten();
        Ok(Self {
            level,
            sub_layers: byte(sub_layers + 1),
            nested,
            id,
            chroma_format: byte(chroma_format),
            luma_bits: byte(luma_bits),
            chroma_bits: byte(chroma_bits),
            width,
            height,
            frame_rate,
            reorder_frames: byte(reorder_frames),
            order_lsb_bits: byte(order_lsb_bits),
            separate_planes,
        })
    }
}

/// Returns the frame rate of `units` ticks of a clock with `scale` ticks per second, if it is a valid one.
pub(super) fn frame_rate(units: u32, scale: u32) -> Option<FrameRate> {
    if units == 0 || scale == 0 || scale / units > 1_000 {
        return None;
    }
    let divisor = greatest_common_divisor(units, scale);
    Some(FrameRate { frames: scale / divisor, per: units / divisor })
}

fn greatest_common_divisor(mut a: u32, mut b: u32) -> u32 {
    while b != 0 {
        (a, b) = (b, a % b);
    }
    a.max(1)
}

fn read_size(r: &mut BitReader<'_>, chroma_format: u32, separate: bool) -> Result<(u32, u32), SpsError> {
    let width = bounded("pic_width_in_luma_samples", r.ue()?, MAX_EDGE)?;
    let height = bounded("pic_height_in_luma_samples", r.ue()?, MAX_EDGE)?;
    let (mut crop_x, mut crop_y) = (0, 0);
    if r.bit()? {
        // Table 6-1: one unit of the window is one chroma sample.
        let (unit_x, unit_y) = match chroma_format {
            1 => (2, 2),
            2 => (2, 1),
            _ => (1, 1),
        };
        let (unit_x, unit_y) = if separate { (1, 1) } else { (unit_x, unit_y) };
        crop_x = r.ue()?.saturating_add(r.ue()?).saturating_mul(unit_x);
        crop_y = r.ue()?.saturating_add(r.ue()?).saturating_mul(unit_y);
    }
    // As in decoders, a conformance window that leaves nothing is ignored.
    let shrink = |edge: u32, crop: u32| edge.checked_sub(crop).filter(|left| *left > 0).unwrap_or(edge);
    Ok((shrink(width, crop_x), shrink(height, crop_y)))
}

/// The reorder depth of the highest sub-layer, which comes last.
fn read_ordering(r: &mut BitReader<'_>, sub_layers: u32) -> Result<u32, SpsError> {
    let all = r.bit()?;
    let mut reorder = 0;
    for _ in (if all { 0 } else { sub_layers })..=sub_layers {
        r.ue()?; // sps_max_dec_pic_buffering_minus1
        reorder = bounded("sps_max_num_reorder_pics", r.ue()?, 15)?;
        r.ue()?; // sps_max_latency_increase_plus1
    }
    Ok(reorder)
}

fn read_to_frame_rate(
    r: &mut BitReader<'_>,
    chroma_format: u32,
    order_lsb_bits: u32,
) -> Result<Option<FrameRate>, SpsError> {
    for _ in 0..6 {
        r.ue()?; // block sizes and transform depths
    }
    if r.bit()? && r.bit()? {
        skip_scaling_lists(r, chroma_format)?;
    }
    r.skip(2)?; // amp_enabled_flag, sample_adaptive_offset_enabled_flag
    if r.bit()? {
        r.skip(8)?; // PCM sample bit depths
        r.ue()?;
        r.ue()?;
        r.skip(1)?;
    }
    skip_short_term_sets(r)?;
    if r.bit()? {
        let count = bounded("num_long_term_ref_pics_sps", r.ue()?, 32)?;
        r.skip(count * (order_lsb_bits + 1))?;
    }
    r.skip(2)?; // sps_temporal_mvp_enabled_flag, strong_intra_smoothing_enabled_flag
    if !r.bit()? {
        return Ok(None);
    }
    read_usability(r)
}

/// Skips scaling lists (7.3.4).
fn skip_scaling_lists(r: &mut BitReader<'_>, chroma_format: u32) -> Result<(), SpsError> {
    for size in 0..4_u32 {
        let step = if size == 3 && chroma_format != 3 { 3 } else { 1 };
        for _ in (0..6).step_by(step) {
            if !r.bit()? {
                r.ue()?; // scaling_list_pred_matrix_id_delta
                continue;
            }
            if size > 1 {
                r.se()?; // scaling_list_dc_coef_minus8
            }
            for _ in 0..(1_u32 << (4 + 2 * size)).min(64) {
                r.se()?;
            }
        }
    }
    Ok(())
}

/// Skips short-term reference picture sets (7.3.7); each may be coded as a difference from the previous one.
fn skip_short_term_sets(r: &mut BitReader<'_>) -> Result<(), SpsError> {
    let count = bounded("num_short_term_ref_pic_sets", r.ue()?, MAX_SHORT_TERM_SETS)?;
    let mut pictures_before = 0_u32;
    for set in 0..count {
        if set > 0 && r.bit()? {
            r.skip(1)?; // delta_rps_sign
            r.ue()?; // abs_delta_rps_minus1
            let mut stored = 0;
            for _ in 0..=pictures_before {
                let used = r.bit()?;
                // `use_delta_flag` is 1 if it is not present.
                if used || r.bit()? {
                    stored += 1;
                }
            }
            pictures_before = bounded("NumDeltaPocs", stored, MAX_SET_PICTURES)?;
            continue;
        }
        let negative = bounded("num_negative_pics", r.ue()?, MAX_SET_PICTURES)?;
        let positive = bounded("num_positive_pics", r.ue()?, MAX_SET_PICTURES)?;
        for _ in 0..negative + positive {
            r.ue()?;
            r.skip(1)?;
        }
        pictures_before = negative + positive;
    }
    Ok(())
}

/// Parses video usability information (E.2.1) up to the timing.
fn read_usability(r: &mut BitReader<'_>) -> Result<Option<FrameRate>, SpsError> {
    if r.bit()? && r.bits(8)? == 255 {
        r.skip(32)?; // sar_width, sar_height
    }
    if r.bit()? {
        r.skip(1)?; // overscan_appropriate_flag
    }
    if r.bit()? {
        r.skip(4)?; // video_format, video_full_range_flag
        if r.bit()? {
            r.skip(24)?;
        }
    }
    if r.bit()? {
        r.ue()?;
        r.ue()?;
    }
    r.skip(1)?; // neutral_chroma_indication_flag
    let fields = r.bit()?;
    r.skip(1)?; // frame_field_info_present_flag
    if r.bit()? {
        for _ in 0..4 {
            r.ue()?;
        }
    }
    if !r.bit()? {
        return Ok(None);
    }
    let (units, scale) = (r.bits(32)?, r.bits(32)?);
    // A picture is a field: two of them are a frame.
    let units = if fields { units.saturating_mul(2) } else { units };
    Ok(frame_rate(units, scale))
}

#[cfg(test)]
#[path = "sps_tests.rs"]
pub(crate) mod tests;
