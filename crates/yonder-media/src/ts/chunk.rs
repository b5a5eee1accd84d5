//! Transport packets of one access unit, with their transmission times.

use bytes::Bytes;
use smallvec::SmallVec;

use super::packet::PACKET;

/// Maximum distance, in ticks, of packets in one datagram.
const MAX_GROUP_SPAN: i64 = 1_800;

/// Packets with even spacing.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PacedRun {
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
    /// Complete packets.
    pub bytes: Bytes,
    /// Transport clock at the access unit, in ticks. Runs may begin later if the access unit waits for others.
    pub begin: i64,
    /// Transmission times, in order.
    pub runs: SmallVec<[PacedRun; 4]>,
}

impl Chunk {
    /// Returns the packets in groups of at most `max`, each with the transport clock of its first packet. Packets with
    /// a clearly later time begin a new group, since a clock reference must not arrive before its time.
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
