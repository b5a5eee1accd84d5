//! Sequence parameter set (ITU-T H.264, 7.3.2.1.1) with video usability information (annex E).

use crate::bits::{BitReader, BitsError};
use crate::nal::unescape;
use crate::range::{bounded, byte};
use crate::ticks::FrameRate;

pub use crate::range::SpsError;

use super::nal::{NalKind, kind_of};

/// Maximum size that is parsed. Real ones are under 100 bytes, with scaling lists up to 300.
const MAX_SPS_BYTES: usize = 1024;
/// Maximum width and height, in macroblocks: 16 384 samples. Level 6.2 allows about 8 192.
const MAX_EDGE_MACROBLOCKS: u32 = 1024;

/// Fields of a sequence parameter set.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Sps {
    /// `profile_idc`.
    pub profile: u8,
    /// The six constraint flags and two reserved bits, as one byte.
    pub constraints: u8,
    /// `level_idc`: ten times the level.
    pub level: u8,
    /// `seq_parameter_set_id`.
    pub id: u32,
    /// `chroma_format_idc`; 1 is 4:2:0.
    pub chroma_format: u8,
    /// Bits per luma sample.
    pub luma_bits: u8,
    /// Bits per chroma sample.
    pub chroma_bits: u8,
    /// Picture width in samples after cropping.
    pub width: u32,
    /// Picture height in samples after cropping.
    pub height: u32,
    /// Frames (not fields) per second as numerator and denominator, if declared.
    pub frame_rate: Option<FrameRate>,
    /// `max_num_reorder_frames`: maximum number of frames that precede a frame in decoding order and follow it in
    /// output order. Zero if the syntax excludes reordering; `None` if it is not declared.
    pub reorder_frames: Option<u8>,
    /// Bits of `frame_num`.
    pub frame_num_bits: u8,
    /// `pic_order_cnt_type`.
    pub order_type: u8,
    /// Bits of `pic_order_cnt_lsb`; zero unless `order_type` is 0.
    pub order_lsb_bits: u8,
    /// All pictures are whole frames.
    pub frames_only: bool,
    /// Color planes are coded separately, which adds a field to slice headers.
    pub separate_planes: bool,
}

impl Sps {
    /// Parses the NAL unit `nal`, including its header byte.
    ///
    /// # Errors
    /// [`SpsError`] for another type, a truncated unit, or a value out of range.
    pub fn parse(nal: &[u8]) -> Result<Self, SpsError> {
        if kind_of(nal) != NalKind::Sps {
            return Err(SpsError::NotAnSps);
        }
        let raw = unescape(nal, super::HEADER, MAX_SPS_BYTES);
        let mut r = BitReader::new(&raw);
        let profile = byte(r.bits(8)?);
        let constraints = byte(r.bits(8)?);
        let level = byte(r.bits(8)?);
        let id = bounded("seq_parameter_set_id", r.ue()?, 31)?;
        let chroma = Chroma::read(&mut r, profile)?;
        let frame_num_bits = byte(bounded("log2_max_frame_num_minus4", r.ue()?, 12)? + 4);
        let (order_type, order_lsb_bits) = read_picture_order(&mut r)?;
        r.ue()?; // max_num_ref_frames: some cameras exceed the limit of 16
        r.skip(1)?; // gaps_in_frame_num_value_allowed_flag
        let size = FrameSize::read(&mut r)?;
        r.skip(1)?; // direct_8x8_inference_flag
        let (width, height) = size.cropped(&mut r, &chroma)?;
        let usability = if r.bit()? { Usability::read(&mut r) } else { Usability::default() };
        // Baseline has no B slices, and picture order count type 2 excludes reordering (8.2.1.3).
        let reorder_frames =
            if profile == 66 || order_type == 2 { Some(0) } else { usability.reorder_frames };
        Ok(Self {
            profile,
            constraints,
            level,
            id,
            chroma_format: chroma.format,
            luma_bits: chroma.luma_bits,
            chroma_bits: chroma.chroma_bits,
            width,
            height,
            frame_rate: usability.frame_rate,
            reorder_frames,
            frame_num_bits,
            order_type,
            order_lsb_bits,
            frames_only: size.frames_only,
            separate_planes: chroma.separate_planes,
        })
    }

