//! CRC-32/MPEG-2 (annex A): polynomial 0x04C11DB7, initial value all ones, not reflected, not inverted.

const POLYNOMIAL: u32 = 0x04c1_1db7;

/// CRC-32/MPEG-2 of `data`; 0 when `data` already ends with a valid CRC.
pub(super) fn crc32(data: &[u8]) -> u32 {
    // Sections are short and come ten times a second, so a lookup table is not worth its memory.
    data.iter().fold(u32::MAX, |crc, byte| {
        (0..8).fold(crc ^ u32::from(*byte) << 24, |crc, _| {
            if crc & 1 << 31 == 0 { crc << 1 } else { crc << 1 ^ POLYNOMIAL }
        })
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn catalogued_check_value_is_returned() {
        assert_eq!(crc32(b"123456789"), 0x0376_e6e7);
    }

    #[test]
    fn crc_over_a_section_with_its_crc_is_zero() {
        let mut section = vec![0, 0xb0, 0x0d, 0, 1, 0xc1, 0, 0, 0, 1, 0xf0, 0];
        section.extend_from_slice(&crc32(&section).to_be_bytes());
        assert_eq!(crc32(&section), 0);
    }
}
