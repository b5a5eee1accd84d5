//! Datagrams that are handed to the system together.

use bytes::BytesMut;

/// Bytes handed to one system call.
const MOST_BYTES: usize = 60 * 1024;
/// No datagram is longer: an Ethernet frame.
const MOST_EACH: usize = 1500;

/// Datagrams of one length, behind each other; only the last may be shorter. The room is used again and again.
#[derive(Debug)]
pub(super) struct Batch {
    bytes: BytesMut,
    /// Length of each but the last.
    segment: usize,
    count: usize,
    /// Length of the last.
    last: usize,
    /// How many the system takes at once.
    most: usize,
}

impl Batch {
    pub(super) fn new(most: usize) -> Self {
        Self { bytes: BytesMut::with_capacity(MOST_BYTES), segment: 0, count: 0, last: 0, most }
    }

    pub(super) fn is_empty(&self) -> bool {
        self.count == 0
    }

    /// True when a datagram of `length` bytes may go with those that are here.
    pub(super) fn fits(&self, length: usize) -> bool {
        self.is_empty()
            || self.last == self.segment
                && length <= self.segment
                && self.bytes.len() + length <= MOST_BYTES
                && self.count < self.most
    }

    /// Adds a datagram that fits.
    pub(super) fn add(&mut self, datagram: &[u8]) {
        debug_assert!(self.fits(datagram.len()) && datagram.len() <= MOST_EACH);
        if self.is_empty() {
            self.segment = datagram.len();
        }
        self.bytes.extend_from_slice(datagram);
        self.count += 1;
        self.last = datagram.len();
    }

    pub(super) fn bytes(&self) -> &[u8] {
        &self.bytes
    }

    /// Length of each datagram but the last; `None` where there is one only.
    pub(super) fn segment(&self) -> Option<usize> {
        (self.count > 1).then_some(self.segment)
    }

    pub(super) fn clear(&mut self) {
        self.bytes.clear();
        (self.segment, self.count, self.last) = (0, 0, 0);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Puts datagrams of these lengths into batches, and returns the lengths in each.
    fn batches(most: usize, lengths: &[usize]) -> Vec<Vec<usize>> {
        let (mut batch, mut all) = (Batch::new(most), Vec::new());
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
    fn datagrams_of_one_length_go_together_and_a_shorter_one_ends_them() {
        assert_eq!(batches(64, &[1332, 1332, 204, 1332]), vec![vec![1332, 1332, 204], vec![1332]]);
    }

    #[test]
    fn a_longer_one_begins_anew() {
        assert_eq!(batches(64, &[44, 1332, 1332]), vec![vec![44], vec![1332, 1332]]);
    }

    #[test]
    fn no_more_go_together_than_the_system_takes() {
        assert_eq!(batches(1, &[44, 44, 44]).len(), 3);
        assert_eq!(batches(2, &[44; 5]).len(), 3);
        let largest = batches(1_000, &[1332; 100]).iter().map(Vec::len).max().unwrap();
        assert_eq!(largest, MOST_BYTES / 1332);
    }

    #[test]
    fn its_room_is_used_again() {
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
