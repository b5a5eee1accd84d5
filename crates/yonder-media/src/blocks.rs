//! Block allocator for access units: units are assembled in blocks that are reused once no reader holds them.
//!
//! A stream needs as much new memory each second as it has bytes. Fresh pages cost more than writing to them, since the
//! system clears and maps them; and a unit that outgrows a small buffer has to be moved.

use std::collections::VecDeque;

use bytes::{Bytes, BytesMut};

/// Smallest block: allocators fit four into half a megabyte. Larger blocks are this size times a power of two.
const BLOCK: usize = 112 * 1024;
/// Units of mean length that a block has room for.
const UNITS: usize = 4;
/// Maximum ratio of a reused block's size to the required size.
const SPARE: usize = 4;
/// Blocks taken between two releases of blocks that were free all the time.
const RELEASE_INTERVAL: u32 = 64;

/// Block in use.
#[derive(Debug)]
struct Block {
    /// Begin of the block. It is the last reference when all units in it are dropped.
    begin: Bytes,
    size: usize,
}

/// Writer that assembles units piece by piece.
#[derive(Debug, Default)]
pub struct BlockWriter {
    /// Unit in progress and the free space behind it.
    open: BytesMut,
    blocks: VecDeque<Block>,
    /// Mean length of the units, without much shorter ones.
    usual: usize,
    /// Blocks taken since the last release, and the minimum of free blocks in this time.
    taken: u32,
    least_free: usize,
}

impl BlockWriter {
    /// Returns the length of the unit in progress, in bytes.
    #[must_use]
    pub fn len(&self) -> usize {
        self.open.len()
    }

    /// Returns true before the first piece of a unit.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.open.is_empty()
    }

    /// Appends a piece to the unit. This is the only copy of the payload.
    pub fn push(&mut self, piece: &[u8]) {
        self.room(piece.len()).extend_from_slice(piece);
    }

    /// Returns the unit in progress, with space for `more` bytes.
    pub fn room(&mut self, more: usize) -> &mut BytesMut {
        // A unit begins in a block in which it probably fits.
        let needed = if self.open.is_empty() { more.max(self.usual) } else { more };
        if self.open.capacity() - self.open.len() < needed {
            self.move_on(more);
        }
        &mut self.open
    }

    /// Discards the unit in progress.
    pub fn clear(&mut self) {
        self.open.clear();
    }

    /// Completes the unit and begins the next one.
    pub fn finish(&mut self) -> Bytes {
        let unit = self.open.split().freeze();
        if unit.len() >= self.usual / 4 {
            self.usual = if self.usual == 0 { unit.len() } else { (self.usual * 7 + unit.len()) / 8 };
        }
        unit
    }

    /// Continues in another block.
    fn move_on(&mut self, more: usize) {
        let whole = self.open.len() + more;
        // A unit that has outgrown a block may grow further.
        let least = if self.open.is_empty() { whole } else { whole + whole / 2 };
        let mut fresh = self.take(least.max(self.usual * UNITS));
        fresh.extend_from_slice(&self.open);
        self.open = fresh;
    }

    fn take(&mut self, least: usize) -> BytesMut {
        let mut size = BLOCK;
        while size < least {
            size *= 2;
        }
        self.let_go();
        let fits = |block: &Block| {
            (size..=size.saturating_mul(SPARE)).contains(&block.size) && block.begin.is_unique()
        };
        let free = self.blocks.iter().position(fits).and_then(|at| self.blocks.remove(at));
        let (size, mut room) = match free.map(|block| (block.size, block.begin.try_into_mut())) {
            Some((size, Ok(room))) => (size, room),
            Some((_, Err(_))) | None => (size, BytesMut::with_capacity(size)),
        };
        let begin = room.split_to(0).freeze();
        self.blocks.push_back(Block { begin, size });
        room
    }

    /// Releases blocks that were free since the last release.
    fn let_go(&mut self) {
        let free = self.blocks.iter().filter(|block| block.begin.is_unique()).count();
        self.least_free = if self.taken == 0 { free } else { self.least_free.min(free) };
        self.taken += 1;
        if self.taken < RELEASE_INTERVAL {
            return;
        }
        let mut excess = self.least_free;
        self.blocks.retain(|block| {
            let goes = excess > 0 && block.begin.is_unique();
            excess -= usize::from(goes);
            !goes
        });
        self.taken = 0;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn write(writer: &mut BlockWriter, length: usize) -> Bytes {
        for _ in 0..length / 1_000 {
            writer.push(&[7; 1_000]);
        }
        writer.finish()
    }

    #[test]
    fn block_is_reused_once_all_of_its_units_are_dropped() {
        let mut writer = BlockWriter::default();
        let mut places = std::collections::BTreeSet::new();
        let mut held = VecDeque::new();
        for _ in 0..2_000 {
            let unit = write(&mut writer, 40_000);
            places.insert(unit.as_ptr() as usize / BLOCK);
            held.push_back(unit);
            if held.len() > 25 {
                held.pop_front();
            }
        }
        // The test holds a second of frames of the 80 MB written.
        assert!(writer.blocks.len() <= 9, "{} blocks", writer.blocks.len());
        assert!(places.len() <= 40, "{} places", places.len());
    }

    #[test]
    fn units_begin_where_they_fit_so_that_they_seldom_move() {
        let mut writer = BlockWriter::default();
        let mut moves = 0;
        for _ in 0..500 {
            writer.push(&[0]);
            let begin = writer.open.as_ptr();
            for _ in 0..250 {
                writer.push(&[1; 1_000]);
            }
            moves += u32::from(writer.open.as_ptr() != begin);
            assert_eq!(writer.finish().len(), 250_001);
        }
        assert!(moves <= 3, "{moves} moves");
    }

    #[test]
    fn unused_blocks_are_released() {
        let mut writer = BlockWriter::default();
        let held: Vec<Bytes> = (0..200).map(|_| write(&mut writer, 50_000)).collect();
        let most = writer.blocks.len();
        drop(held);
        for _ in 0..600 {
            write(&mut writer, 50_000);
        }
        assert!(most > 20 && writer.blocks.len() <= 3, "{most}, then {}", writer.blocks.len());
    }

    #[test]
    fn discarded_unit_leaves_its_space_to_the_next() {
        let mut writer = BlockWriter::default();
        writer.push(b"lost");
        let begin = writer.open.as_ptr();
        writer.clear();
        assert!(writer.is_empty());
        writer.push(b"kept");
        assert_eq!((writer.open.as_ptr(), writer.len()), (begin, 4));
        assert_eq!(writer.finish(), Bytes::from_static(b"kept"));
    }

    proptest! {
        #[test]
        fn units_keep_their_content_while_blocks_are_reused(
            units in prop::collection::vec((prop::collection::vec(0_usize..60_000, 0..6), 0_usize..30), 1..120),
        ) {
            let mut writer = BlockWriter::default();
            let mut held: VecDeque<(Bytes, u8)> = VecDeque::new();
            for (number, (pieces, keep)) in units.into_iter().enumerate() {
                let mark = u8::try_from(number % 251).unwrap();
                for piece in &pieces {
                    writer.push(&vec![mark; *piece]);
                }
                prop_assert_eq!(writer.len(), pieces.iter().sum::<usize>());
                held.push_back((writer.finish(), mark));
                while held.len() > keep {
                    let (unit, mark) = held.pop_front().unwrap();
                    prop_assert!(unit.iter().all(|byte| *byte == mark));
                }
            }
        }
    }
}
