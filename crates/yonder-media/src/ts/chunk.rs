//! Packets of one access unit, with their transmission times.

use bytes::Bytes;
use smallvec::SmallVec;

use super::packet::PACKET;

/// Packets further apart than this, in ticks, do not share a datagram.
const MAX_GROUP_SPAN: i64 = 1_800;

/// Packets with even spacing.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Run {
    /// Number of packets.
    pub packets: usize,
    /// Transport clock at the first packet, in ticks.
    pub begin: i64,
    /// Ticks from the first packet to the end of the last.
    pub span: i64,
}

/// Packets of one access unit.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Chunk {
    /// Whole packets.
    pub bytes: Bytes,
    /// Transport clock at the unit, in ticks. Runs may begin later, where the unit itself waits for others.
    pub begin: i64,
    /// Transmission times, in order.
    pub runs: SmallVec<[Run; 4]>,
}

impl Chunk {
    /// Returns the packets in groups of at most `max` packets, each with the transport clock at its first packet. Packets of a
    /// clearly later time begin a group of their own: a clock reference must not arrive before its time.
    pub fn groups(&self, max: usize) -> impl Iterator<Item = (i64, Bytes)> {
        let mut clocks = self
            .runs
            .iter()
            .flat_map(|run| {
                let packets = i64::try_from(run.packets).unwrap_or(1).max(1);
                (0..packets).map(move |within| run.begin + run.span * within / packets)
            })
            .peekable();
        let mut from = 0;
        std::iter::from_fn(move || {
            let begin = clocks.next()?;
            let mut packets = 1;
            while packets < max.max(1) && clocks.next_if(|clock| clock - begin < MAX_GROUP_SPAN).is_some() {
                packets += 1;
            }
            let to = from + packets * PACKET;
            let bytes = self.bytes.slice(from.min(self.bytes.len())..to.min(self.bytes.len()));
            from = to;
            Some((begin, bytes))
        })
    }
}
