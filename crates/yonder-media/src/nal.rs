//! Common parts of H.264 and H.265: emulation prevention and byte streams of NAL units.

use bytes::Bytes;

/// Returns the raw payload of a NAL unit after its header of `header` bytes, without emulation prevention bytes (ITU-T H.264,
/// 7.3.1; H.265, 7.3.1.1), at most `limit` bytes.
///
/// Headers are short; the limit avoids a copy of a large unit.
pub(crate) fn unescape(nal: &[u8], header: usize, limit: usize) -> Vec<u8> {
    let mut raw = Vec::with_capacity(nal.len().min(limit));
    let mut zeros = 0_u8;
    for &byte in nal.iter().skip(header) {
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

/// Returns a NAL unit with a one-byte header and `raw` with emulation prevention bytes (ITU-T H.264, 7.4.1.1).
pub(crate) fn escape(header: u8, raw: &[u8]) -> Bytes {
    let mut nal = vec![header];
    let mut zeros = 0_u8;
    for &byte in raw {
        if zeros >= 2 && byte <= 3 {
            nal.push(3);
            zeros = 0;
        }
        zeros = if byte == 0 { zeros.saturating_add(1) } else { 0 };
        nal.push(byte);
    }
    nal.into()
}

/// Splits a byte stream (annex B of either standard) into NAL units without start codes and trailing zero bytes.
/// Shares `data`.
#[must_use]
pub fn split_nals(data: &Bytes) -> Vec<Bytes> {
    let mut nals = Vec::new();
    let mut begin: Option<usize> = None;
    let mut zeros = 0_usize;
    for (at, &byte) in data.iter().enumerate() {
        match byte {
            0 => zeros += 1,
            1 if zeros >= 2 => {
                push_trimmed(&mut nals, data, begin, at - zeros);
                begin = Some(at + 1);
                zeros = 0;
            }
            _ => zeros = 0,
        }
    }
    push_trimmed(&mut nals, data, begin, data.len());
    nals
}

fn push_trimmed(nals: &mut Vec<Bytes>, data: &Bytes, begin: Option<usize>, end: usize) {
    let Some(begin) = begin.filter(|begin| *begin < end) else { return };
    let nal = data.slice(begin..end);
    let trailing = nal.iter().rev().take_while(|byte| **byte == 0).count();
    if trailing < nal.len() {
        nals.push(nal.slice(..nal.len() - trailing));
    }
}

/// Role of a NAL unit in an access unit.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NalRole {
    /// Coded picture data.
    Picture {
        /// It is the first of its picture.
        begins: bool,
    },
    /// Precedes the picture: parameter sets, delimiters, supplemental information.
    Prefix,
    /// Anything else.
    Other,
}

/// Groups NAL units into access units (H.264, 7.4.1.2.3; H.265, 7.4.2.4.4), for streams of whole frames: an access unit
/// begins with the first prefix unit after a picture, or with the first slice of a picture.
#[must_use]
pub fn split_access_units(nals: &[Bytes], role: impl Fn(&[u8]) -> NalRole) -> Vec<Vec<Bytes>> {
    let mut units: Vec<Vec<Bytes>> = Vec::new();
    let mut current: Vec<Bytes> = Vec::new();
    let mut has_picture = false;
    for nal in nals {
        let role = role(nal);
        let begins = matches!(role, NalRole::Prefix | NalRole::Picture { begins: true });
        if begins && has_picture {
            units.push(std::mem::take(&mut current));
            has_picture = false;
        }
        has_picture |= matches!(role, NalRole::Picture { .. });
        current.push(nal.clone());
    }
    if has_picture {
        units.push(current);
    }
    units
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{h264, h265};
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case::nothing_to_do(&[0x67, 1, 2, 3], 1, &[1, 2, 3])]
    #[case::one_prevention_byte(&[0x67, 0, 0, 3, 1], 1, &[0, 0, 1])]
    #[case::two_in_a_row(&[0x67, 0, 0, 3, 0, 0, 3, 2], 1, &[0, 0, 0, 0, 2])]
    #[case::three_is_data_elsewhere(&[0x67, 0, 3, 3], 1, &[0, 3, 3])]
    #[case::two_header_bytes(&[0x42, 1, 0, 0, 3, 1], 2, &[0, 0, 1])]
    fn emulation_prevention_is_removed(#[case] nal: &[u8], #[case] header: usize, #[case] raw: &[u8]) {
        assert_eq!(unescape(nal, header, 64), raw);
    }

    #[test]
    fn no_more_than_the_limit_is_copied() {
        assert_eq!(unescape(&[0x67; 1_000], 1, 16).len(), 16);
    }

    #[test]
    fn three_and_four_byte_start_codes_and_trailing_zeros_are_understood() {
        let data = Bytes::from_static(&[0, 0, 0, 1, 0x67, 1, 0, 0, 1, 0x68, 2, 0, 0, 0, 1, 0x65, 3, 0, 0]);
        assert_eq!(split_nals(&data), vec![&[0x67, 1][..], &[0x68, 2], &[0x65, 3]]);
    }

    #[test]
    fn bytes_before_the_first_start_code_are_no_nal_unit() {
        assert!(split_nals(&Bytes::from_static(&[1, 2, 3])).is_empty());
    }

    fn unit_lengths(nals: &[&[u8]], role: impl Fn(&[u8]) -> NalRole) -> Vec<usize> {
        let nals: Vec<Bytes> = nals.iter().map(|nal| Bytes::copy_from_slice(nal)).collect();
        split_access_units(&nals, role).iter().map(Vec::len).collect()
    }

    #[test]
    fn parameter_sets_after_a_picture_begin_the_next_access_unit() {
        let nals: [&[u8]; 6] = [&[0x67, 1], &[0x68], &[0x65, 0x80], &[0x41, 0x80], &[0x06], &[0x41, 0x80]];
        assert_eq!(unit_lengths(&nals, h264::role_of), vec![3, 1, 2]);
    }

    #[test]
    fn later_slices_of_a_picture_stay_with_it() {
        assert_eq!(unit_lengths(&[&[0x65, 0x80], &[0x65, 0x20], &[0x41, 0x80]], h264::role_of), vec![2, 1]);
        let hevc: [&[u8]; 4] = [&[0x26, 1, 0x80], &[0x26, 1, 0x20], &[0x4e, 1], &[0x02, 1, 0x80]];
        assert_eq!(unit_lengths(&hevc, h265::role_of), vec![2, 2]);
    }

    proptest! {
        #[test]
        fn any_bytes_split_without_panic_and_without_inventing_data(data: Vec<u8>) {
            let data = Bytes::from(data);
            let nals = split_nals(&data);
            prop_assert!(nals.iter().map(Bytes::len).sum::<usize>() <= data.len());
            prop_assert!(nals.iter().all(|nal| !nal.is_empty()));
            for role in [h264::role_of, h265::role_of] {
                let grouped: usize = split_access_units(&nals, role).iter().map(Vec::len).sum();
                prop_assert!(grouped <= nals.len());
            }
        }
    }

    proptest! {
        #[test]
        fn escaped_payload_has_no_start_code_and_parses_back(raw in prop::collection::vec(0_u8..5, 0..60)) {
            let nal = escape(0x21, &raw);
            prop_assert!(!nal.windows(3).any(|run| run[..2] == [0, 0] && run[2] < 3));
            prop_assert_eq!(unescape(&nal, 1, 1_000), raw);
        }
    }
}
