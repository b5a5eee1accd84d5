//! NAL unit types (ITU-T H.264, 7.4.1).

use crate::nal::NalRole;

/// NAL unit types that the service distinguishes (ITU-T H.264, table 7-1).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NalKind {
    /// Slice of a non-IDR picture, or a data partition of one (1 to 4).
    Slice,
    /// Slice of an IDR picture (5), at which decoding can start.
    IdrSlice,
    /// Supplemental enhancement information (6).
    Sei,
    /// Sequence parameter set (7).
    Sps,
    /// Picture parameter set (8).
    Pps,
    /// Access unit delimiter (9).
    Delimiter,
    /// Any other type.
    Other(u8),
}

impl NalKind {
    /// Returns true for types with coded picture data.
    #[must_use]
    pub fn is_picture(self) -> bool {
        matches!(self, Self::Slice | Self::IdrSlice)
    }
}

/// Returns the type of a NAL unit, from its first byte; `Other(0)`, which is unspecified, for an empty unit.
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

/// Returns the role of a NAL unit in an access unit. `first_mb_in_slice` is the first code after the header; it is zero
/// if its first bit is set (7.3.3, 9.1).
#[must_use]
pub fn role_of(nal: &[u8]) -> NalRole {
    match kind_of(nal) {
        NalKind::Slice | NalKind::IdrSlice => {
            NalRole::Picture { begins: nal.get(super::HEADER).is_some_and(|byte| byte & 0x80 != 0) }
        }
        NalKind::Sps | NalKind::Pps | NalKind::Sei | NalKind::Delimiter => NalRole::Prefix,
        // 7.4.1.2.3 lists 14 to 18 as well.
        NalKind::Other(14..=18) => NalRole::Prefix,
        NalKind::Other(_) => NalRole::Other,
    }
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
    fn types_are_parsed_from_the_first_byte(
        #[case] nal: &[u8],
        #[case] kind: NalKind,
        #[case] picture: bool,
    ) {
        assert_eq!(kind_of(nal), kind);
        assert_eq!(kind.is_picture(), picture);
    }
}
