//! Reception of one track.

use yonder_media::Track;

use crate::rtp::{Depacketizer, DropCounts, JitterBuffer, OrderStats, Source};

/// Consecutive packets of another payload type after which that type is accepted.
const TYPE_CHANGE_PACKETS: u32 = 16;

/// Reception of one track: its accepted stream, packet order and depacketizer.
#[derive(Debug)]
pub(crate) struct Reception {
    pub(crate) track: Track,
    /// Payload type from the session description.
    pub(crate) described_type: u8,
    /// Payload type that is accepted.
    pub(crate) payload_type: u8,
    /// Packets of another type since the last packet of the accepted type.
    pub(crate) other_run: u32,
    pub(crate) source: Source,
    /// Jitter buffer, for UDP transport; interleaved packets are in order.
    pub(crate) reorder: Option<JitterBuffer>,
    pub(crate) order: OrderStats,
    pub(crate) depacketizer: Depacketizer,
    pub(crate) drops: DropCounts,
}

impl Reception {
    /// Returns true for a packet of another stream on the same channel, and counts it.
    pub(crate) fn is_foreign(&mut self, payload_type: u8, ssrc: u32) -> bool {
        let is_known = payload_type == self.described_type || payload_type == self.payload_type;
        let is_foreign = !is_known && self.source.ssrc().is_some_and(|own| own != ssrc);
        self.drops.other_payload_type += u64::from(is_foreign);
        is_foreign
    }

    /// Returns true for a payload type that is accepted. Each channel has a single stream, so a camera that sends
    /// another type than it has described means that one: from the beginning, or once [`TYPE_CHANGE_PACKETS`] in a row
    /// have it. Once the described type arrives, only that one is accepted.
    pub(crate) fn accepts(&mut self, payload_type: u8) -> bool {
        if payload_type == self.described_type {
            self.payload_type = payload_type;
            self.other_run = 0;
            return true;
        }
        self.drops.other_payload_type += 1;
        if payload_type == self.payload_type {
            return true;
        }
        self.other_run += 1;
        if self.source.received() == 0 || self.other_run >= TYPE_CHANGE_PACKETS {
            self.payload_type = payload_type;
        }
        payload_type == self.payload_type
    }
}
