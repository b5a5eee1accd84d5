//! `AVCDecoderConfigurationRecord` (ISO/IEC 14496-15, 5.3.3.1).

use bytes::{BufMut, Bytes, BytesMut};

use super::parameters::Config;

impl Config {
    /// Returns the record, with four-byte NAL lengths. Sets beyond the format's counts (31 and 255) or its 16-bit lengths are
    /// omitted.
    #[must_use]
    pub fn record(&self) -> Bytes {
        let facts = &self.facts;
        let mut out = BytesMut::with_capacity(64);
        out.put_slice(&[1, facts.profile, facts.constraints, facts.level]);
        out.put_u8(0xfc | 3); // lengthSizeMinusOne
        put_sets(&mut out, &self.sps, 31, 0xe0);
        put_sets(&mut out, &self.pps, 255, 0);
        if facts.has_chroma_fields() {
            out.put_u8(0xfc | facts.chroma_format);
            out.put_u8(0xf8 | facts.luma_bits.saturating_sub(8));
            out.put_u8(0xf8 | facts.chroma_bits.saturating_sub(8));
            out.put_u8(0); // no sequence parameter set extensions
        }
        out.freeze()
    }
}

fn put_sets(out: &mut BytesMut, sets: &[Bytes], most: usize, reserved: u8) {
    let fitting: Vec<(u16, &Bytes)> =
        sets.iter().filter_map(|set| Some((u16::try_from(set.len()).ok()?, set))).take(most).collect();
    out.put_u8(reserved | u8::try_from(fitting.len()).unwrap_or_default());
    for (length, set) in fitting {
        out.put_u16(length);
        out.put_slice(set);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::h264::sps::tests::{SAMPLE_BASELINE_VGA, SAMPLE_HIGH_1080P, parse};

    fn config(sps: &'static [u8]) -> Config {
        Config {
            facts: parse(sps),
            sps: vec![Bytes::from_static(sps)],
            pps: vec![Bytes::from_static(&[0x68, 0xce, 0x3c, 0x80])],
        }
    }

    #[test]
    fn baseline_record_ends_after_the_picture_parameter_sets() {
        let record = config(SAMPLE_BASELINE_VGA).record();
        let sps_len = SAMPLE_BASELINE_VGA.len();
        assert_eq!(record[..6], [1, 66, SAMPLE_BASELINE_VGA[2], 30, 0xff, 0xe1]);
        assert_eq!(record[6..8], [0, u8::try_from(sps_len).unwrap()]);
        assert_eq!(record[8..8 + sps_len], *SAMPLE_BASELINE_VGA);
        assert_eq!(record[8 + sps_len..], [1, 0, 4, 0x68, 0xce, 0x3c, 0x80]);
    }

    #[test]
    fn high_profile_record_adds_the_chroma_fields() {
        let record = config(SAMPLE_HIGH_1080P).record();
        assert_eq!(record[record.len() - 4..], [0xfd, 0xf8, 0xf8, 0]);
    }
}
