//! Bit reader and writer, most significant bit first, as in all MPEG bitstreams.

/// Error of a bit reader.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum BitsError {
    /// End of the data inside a value.
    #[error("bitstream ends at bit {at}")]
    Ended {
        /// Position of the first missing bit.
        at: usize,
    },
    /// An Exp-Golomb code is longer than any legal value.
    #[error("Exp-Golomb code at bit {at} is too long")]
    GolombTooLong {
        /// Position of the code.
        at: usize,
    },
}

/// Reader of bits from a byte slice.
#[derive(Debug, Clone)]
pub struct BitReader<'a> {
    data: &'a [u8],
    at: usize,
}

impl<'a> BitReader<'a> {
    /// Creates a reader at the first bit of `data`.
    #[must_use]
    pub fn new(data: &'a [u8]) -> Self {
        Self { data, at: 0 }
    }

    /// Position of the next bit.
    #[must_use]
    pub fn position(&self) -> usize {
        self.at
    }

    /// Reads one bit.
    ///
    /// # Errors
    /// [`BitsError::Ended`] at the end of the data.
    pub fn bit(&mut self) -> Result<bool, BitsError> {
        let byte = self.data.get(self.at / 8).ok_or(BitsError::Ended { at: self.at })?;
        let bit = byte >> (7 - self.at % 8) & 1;
        self.at += 1;
        Ok(bit == 1)
    }

    /// Reads up to 32 bits as an unsigned number; of a larger `count`, the last 32.
    ///
    /// # Errors
    /// [`BitsError::Ended`] if fewer bits are left.
    pub fn bits(&mut self, count: u32) -> Result<u32, BitsError> {
        let mut value = 0_u32;
        for _ in 0..count {
            value = value << 1 | u32::from(self.bit()?);
        }
        Ok(value)
    }

    /// Skips `count` bits.
    ///
    /// # Errors
    /// [`BitsError::Ended`] if fewer bits are left.
    pub fn skip(&mut self, count: u32) -> Result<(), BitsError> {
        for _ in 0..count {
            self.bit()?;
        }
        Ok(())
    }

    /// Reads `ue(v)`: unsigned Exp-Golomb (ITU-T H.264, 9.1).
    ///
    /// # Errors
    /// [`BitsError`] if the code is truncated or has more than 31 leading zeros.
    pub fn ue(&mut self) -> Result<u32, BitsError> {
        let at = self.at;
        let mut zeros = 0_u32;
        while !self.bit()? {
            zeros += 1;
            if zeros > 31 {
                return Err(BitsError::GolombTooLong { at });
            }
        }
        let rest = self.bits(zeros)?;
        // With at most 31 leading zeros, (1 << zeros) - 1 + rest fits 32 bits.
        Ok((1_u32 << zeros) - 1 + rest)
    }

    /// Reads `se(v)`: signed Exp-Golomb (ITU-T H.264, 9.1.1).
    ///
    /// # Errors
    /// As [`BitReader::ue`].
    pub fn se(&mut self) -> Result<i32, BitsError> {
        let code = i64::from(self.ue()?);
        let magnitude = (code + 1) / 2;
        let value = if code % 2 == 0 { -magnitude } else { magnitude };
        i32::try_from(value).map_err(|_| BitsError::GolombTooLong { at: self.at })
    }
}

/// Writer of bits.
#[derive(Debug, Default)]
pub(crate) struct BitWriter {
    bytes: Vec<u8>,
    filled: u32,
}

impl BitWriter {
    /// Appends the lowest `count` bits of `value`, at most 32.
    pub(crate) fn put(&mut self, value: u32, count: u32) {
        for at in (0..count.min(32)).rev() {
            if self.filled == 0 {
                self.bytes.push(0);
            }
            let bit = u8::from(value >> at & 1 == 1) << (7 - self.filled);
            if let Some(last) = self.bytes.last_mut() {
                *last |= bit;
            }
            self.filled = (self.filled + 1) % 8;
        }
    }

    /// Appends `ue(v)`: unsigned Exp-Golomb; `value` must be below 2^32 - 1.
    pub(crate) fn ue(&mut self, value: u32) {
        let code = value.saturating_add(1);
        let bits = 32 - code.leading_zeros();
        self.put(0, bits - 1);
        self.put(code, bits);
    }

    /// Returns the bits as bytes, padded with zeros.
    pub(crate) fn finish(self) -> Vec<u8> {
        self.bytes
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::zero(&[0b1000_0000], 0)]
    #[case::one(&[0b0100_0000], 1)]
    #[case::two(&[0b0110_0000], 2)]
    #[case::six(&[0b0011_1000], 6)]
    #[case::seven(&[0b0001_0000], 7)]
    fn exp_golomb_codes_of_table_9_2_are_read(#[case] data: &[u8], #[case] expected: u32) {
        assert_eq!(BitReader::new(data).ue(), Ok(expected));
    }

    #[rstest]
    #[case(&[0b0100_0000], 1)]
    #[case(&[0b0110_0000], -1)]
    #[case(&[0b0010_0000], 2)]
    #[case(&[0b0010_1000], -2)]
    fn signed_codes_alternate(#[case] data: &[u8], #[case] expected: i32) {
        assert_eq!(BitReader::new(data).se(), Ok(expected));
    }

    #[test]
    fn written_codes_parse_back() {
        let mut bits = BitWriter::default();
        let values = [0, 1, 6, 7, 254, 8_160, 65_535, u32::MAX - 1];
        for value in values {
            bits.ue(value);
            bits.put(value, 5);
        }
        let bytes = bits.finish();
        let mut reader = BitReader::new(&bytes);
        for value in values {
            assert_eq!((reader.ue(), reader.bits(5)), (Ok(value), Ok(value & 31)));
        }
    }

    #[test]
    fn a_code_that_never_ends_is_refused() {
        assert_eq!(BitReader::new(&[0; 3]).ue(), Err(BitsError::Ended { at: 24 }));
        assert_eq!(BitReader::new(&[0; 8]).ue(), Err(BitsError::GolombTooLong { at: 0 }));
    }

    #[test]
    fn reading_past_the_end_names_the_bit() {
        let mut reader = BitReader::new(&[0xff]);
        assert_eq!(reader.bits(8), Ok(255));
        assert_eq!(reader.bit(), Err(BitsError::Ended { at: 8 }));
        assert_eq!(reader.position(), 8);
    }
}
