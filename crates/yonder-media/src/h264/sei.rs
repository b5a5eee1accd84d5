//! Supplemental enhancement information (ITU-T H.264, 7.3.2.3 and annex D): recovery points.

use crate::bits::BitReader;
use crate::nal::unescape;

use super::nal::{NalKind, kind_of};

/// `payloadType` of a recovery point (D.1.8).
const RECOVERY_POINT: u32 = 6;
/// Maximum bytes of an SEI unit that are searched: recovery points usually precede user data.
const MAX_BYTES: usize = 512;

/// Returns `recovery_frame_cnt` of the recovery point in an SEI unit: zero if decoding that starts at the frame shows it
/// correctly. `None` without a recovery point.
#[must_use]
pub fn recovery_frame_count(nal: &[u8]) -> Option<u32> {
    if kind_of(nal) != NalKind::Sei {
        return None;
    }
    let raw = unescape(nal, super::HEADER, MAX_BYTES);
    let mut rest = raw.as_slice();
    // The last byte contains the trailing bits.
    while rest.len() > 2 {
        let kind = take_number(&mut rest)?;
        let size = usize::try_from(take_number(&mut rest)?).ok()?;
        let (message, behind) = rest.split_at_checked(size)?;
        if kind == RECOVERY_POINT {
            return BitReader::new(message).ue().ok();
        }
        rest = behind;
    }
    None
}

/// Reads a number coded as a run of 0xff bytes and a last byte (7.3.2.3.1).
fn take_number(bytes: &mut &[u8]) -> Option<u32> {
    let mut number = 0_u32;
    loop {
        let (&byte, rest) = bytes.split_first()?;
        *bytes = rest;
        number = number.checked_add(u32::from(byte))?;
        if byte != 0xff {
            return Some(number);
        }
    }
}

/// Returns true if decoding can start at an access unit: it contains an IDR picture, or an I picture with a recovery point
/// whose `recovery_frame_cnt` is zero. Streams with open GOPs have at most one IDR picture, at their beginning.
#[must_use]
pub fn is_random_access<'a>(nals: impl IntoIterator<Item = &'a [u8]>) -> bool {
    let mut has_recovery_point = false;
    for nal in nals {
        match kind_of(nal) {
            NalKind::IdrSlice => return true,
            NalKind::Sei => has_recovery_point |= recovery_frame_count(nal) == Some(0),
            // Some encoders send a recovery point with every picture.
            NalKind::Slice => return has_recovery_point && is_intra(nal),
            _ => {}
        }
    }
    false
}

/// Returns true for a slice of type I or SI (7.4.3).
fn is_intra(nal: &[u8]) -> bool {
    let raw = unescape(nal, super::HEADER, 16);
    let mut bits = BitReader::new(&raw);
    let kind = bits.ue().and_then(|_first_macroblock| bits.ue());
    kind.is_ok_and(|kind| matches!(kind % 5, 2 | 4))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// `recovery_frame_cnt` 0, `exact_match_flag` 1, `broken_link_flag` 0, `changing_slice_group_idc` 0: 1 1 0 00, stop bit.
    const RECOVERY_POINT_0: &[u8] = &[0x06, 0x06, 0x01, 0xc4, 0x80];
    const I_SLICE: &[u8] = &[0x41, 0x88, 0x80];
    const P_SLICE: &[u8] = &[0x41, 0x9a, 0x80];

    #[rstest]
    #[case::alone(RECOVERY_POINT_0, Some(0))]
    #[case::three_frames(&[0x06, 0x06, 0x01, 0x24, 0x80], Some(3))]
    #[case::behind_timing(&[0x06, 0x01, 0x02, 0x11, 0x22, 0x06, 0x01, 0xc4, 0x80], Some(0))]
    #[case::behind_a_long_message(
        &[&[0x06, 0x05, 0xff, 0x01], &[7; 256][..], &[0x06, 0x01, 0xc4, 0x80]].concat(),
        Some(0)
    )]
    #[case::other_message(&[0x06, 0x05, 0x01, 0xc4, 0x80], None)]
    #[case::size_beyond_the_unit(&[0x06, 0x06, 0x09, 0xc4, 0x80], None)]
    #[case::type_without_an_end(&[0x06, 0xff, 0xff, 0xff], None)]
    #[case::no_sei(&[0x41, 0x06, 0x01, 0xc4, 0x80], None)]
    #[case::empty(&[], None)]
    fn recovery_point_is_read(#[case] nal: &[u8], #[case] count: Option<u32>) {
        assert_eq!(recovery_frame_count(nal), count);
    }

    #[rstest]
    #[case::idr(&[&[0x65, 0x88][..]], true)]
    #[case::recovery_point_and_i_slice(&[RECOVERY_POINT_0, I_SLICE], true)]
    #[case::recovery_point_and_p_slice(&[RECOVERY_POINT_0, P_SLICE], false)]
    #[case::i_slice_alone(&[I_SLICE], false)]
    #[case::gradual(&[&[0x06, 0x06, 0x01, 0x24, 0x80][..], I_SLICE], false)]
    #[case::nothing(&[], false)]
    fn random_access_needs_an_idr_or_a_recovery_point(
        #[case] nals: &[&[u8]],
        #[case] is_random_access: bool,
    ) {
        assert_eq!(super::is_random_access(nals.iter().copied()), is_random_access);
    }
}
