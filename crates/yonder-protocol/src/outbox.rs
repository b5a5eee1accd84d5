//! Send queue of shared slices.

use std::collections::VecDeque;
use std::io::IoSlice;

use bytes::{Buf as _, Bytes};

/// Queue of slices for vectored writes. Payload is shared, never copied.
#[derive(Debug, Default)]
pub struct Outbox {
    pieces: VecDeque<Bytes>,
    len: usize,
}

impl Outbox {
    /// Appends a slice.
    pub fn push(&mut self, piece: Bytes) {
        if !piece.is_empty() {
            self.len += piece.len();
            self.pieces.push_back(piece);
        }
    }

    /// Returns the number of queued bytes.
    #[must_use]
    pub fn len(&self) -> usize {
        self.len
    }

    /// Returns true if the queue is empty.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.len == 0
    }

    /// Fills `slices` with the first slices, up to `limit` bytes, and returns their number.
    pub fn io_slices<'a>(&'a self, slices: &mut [IoSlice<'a>], limit: usize) -> usize {
        let (mut filled, mut left) = (0, limit);
        for (slot, piece) in slices.iter_mut().zip(&self.pieces) {
            if left == 0 {
                break;
            }
            *slot = IoSlice::new(piece.get(..left).unwrap_or(piece));
            filled += 1;
            left = left.saturating_sub(piece.len());
        }
        filled
    }

    /// Removes the first `count` bytes, which were written.
    pub fn advance(&mut self, mut count: usize) {
        self.len = self.len.saturating_sub(count);
        while let Some(piece) = self.pieces.front_mut() {
            if count < piece.len() {
                piece.advance(count);
                return;
            }
            count -= piece.len();
            self.pieces.pop_front();
        }
    }

    /// Moves the content of `other` to the end of this queue, and returns its length in bytes.
    pub fn append(&mut self, other: &mut Self) -> usize {
        let moved = other.len;
        if self.pieces.is_empty() {
            std::mem::swap(&mut self.pieces, &mut other.pieces);
        } else {
            self.pieces.append(&mut other.pieces);
        }
        self.len += moved;
        other.len = 0;
        moved
    }

    /// Removes all bytes.
    pub fn clear(&mut self) {
        self.pieces.clear();
        self.len = 0;
    }

    /// Returns all queued bytes as one vector, for tests and short dialogues.
    pub fn take_all(&mut self) -> Vec<u8> {
        let joined = self.pieces.iter().flat_map(|piece| piece.iter().copied()).collect();
        self.clear();
        joined
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn content_is_kept_in_order_for_any_write_sizes(
            pieces: Vec<Vec<u8>>,
            steps in prop::collection::vec(1_usize..40, 1..40),
        ) {
            let mut outbox = Outbox::default();
            for piece in &pieces {
                outbox.push(Bytes::from(piece.clone()));
            }
            let expected = pieces.concat();
            let mut written = Vec::new();
            for step in steps.into_iter().cycle().take(expected.len()) {
                let mut slices = [IoSlice::new(&[]); 3];
                let filled = outbox.io_slices(&mut slices, usize::MAX);
                let available: Vec<u8> = slices[..filled].iter().flat_map(|s| s.to_vec()).collect();
                let count = step.min(available.len());
                written.extend_from_slice(&available[..count]);
                outbox.advance(count);
                prop_assert_eq!(outbox.len(), expected.len() - written.len());
            }
            prop_assert_eq!(written, expected);
            prop_assert!(outbox.is_empty());
        }
    }
}
