//! Batches of datagrams for segmentation offload.

use bytes::{Buf as _, BytesMut};

/// Maximum bytes in one system call.
const MAX_BYTES: usize = 60 * 1024;
/// Capacity of a batch: a datagram is appended before it is known to fit.
const CAPACITY: usize = MAX_BYTES + 2 * MAX_DATAGRAM;
/// Maximum size of a datagram: an Ethernet frame.
const MAX_DATAGRAM: usize = 1500;

/// Consecutive datagrams of the same size; only the last may be shorter. The memory is reused.
#[derive(Debug)]
pub(super) struct Batch {
    bytes: BytesMut,
    /// Size of each datagram but the last.
    segment: usize,
    count: usize,
    /// Size of the last datagram.
    last: usize,
    /// Maximum datagrams in one system call.
    max: usize,
}

impl Batch {
    pub(super) fn new(max: usize) -> Self {
        Self { bytes: BytesMut::with_capacity(CAPACITY), segment: 0, count: 0, last: 0, max }
    }

    pub(super) fn is_empty(&self) -> bool {
        self.count == 0
    }

    /// Returns true if a datagram of `length` bytes fits the batch.
    pub(super) fn fits(&self, length: usize) -> bool {
        self.fits_behind(self.bytes.len(), length)
    }

    /// The same after the first `before` bytes.
    fn fits_behind(&self, before: usize, length: usize) -> bool {
        self.is_empty()
            || self.last == self.segment
                && length <= self.segment
                && before + length <= MAX_BYTES
                && self.count < self.max
    }

    /// Adds a datagram that fits.
    pub(super) fn add(&mut self, datagram: &[u8]) {
        debug_assert!(self.fits(datagram.len()), "a datagram that does not fit");
        self.bytes.extend_from_slice(datagram);
        self.count_in(datagram.len());
    }

    /// Appends the datagram that `write` writes, in place. One that does not fit the batch is moved to `apart`, which
    /// the caller handles.
    ///
    /// Returns the result of `write`.
    pub(super) fn add_with<T>(
        &mut self,
        apart: &mut BytesMut,
        belongs_apart: impl FnOnce(&[u8]) -> bool,
        write: impl FnOnce(&mut BytesMut) -> Option<T>,
    ) -> Option<T> {
        let before = self.bytes.len();
        let written = write(&mut self.bytes)?;
        let datagram = self.bytes.get(before..).unwrap_or_default();
        let length = datagram.len();
        if belongs_apart(datagram) || !self.fits_behind(before, length) {
            apart.clear();
            apart.extend_from_slice(datagram);
            self.bytes.truncate(before);
        } else if length > 0 {
            self.count_in(length);
        }
        Some(written)
    }

    fn count_in(&mut self, length: usize) {
        debug_assert!(length <= MAX_DATAGRAM, "a datagram beyond an Ethernet frame");
        if self.is_empty() {
            self.segment = length;
        }
        self.count += 1;
        self.last = length;
    }

    pub(super) fn bytes(&self) -> &[u8] {
        &self.bytes
    }

    /// Returns the size of each datagram but the last; `None` if there is only one.
    pub(super) fn segment(&self) -> Option<usize> {
        (self.count > 1).then_some(self.segment)
    }

    /// Returns the maximum datagrams in one system call.
    #[cfg(test)]
    pub(super) fn max(&self) -> usize {
        self.max
    }

    /// Sets the maximum datagrams in one system call.
    pub(super) fn set_max(&mut self, max: usize) {
        self.max = max;
    }

    /// Returns the first datagram.
    pub(super) fn first(&self) -> &[u8] {
        let length = if self.count == 1 { self.last } else { self.segment };
        self.bytes.get(..length).unwrap_or_default()
    }

    /// Removes the first datagram.
    pub(super) fn drop_first(&mut self) {
        let length = self.first().len();
        self.bytes.advance(length);
        self.count = self.count.saturating_sub(1);
        if self.count == 0 {
            // Reclaims the memory of consumed datagrams.
            self.bytes = BytesMut::with_capacity(CAPACITY);
            self.clear();
        }
    }

