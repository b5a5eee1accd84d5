//! Picture order counts from their low bits in slice headers (ITU-T H.264, 8.2.1.1; H.265, 8.3.1).

/// Unwraps picture order counts that change by less than half their range between pictures, as those of all real encoders do.
#[derive(Debug, Clone, Default)]
pub struct PictureOrder {
    msb: i64,
    last_lsb: i64,
}

impl PictureOrder {
    /// Returns the full count of a picture relative to the last IDR picture, from its low `bits` bits.
    pub fn next(&mut self, lsb: u32, bits: u8, idr: bool) -> i64 {
        let lsb = i64::from(lsb);
        let range = 1_i64 << bits.min(32);
        if idr {
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

    #[test]
    fn counts_continue_over_the_wrap_of_their_low_bits() {
        let mut order = PictureOrder::default();
        let pictures = [(true, 0), (false, 6), (false, 2), (false, 4), (false, 12), (false, 2), (false, 14)];
        let counts: Vec<i64> = pictures.into_iter().map(|(idr, lsb)| order.next(lsb, 4, idr)).collect();
        assert_eq!(counts, vec![0, 6, 2, 4, 12, 18, 14]);
    }
}
