//! Ranges of sequence numbers in loss reports (3.2.5, appendix A).

use bytes::{Buf as _, BufMut as _, BytesMut};

use crate::sequence::SEQUENCE_MASK;

use super::HeaderError;

/// Marks the first number of a range.
const RANGE: u32 = 1 << 31;
/// Maximum ranges of one report, as many as fit a datagram.
const MAX_RANGES: usize = 400;

/// Inclusive range of sequence numbers.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LossRange {
    /// First.
    pub first: u32,
    /// Last.
    pub last: u32,
}

pub(crate) fn put_ranges(ranges: &[LossRange], out: &mut BytesMut) {
    for range in ranges {
        if range.first == range.last {
            out.put_u32(range.first & SEQUENCE_MASK);
        } else {
            out.put_u32(RANGE | range.first & SEQUENCE_MASK);
            out.put_u32(range.last & SEQUENCE_MASK);
        }
    }
}

pub(crate) fn read_ranges(mut data: &[u8]) -> Result<Vec<LossRange>, HeaderError> {
    let mut ranges = Vec::new();
    while data.len() >= 4 && ranges.len() < MAX_RANGES {
        let word = data.get_u32();
        let first = word & SEQUENCE_MASK;
        let last = if word & RANGE == 0 {
            first
        } else {
            data.try_get_u32().map_err(|_| HeaderError::Short)? & SEQUENCE_MASK
        };
        ranges.push(LossRange { first, last });
    }
    Ok(ranges)
}
