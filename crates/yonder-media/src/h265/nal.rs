//! NAL unit types (ITU-T H.265, table 7-1).

use crate::nal::NalRole;

/// NAL unit types that the service distinguishes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NalKind {
    /// Slice segment of a picture without random access (0 to 15, 22 to 31).
    Slice,
    /// Slice segment of an IDR picture (19, 20).
    Idr,
    /// Slice segment of another intra random access picture: CRA or BLA (16 to 18, 21).
    RandomAccess,
    /// Video parameter set (32).
    Vps,
    /// Sequence parameter set (33).
    Sps,
    /// Picture parameter set (34).
    Pps,
    /// Access unit delimiter (35).
    Delimiter,
    /// Supplemental enhancement information before the picture (39).
    PrefixSei,
    /// Any other type.
    Other(u8),
}

impl NalKind {
    /// Returns true for types with coded picture data.
    #[must_use]
    pub fn is_picture(self) -> bool {
        matches!(self, Self::Slice | Self::Idr | Self::RandomAccess)
    }

    /// Returns true if decoding can start at the picture (7.4.2.2, IRAP).
    #[must_use]
    pub fn is_random_access(self) -> bool {
        matches!(self, Self::Idr | Self::RandomAccess)
    }
}

/// Returns the type of a NAL unit, from its first byte; `Other(63)`, which is unspecified, for an empty unit.
#[must_use]
pub fn kind_of(nal: &[u8]) -> NalKind {
    match nal.first().map_or(63, |header| header >> 1 & 0x3f) {
        19 | 20 => NalKind::Idr,
        16..=18 | 21 => NalKind::RandomAccess,
        0..=31 => NalKind::Slice,
        32 => NalKind::Vps,
        33 => NalKind::Sps,
        34 => NalKind::Pps,
        35 => NalKind::Delimiter,
        39 => NalKind::PrefixSei,
        other => NalKind::Other(other),
    }
}

/// Returns true if decoding can start at an access unit (IRAP picture).
#[must_use]
pub fn is_random_access<'a>(nals: impl IntoIterator<Item = &'a [u8]>) -> bool {
    nals.into_iter().any(|nal| kind_of(nal).is_random_access())
}

/// Returns the role of a NAL unit in an access unit. `first_slice_segment_in_pic_flag` is the first bit after the header
/// (7.3.6.1).
#[must_use]
pub fn role_of(nal: &[u8]) -> NalRole {
    match kind_of(nal) {
        NalKind::Slice | NalKind::Idr | NalKind::RandomAccess => {
            NalRole::Picture { begins: nal.get(super::HEADER).is_some_and(|byte| byte & 0x80 != 0) }
        }
        NalKind::Vps | NalKind::Sps | NalKind::Pps | NalKind::Delimiter | NalKind::PrefixSei => {
            NalRole::Prefix
        }
        // Types 41 to 44 and 48 to 55 precede pictures as well (7.4.2.4.4).
        NalKind::Other(41..=44 | 48..=55) => NalRole::Prefix,
        NalKind::Other(_) => NalRole::Other,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::trailing(&[0x02, 1, 0x80], NalKind::Slice)]
    #[case::idr_with_leading(&[0x26, 1], NalKind::Idr)]
    #[case::idr_without(&[0x28, 1], NalKind::Idr)]
    #[case::cra(&[0x2a, 1], NalKind::RandomAccess)]
    #[case::vps(&[0x40, 1], NalKind::Vps)]
    #[case::sps(&[0x42, 1], NalKind::Sps)]
    #[case::pps(&[0x44, 1], NalKind::Pps)]
    #[case::delimiter(&[0x46, 1], NalKind::Delimiter)]
    #[case::suffix_sei(&[0x50, 1], NalKind::Other(40))]
    #[case::nothing(&[], NalKind::Other(63))]
    fn kinds_come_from_table_7_1(#[case] nal: &[u8], #[case] kind: NalKind) {
        assert_eq!(kind_of(nal), kind);
    }

    #[test]
    fn only_the_first_slice_segment_begins_a_picture() {
        assert_eq!(role_of(&[0x26, 1, 0x80]), NalRole::Picture { begins: true });
        assert_eq!(role_of(&[0x02, 1, 0x40]), NalRole::Picture { begins: false });
    }
}
