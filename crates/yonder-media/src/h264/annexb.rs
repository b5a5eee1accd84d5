//! Byte stream format (ITU-T H.264, annex B): files of NAL units between start codes.

use bytes::Bytes;

use super::nal::{NalKind, kind_of};
use super::slice::SliceStart;
use super::sps::Sps;

/// Splits a byte stream into NAL units without start codes and trailing zero bytes. Shares `data`.
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

/// Groups NAL units into access units by 7.4.1.2.3, for streams of whole frames: a unit begins with the first
/// delimiter, parameter set or SEI after a picture, or with a slice whose first macroblock is zero.
#[must_use]
pub fn split_access_units(nals: &[Bytes]) -> Vec<Vec<Bytes>> {
    let mut units: Vec<Vec<Bytes>> = Vec::new();
    let mut current: Vec<Bytes> = Vec::new();
    let mut has_picture = false;
    let mut sps: Option<Sps> = None;
    for nal in nals {
        let kind = kind_of(nal);
        if kind == NalKind::Sps {
            sps = Sps::parse(nal).ok().or(sps);
        }
        let begins = if kind.is_picture() {
            sps.as_ref()
                .and_then(|sps| SliceStart::parse(nal, sps).ok())
                .is_none_or(|slice| slice.first_macroblock == 0)
        } else {
            matches!(kind, NalKind::Sps | NalKind::Pps | NalKind::Sei | NalKind::Delimiter)
        };
        if begins && has_picture {
            units.push(std::mem::take(&mut current));
            has_picture = false;
        }
        has_picture |= kind.is_picture();
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
    use proptest::prelude::*;

    #[test]
    fn three_and_four_byte_start_codes_and_trailing_zeros_are_understood() {
        let data = Bytes::from_static(&[0, 0, 0, 1, 0x67, 1, 0, 0, 1, 0x68, 2, 0, 0, 0, 1, 0x65, 3, 0, 0]);
        assert_eq!(split_nals(&data), vec![&[0x67, 1][..], &[0x68, 2], &[0x65, 3]]);
    }

    #[test]
    fn bytes_before_the_first_start_code_are_no_nal_unit() {
        assert!(split_nals(&Bytes::from_static(&[1, 2, 3])).is_empty());
    }

    #[test]
    fn parameter_sets_after_a_picture_begin_the_next_access_unit() {
        let nals: Vec<Bytes> =
            [&[0x67_u8, 1][..], &[0x68], &[0x65, 0x80], &[0x41, 0x80], &[0x06], &[0x41, 0x80]]
                .into_iter()
                .map(Bytes::copy_from_slice)
                .collect();
        let lengths: Vec<usize> = split_access_units(&nals).iter().map(Vec::len).collect();
        assert_eq!(lengths, vec![3, 1, 2]);
    }

    proptest! {
        #[test]
        fn any_bytes_split_without_panic_and_without_inventing_data(data: Vec<u8>) {
            let data = Bytes::from(data);
            let nals = split_nals(&data);
            prop_assert!(nals.iter().map(Bytes::len).sum::<usize>() <= data.len());
            prop_assert!(nals.iter().all(|nal| !nal.is_empty()));
            let grouped: usize = split_access_units(&nals).iter().map(Vec::len).sum();
            prop_assert!(grouped <= nals.len());
        }
    }
}
