//! Receive buffer for unparsed bytes of a connection.

use std::io;
use std::task::{Context, Poll, ready};

use crate::link::Link;

/// Receive buffer that is filled from its beginning whenever all of it was parsed, so that its memory stays in the cache.
#[derive(Debug)]
pub(crate) struct Block {
    bytes: Vec<u8>,
    filled: usize,
}

impl Block {
    /// Creates a buffer for reads of `size` bytes. Large reads keep system calls few at high rates.
    pub(crate) fn new(size: usize) -> Self {
        Self { bytes: vec![0; size.max(1)], filled: 0 }
    }

    /// Reads from `link` and returns the number of bytes; zero at the end of the stream.
    ///
    /// # Errors
    /// The connection's failure.
    pub(crate) fn poll_read(
        &mut self,
        context: &mut Context<'_>,
        link: &mut Link,
    ) -> Poll<io::Result<usize>> {
        let count = ready!(link.poll_read(context, self.room()))?;
        self.filled += count;
        Poll::Ready(Ok(count))
    }

    /// Returns the free part. It grows where one item is longer than the buffer; the parser bounds the length of items.
    fn room(&mut self) -> &mut [u8] {
        if self.filled == self.bytes.len() {
            self.bytes.resize(self.filled * 2, 0);
        }
        self.bytes.get_mut(self.filled..).unwrap_or_default()
    }

    /// Returns the unparsed bytes.
    pub(crate) fn filled(&self) -> &[u8] {
        self.bytes.get(..self.filled).unwrap_or_default()
    }

    /// Removes all but the last `left` bytes.
    pub(crate) fn keep_last(&mut self, left: usize) {
        let parsed = self.filled.saturating_sub(left);
        if parsed > 0 {
            self.bytes.copy_within(parsed..self.filled, 0);
            self.filled -= parsed;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const READ_SIZE: usize = 64 * 1024;

    fn fill(block: &mut Block, bytes: &[u8]) {
        let room = block.room();
        let count = bytes.len().min(room.len());
        room[..count].copy_from_slice(&bytes[..count]);
        block.filled += count;
    }

    #[test]
    fn unparsed_bytes_precede_new_ones() {
        let mut block = Block::new(READ_SIZE);
        fill(&mut block, b"abcdef");
        block.keep_last(2);
        assert_eq!(block.filled(), b"ef");
        fill(&mut block, b"gh");
        assert_eq!(block.filled(), b"efgh");
        block.keep_last(0);
        assert!(block.filled().is_empty());
    }

    #[test]
    fn item_longer_than_the_buffer_is_held_whole() {
        let long: Vec<u8> = (0..=255).cycle().take(READ_SIZE * 3).collect();
        let mut block = Block::new(READ_SIZE);
        while block.filled().len() < long.len() {
            let at = block.filled().len();
            fill(&mut block, &long[at..]);
        }
        assert_eq!(block.filled(), long);
    }
}
