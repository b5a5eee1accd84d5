//! CRC-32/MPEG-2 (annex A): polynomial 0x04C11DB7, all ones at the start, nothing reflected, nothing inverted.

const POLYNOMIAL: u32 = 0x04c1_1db7;

/// The check value of a section; zero over a whole section that ends in its own.
pub(super) fn crc32(data: &[u8]) -> u32 {
    // Sections are short and come ten times a second: a table would save nothing worth having.
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
    fn the_catalogued_check_value_comes_out() {
        assert_eq!(crc32(b"123456789"), 0x0376_e6e7);
    }

    #[test]
    fn a_section_with_its_check_value_leaves_zero() {
        let mut section = vec![0, 0xb0, 0x0d, 0, 1, 0xc1, 0, 0, 0, 1, 0xf0, 0];
        section.extend_from_slice(&crc32(&section).to_be_bytes());
        assert_eq!(crc32(&section), 0);
    }
}
