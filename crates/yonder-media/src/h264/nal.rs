//! NAL unit kinds and emulation prevention (ITU-T H.264, 7.3.1 and 7.4.1).

/// The kinds of NAL unit that the service treats differently (ITU-T H.264, table 7-1).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NalKind {
    /// A slice of a picture that is not an IDR picture, or one of its partitions (1 to 4).
    Slice,
    /// A slice of an IDR picture (5): decoding may start here.
    IdrSlice,
    /// Supplemental enhancement information (6).
    Sei,
    /// Sequence parameter set (7).
    Sps,
    /// Picture parameter set (8).
    Pps,
    /// Access unit delimiter (9).
    Delimiter,
    /// Anything else, by its number.
    Other(u8),
}

impl NalKind {
    /// True for the kinds that carry coded picture data.
    #[must_use]
    pub fn is_picture(self) -> bool {
        matches!(self, Self::Slice | Self::IdrSlice)
    }
}

/// The kind of a NAL unit, from its first byte. An empty unit counts as `Other(0)`, which no stream uses.
#[must_use]
pub fn kind_of(nal: &[u8]) -> NalKind {
    match nal.first().map_or(0, |header| header & 0x1f) {
        1..=4 => NalKind::Slice,
        5 => NalKind::IdrSlice,
        6 => NalKind::Sei,
        7 => NalKind::Sps,
        8 => NalKind::Pps,
        9 => NalKind::Delimiter,
        other => NalKind::Other(other),
    }
}

/// The raw payload of a NAL unit without its emulation prevention bytes (7.3.1), at most `limit` bytes of it.
///
/// Headers are short; the limit keeps a hostile unit from costing a copy of itself.
#[must_use]
pub fn unescape(nal: &[u8], limit: usize) -> Vec<u8> {
    let mut raw = Vec::with_capacity(nal.len().min(limit));
    let mut zeros = 0_u8;
    for &byte in nal.iter().skip(1) {
        if raw.len() >= limit {
            break;
        }
        if zeros >= 2 && byte == 3 {
            zeros = 0;
            continue;
        }
        zeros = if byte == 0 { zeros.saturating_add(1) } else { 0 };
        raw.push(byte);
    }
    raw
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(&[0x65], NalKind::IdrSlice, true)]
    #[case(&[0x41], NalKind::Slice, true)]
    #[case(&[0x67], NalKind::Sps, false)]
    #[case(&[0x68], NalKind::Pps, false)]
    #[case(&[0x06], NalKind::Sei, false)]
    #[case(&[0x09], NalKind::Delimiter, false)]
    #[case(&[], NalKind::Other(0), false)]
    fn kinds_are_told_from_the_first_byte(#[case] nal: &[u8], #[case] kind: NalKind, #[case] picture: bool) {
        assert_eq!(kind_of(nal), kind);
        assert_eq!(kind.is_picture(), picture);
    }

    #[test]
    fn emulation_prevention_is_taken_out() {
        assert_eq!(unescape(&[0x67, 0, 0, 3, 1, 0, 0, 3, 0], 64), vec![0, 0, 1, 0, 0, 0]);
        assert_eq!(unescape(&[0x67, 1, 2, 3], 2), vec![1, 2]);
    }
}