    /// Returns the frame rate, if declared.
    #[must_use]
    pub fn fps(&self) -> Option<f64> {
        self.frame_rate.map(FrameRate::fps)
    }

    /// Returns the usual name of the profile (ITU-T H.264, A.2).
    #[must_use]
    pub fn profile_name(&self) -> &'static str {
        match (self.profile, self.constraints & 0x40 != 0) {
            (66, true) => "Constrained Baseline",
            (66, false) => "Baseline",
            (77, _) => "Main",
            (88, _) => "Extended",
            (100, _) => "High",
            (110, _) => "High 10",
            (122, _) => "High 4:2:2",
            (244, _) => "High 4:4:4",
            _ => "unknown profile",
        }
    }

    /// Returns true if the configuration record has the chroma fields (ISO/IEC 14496-15, 5.3.3.1.2).
    pub(crate) fn has_chroma_fields(&self) -> bool {
        has_chroma_fields(self.profile)
    }
}

fn has_chroma_fields(profile: u8) -> bool {
    matches!(profile, 100 | 110 | 122 | 244 | 44 | 83 | 86 | 118 | 128 | 138 | 139 | 134 | 135)
}

struct Chroma {
    format: u8,
    luma_bits: u8,
    chroma_bits: u8,
    separate_planes: bool,
}

impl Chroma {
    fn read(r: &mut BitReader<'_>, profile: u8) -> Result<Self, SpsError> {
        let mut chroma = Self { format: 1, luma_bits: 8, chroma_bits: 8, separate_planes: false };
        if !has_chroma_fields(profile) {
            return Ok(chroma);
        }
        chroma.format = byte(bounded("chroma_format_idc", r.ue()?, 3)?);
        if chroma.format == 3 {
            chroma.separate_planes = r.bit()?;
        }
        chroma.luma_bits = byte(bounded("bit_depth_luma_minus8", r.ue()?, 6)? + 8);
        chroma.chroma_bits = byte(bounded("bit_depth_chroma_minus8", r.ue()?, 6)? + 8);
        r.skip(1)?; // qpprime_y_zero_transform_bypass_flag
        if r.bit()? {
            let lists = if chroma.format == 3 { 12 } else { 8 };
            for list in 0..lists {
                if r.bit()? {
                    skip_scaling_list(r, if list < 6 { 16 } else { 64 })?;
                }
            }
        }
        Ok(chroma)
    }

    /// Returns the samples per cropping unit (7-19 to 7-22).
    fn crop_units(&self, frames_only: bool) -> (u32, u32) {
        let fields = if frames_only { 1 } else { 2 };
        match (self.format, self.separate_planes) {
            (1, _) => (2, 2 * fields),
            (2, _) => (2, fields),
            _ => (1, fields),
        }
    }
}

/// Skips a scaling list (7.3.2.1.1.1).
fn skip_scaling_list(r: &mut BitReader<'_>, size: u32) -> Result<(), SpsError> {
    let (mut last, mut next) = (8_i32, 8_i32);
    for _ in 0..size {
        if next != 0 {
            next = (last.saturating_add(r.se()?)).rem_euclid(256);
        }
        if next != 0 {
            last = next;
        }
    }
    Ok(())
}

fn read_picture_order(r: &mut BitReader<'_>) -> Result<(u8, u8), SpsError> {
    let order_type = bounded("pic_order_cnt_type", r.ue()?, 2)?;
    let mut lsb_bits = 0;
    if order_type == 0 {
        lsb_bits = byte(bounded("log2_max_pic_order_cnt_lsb_minus4", r.ue()?, 12)? + 4);
    } else if order_type == 1 {
        r.skip(1)?;
        r.se()?;
        r.se()?;
        let cycle = bounded("num_ref_frames_in_pic_order_cnt_cycle", r.ue()?, 255)?;
        for _ in 0..cycle {
            r.se()?;
        }
    }
    Ok((byte(order_type), lsb_bits))
}

struct FrameSize {
    width: u32,
    height: u32,
    frames_only: bool,
}

impl FrameSize {
    fn read(r: &mut BitReader<'_>) -> Result<Self, SpsError> {
        let across = bounded("pic_width_in_mbs_minus1", r.ue()?, MAX_EDGE_MACROBLOCKS - 1)? + 1;
        let down = bounded("pic_height_in_map_units_minus1", r.ue()?, MAX_EDGE_MACROBLOCKS - 1)? + 1;
        let frames_only = r.bit()?;
        if !frames_only {
            r.skip(1)?; // mb_adaptive_frame_field_flag
        }
        let height = down * 16 * if frames_only { 1 } else { 2 };
        Ok(Self { width: across * 16, height, frames_only })
    }

