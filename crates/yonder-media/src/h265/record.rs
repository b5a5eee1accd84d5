//! `HEVCDecoderConfigurationRecord` (ISO/IEC 14496-15, 8.3.3.1).

use bytes::{BufMut, Bytes, BytesMut};

use super::level::Tier;
use super::parameters::Config;

impl Config {
    /// Returns the record, with four-byte NAL lengths. A set beyond its 16-bit length is omitted.
    #[must_use]
    pub fn record(&self) -> Bytes {
        let facts = &self.facts;
        let level = &facts.level;
        let mut out = BytesMut::with_capacity(160);
        out.put_u8(1); // configurationVersion
        let tier = if level.tier == Tier::High { 0x20 } else { 0 };
        out.put_u8(level.space << 6 | tier | level.profile & 0x1f);
        out.put_u32(level.compatibility);
        out.put_slice(&level.constraints);
        out.put_u8(level.level);
        out.put_u16(0xf000); // min_spatial_segmentation_idc: unknown
        out.put_u8(0xfc); // parallelismType: unknown
        out.put_u8(0xfc | facts.chroma_format);
        out.put_u8(0xf8 | facts.luma_bits.saturating_sub(8));
        out.put_u8(0xf8 | facts.chroma_bits.saturating_sub(8));
        out.put_u16(0); // avgFrameRate: unspecified
        out.put_u8(facts.sub_layers << 3 | u8::from(facts.nested) << 2 | 3);
        out.put_u8(3);
        for (kind, sets) in [(32, &self.vps), (33, &self.sps), (34, &self.pps)] {
            put_array(&mut out, kind, sets);
        }
        out.freeze()
    }
}

fn put_array(out: &mut BytesMut, kind: u8, sets: &[Bytes]) {
    let fitting: Vec<(u16, &Bytes)> =
        sets.iter().filter_map(|set| Some((u16::try_from(set.len()).ok()?, set))).collect();
    // `array_completeness`: samples of type `hvc1` have no in-band parameter sets.
    out.put_u8(0x80 | kind);
    out.put_u16(u16::try_from(fitting.len()).unwrap_or_default());
    for (length, set) in fitting {
        out.put_u16(length);
        out.put_slice(set);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::h265::ParameterSets;
    use crate::h265::sps::tests::{SAMPLE_MAIN_1080P, SAMPLE_PPS, SAMPLE_VPS};

    #[test]
    fn the_record_repeats_the_general_fields_and_holds_all_sets() {
        let mut sets = ParameterSets::default();
        for nal in [SAMPLE_VPS, SAMPLE_MAIN_1080P, SAMPLE_PPS] {
            sets.take(&Bytes::from_static(nal));
        }
        let record = sets.config().unwrap().record();
        assert_eq!(record[..13], [1, 1, 0x60, 0, 0, 0, 0x90, 0, 0, 0, 0, 0, 120]);
        assert_eq!(record[13..23], [0xf0, 0, 0xfc, 0xfd, 0xf8, 0xf8, 0, 0, 0x0f, 3]);
        assert_eq!(record[23..28], [0x80 | 32, 0, 1, 0, 24]);
        let sps_at = 28 + SAMPLE_VPS.len();
        assert_eq!(record[sps_at..sps_at + 5], [0x80 | 33, 0, 1, 0, 41]);
        assert!(record.ends_with(SAMPLE_PPS));
    }
}
