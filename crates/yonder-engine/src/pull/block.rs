//! What a connection delivered and nobody has taken yet.

use std::io;

use tokio::io::{AsyncRead, AsyncReadExt as _};

/// Room for one read. Large reads keep system calls few at high rates.
const ROOM: usize = 64 * 1024;

/// A block that is read into again and again, always at its beginning if all was taken: the memory stays warm.
#[derive(Debug)]
pub(super) struct Block {
    bytes: Vec<u8>,
    filled: usize,
}

impl Block {
    pub(super) fn new() -> Self {
        Self { bytes: vec![0; ROOM], filled: 0 }
    }

    /// Reads what is there and returns how many bytes came; zero at the end of the stream.
    ///
    /// # Errors
    /// The socket's failure.
    ///
    /// # Cancel safety
    /// What is dropped before it resolves has read nothing.
    pub(super) async fn read(&mut self, from: &mut (impl AsyncRead + Unpin)) -> io::Result<usize> {
        if self.filled == self.bytes.len() {
            // One item is longer than the block. Whoever takes it bounds how long it may be.
            self.bytes.resize(self.filled * 2, 0);
        }
        let count = from.read(self.bytes.get_mut(self.filled..).unwrap_or_default()).await?;
        self.filled += count;
        Ok(count)
    }

    /// What is there.
    pub(super) fn filled(&self) -> &[u8] {
        self.bytes.get(..self.filled).unwrap_or_default()
    }

    /// All is taken but the last `left` bytes.
    pub(super) fn keep_last(&mut self, left: usize) {
        let taken = self.filled.saturating_sub(left);
        if taken > 0 {
            self.bytes.copy_within(taken..self.filled, 0);
            self.filled -= taken;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn what_was_not_taken_stands_before_what_comes_next() {
        let mut block = Block::new();
        assert_eq!(block.read(&mut &b"abcdef"[..]).await.unwrap(), 6);
        block.keep_last(2);
        assert_eq!(block.filled(), b"ef");
        block.read(&mut &b"gh"[..]).await.unwrap();
        assert_eq!(block.filled(), b"efgh");
        block.keep_last(0);
        assert!(block.filled().is_empty());
        assert_eq!(block.read(&mut &b""[..]).await.unwrap(), 0);
    }

    #[tokio::test]
    async fn an_item_longer_than_the_block_is_read_whole() {
        let long: Vec<u8> = (0..=255).cycle().take(ROOM * 3).collect();
        let (mut block, mut rest) = (Block::new(), &long[..]);
        while block.read(&mut rest).await.unwrap() > 0 {}
        assert_eq!(block.filled(), long);
    }
}