    fn cropped(&self, r: &mut BitReader<'_>, chroma: &Chroma) -> Result<(u32, u32), SpsError> {
        if !r.bit()? {
            return Ok((self.width, self.height));
        }
        let (left, right, top, bottom) = (r.ue()?, r.ue()?, r.ue()?, r.ue()?);
        let (unit_x, unit_y) = chroma.crop_units(self.frames_only);
        let shrink = |edge: u32, a: u32, b: u32, unit: u32| {
            a.checked_add(b)
                .and_then(|crop| crop.checked_mul(unit))
                .and_then(|crop| edge.checked_sub(crop))
                .filter(|left| *left > 0)
                // As in decoders, cropping that leaves nothing is ignored.
                .unwrap_or(edge)
        };
        Ok((shrink(self.width, left, right, unit_x), shrink(self.height, top, bottom, unit_y)))
    }
}

/// Frame rate and reordering from annex E.
#[derive(Default)]
struct Usability {
    frame_rate: Option<FrameRate>,
    reorder_frames: Option<u8>,
}

impl Usability {
    /// Parses the fields. Many cameras truncate or corrupt this part: fields after a fault count as not declared.
    fn read(r: &mut BitReader<'_>) -> Self {
        let mut usability = Self::default();
        // An error only ends the parsing; `usability` has the fields before it.
        let _ended_early = usability.read_fields(r);
        usability
    }

    fn read_fields(&mut self, r: &mut BitReader<'_>) -> Result<(), BitsError> {
        if r.bit()? && r.bits(8)? == 255 {
            r.skip(32)?; // sar_width, sar_height
        }
        if r.bit()? {
            r.skip(1)?; // overscan_appropriate_flag
        }
        if r.bit()? {
            r.skip(4)?; // video_format, video_full_range_flag
            if r.bit()? {
                r.skip(24)?; // colour_primaries, transfer_characteristics, matrix_coefficients
            }
        }
        if r.bit()? {
            r.ue()?;
            r.ue()?; // chroma sample locations
        }
        if r.bit()? {
            self.read_timing(r)?;
        }
        let nal_hrd = r.bit()?;
        if nal_hrd {
            skip_hrd(r)?;
        }
        let vcl_hrd = r.bit()?;
        if vcl_hrd {
            skip_hrd(r)?;
        }
        if nal_hrd || vcl_hrd {
            r.skip(1)?; // low_delay_hrd_flag
        }
        r.skip(1)?; // pic_struct_present_flag
        if r.bit()? {
            r.skip(1)?; // motion_vectors_over_pic_boundaries_flag
            for _ in 0..4 {
                r.ue()?;
            }
            let reorder = r.ue()?;
            if reorder <= 16 {
                self.reorder_frames = Some(byte(reorder));
            }
        }
        Ok(())
    }

    fn read_timing(&mut self, r: &mut BitReader<'_>) -> Result<(), BitsError> {
        let units_in_tick = r.bits(32)?;
        let time_scale = r.bits(32)?;
        r.skip(1)?; // fixed_frame_rate_flag
        // Two ticks are a frame (E.2.1). Rates outside of 0.1 to 300 are invalid.
        if let Some(ticks) = units_in_tick.checked_mul(2).filter(|ticks| *ticks > 0) {
            let rate = f64::from(time_scale) / f64::from(ticks);
            if (0.1..=300.0).contains(&rate) {
                self.frame_rate = Some(FrameRate { frames: time_scale, per: ticks });
            }
        }
        Ok(())
    }
}

/// Skips hypothetical reference decoder parameters (E.1.2).
fn skip_hrd(r: &mut BitReader<'_>) -> Result<(), BitsError> {
    let count = r.ue()?.min(31) + 1;
    r.skip(8)?;
    for _ in 0..count {
        r.ue()?;
        r.ue()?;
        r.skip(1)?;
    }
    r.skip(20)
}

#[cfg(test)]
#[path = "sps_tests.rs"]
pub(crate) mod tests;
