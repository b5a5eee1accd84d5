//! G.711 (ITU-T G.711): eight bits per sample in one of two laws. It is relayed as it is, or decoded for a rendition.

/// Companding law.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Law {
    /// A-law, common in Europe (RTP payload type 8).
    A,
    /// µ-law, common in America and Japan (RTP payload type 0).
    Mu,
}

impl Law {
    /// Returns the sample value of silence.
    #[must_use]
    pub fn silence(self) -> u8 {
        match self {
            Self::A => 0xd5,
            Self::Mu => 0xff,
        }
    }

    /// Decodes a sample to 16 bits: the 13-bit values of A-law and the 14-bit values of µ-law, scaled.
    #[must_use]
    pub fn decode(self, byte: u8) -> i16 {
        match self {
            Self::A => {
                // Every second bit is inverted (G.711, table 1a).
                let code = byte ^ 0x55;
                let mantissa = i16::from(code & 0x0f) << 4;
                let magnitude = match code >> 4 & 7 {
                    0 => mantissa + 8,
                    segment => (mantissa + 0x108) << (segment - 1),
                };
                if code & 0x80 == 0 { -magnitude } else { magnitude }
            }
            Self::Mu => {
                // All bits are inverted (G.711, table 2a).
                let code = !byte;
                let magnitude = (((i16::from(code & 0x0f) << 3) + 0x84) << (code >> 4 & 7)) - 0x84;
                if code & 0x80 == 0 { magnitude } else { -magnitude }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    /// Values of the decision tables of ITU-T G.711, scaled to 16 bits.
    #[rstest]
    #[case::a_smallest(Law::A, 0xd5, 8)]
    #[case::a_smallest_negative(Law::A, 0x55, -8)]
    #[case::a_largest(Law::A, 0xaa, 32_256)]
    #[case::a_largest_negative(Law::A, 0x2a, -32_256)]
    #[case::a_second_segment(Law::A, 0xc5, 264)]
    #[case::mu_zero(Law::Mu, 0xff, 0)]
    #[case::mu_negative_zero(Law::Mu, 0x7f, 0)]
    #[case::mu_largest(Law::Mu, 0x80, 32_124)]
    #[case::mu_largest_negative(Law::Mu, 0x00, -32_124)]
    #[case::mu_second_segment(Law::Mu, 0xef, 132)]
    fn codes_are_decoded(#[case] law: Law, #[case] byte: u8, #[case] sample: i16) {
        assert_eq!(law.decode(byte), sample);
    }

    #[rstest]
    fn larger_codes_are_louder(#[values(Law::A, Law::Mu)] law: Law) {
        let silent = law.silence();
        assert!(law.decode(silent).abs() <= 8);
        let code = |number: u8| if law == Law::A { number ^ 0xd5 } else { !number };
        let levels: Vec<i16> = (0..128).map(|number| law.decode(code(number))).collect();
        assert!(levels.is_sorted() && levels.first() < levels.last(), "{levels:?}");
    }
}