    pub(super) fn clear(&mut self) {
        self.bytes.clear();
        (self.segment, self.count, self.last) = (0, 0, 0);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Puts datagrams of these sizes into batches, and returns the sizes in each.
    fn batches(max: usize, lengths: &[usize]) -> Vec<Vec<usize>> {
        let (mut batch, mut all) = (Batch::new(max), Vec::new());
        let mut now = Vec::new();
        for (mark, length) in (1..).zip(lengths) {
            if !batch.fits(*length) {
                all.push(std::mem::take(&mut now));
                batch.clear();
            }
            batch.add(&vec![mark; *length]);
            now.push(*length);
            let segment = batch.segment().unwrap_or(*length);
            assert_eq!(batch.bytes().chunks(segment).map(<[u8]>::len).collect::<Vec<_>>(), now);
        }
        all.push(now);
        all
    }

    #[test]
    fn batch_has_datagrams_of_one_size_and_a_shorter_last_one() {
        assert_eq!(batches(64, &[1332, 1332, 204, 1332]), vec![vec![1332, 1332, 204], vec![1332]]);
    }

    #[test]
    fn longer_datagram_begins_a_new_batch() {
        assert_eq!(batches(64, &[44, 1332, 1332]), vec![vec![44], vec![1332, 1332]]);
    }

    #[test]
    fn batch_size_is_bounded_by_the_system() {
        assert_eq!(batches(1, &[44, 44, 44]).len(), 3);
        assert_eq!(batches(2, &[44; 5]).len(), 3);
        let largest = batches(1_000, &[1332; 100]).iter().map(Vec::len).max().unwrap();
        assert_eq!(largest, MAX_BYTES / 1332);
    }

    #[test]
    fn datagrams_are_removed_one_by_one() {
        let mut batch = Batch::new(64);
        for (mark, length) in [(1, 1332), (2, 1332), (3, 44)] {
            batch.add(&vec![mark; length]);
        }
        for (mark, length) in [(1, 1332), (2, 1332), (3, 44)] {
            assert_eq!(batch.first(), vec![mark; length]);
            batch.drop_first();
        }
        assert!(batch.is_empty() && batch.fits(1332));
    }

    #[test]
    fn datagram_is_written_in_place_and_one_that_does_not_fit_is_moved_apart() {
        let mut batch = Batch::new(64);
        let mut apart = BytesMut::new();
        let mut write = |batch: &mut Batch, mark: u8, length: usize| {
            let written = batch.add_with(
                &mut apart,
                |datagram| datagram[0] == 9,
                |bytes| {
                    bytes.extend_from_slice(&vec![mark; length]);
                    Some(length)
                },
            );
            assert_eq!(written, Some(length));
            std::mem::take(&mut apart)
        };
        assert!(write(&mut batch, 1, 1332).is_empty());
        assert_eq!(write(&mut batch, 9, 44), vec![9; 44], "the caller wants it apart");
        assert!(write(&mut batch, 2, 1332).is_empty());
        assert_eq!(write(&mut batch, 3, 1400), vec![3; 1400], "longer than the others");
        assert!(write(&mut batch, 4, 204).is_empty());
        assert_eq!(write(&mut batch, 5, 204), vec![5; 204], "nothing follows a shorter one");
        assert_eq!(batch.bytes(), [vec![1; 1332], vec![2; 1332], vec![4; 204]].concat());
        assert_eq!(batch.add_with(&mut apart, |_| false, |_| None::<usize>), None);
        assert_eq!(batch.bytes().len(), 2 * 1332 + 204);
    }

    #[test]
    fn batch_memory_is_reused() {
        let mut batch = Batch::new(64);
        let begin = batch.bytes().as_ptr();
        for _ in 0..100 {
            while batch.fits(1332) {
                batch.add(&[1; 1332]);
            }
            assert_eq!(batch.bytes().as_ptr(), begin);
            batch.clear();
        }
        assert!(batch.is_empty() && batch.bytes().is_empty());
    }
}
