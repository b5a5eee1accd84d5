//! H.264 payloads (RFC 6184): single NAL units, STAP-A and FU-A become access units.

use bytes::{Buf as _, BufMut as _, Bytes, BytesMut};
use yonder_media::h264::{NalKind, kind_of};

use super::packet::RtpPacket;

/// Largest access unit assembled. A 4K keyframe at a very high rate stays under 4 MB.
const MAX_UNIT_BYTES: usize = 8 * 1024 * 1024;
/// Most NAL units in one access unit; 8K pictures of one slice per macroblock row have 270.
const MAX_UNIT_NALS: usize = 1024;

/// One access unit as it came.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct H264Unit {
    /// RTP time.
    pub timestamp: u32,
    /// NAL units in decoding order.
    pub nals: Vec<Bytes>,
    /// An IDR picture.
    pub keyframe: bool,
}

/// Assembles access units from packets in order.
///
/// A unit with a lost piece is dropped, and so is all that depends on it, up to the next keyframe.
#[derive(Debug, Default)]
pub struct H264Depacketiser {
    timestamp: Option<u32>,
    nals: Vec<Bytes>,
    bytes: usize,
    fragment: Option<BytesMut>,
    damaged: bool,
    needs_keyframe: bool,
    /// Time of the last unit that a marker closed.
    closed_by_marker: Option<u32>,
    /// The camera sets the marker inside pictures: only a change of time ends one.
    distrusts_marker: bool,
    dropped: u64,
    last_fragmented_len: usize,
}

impl H264Depacketiser {
    /// Access units dropped so far because a piece of them, or of what they depend on, was lost.
    #[must_use]
    pub fn dropped(&self) -> u64 {
        self.dropped
    }

    /// Packets are missing before the next one.
    pub fn handle_loss(&mut self) {
        self.fragment = None;
        self.damaged = true;
        self.needs_keyframe = true;
    }

    /// The camera started anew: nothing from before belongs to what follows.
    pub fn restart(&mut self) {
        let dropped = self.dropped;
        *self = Self { dropped, distrusts_marker: self.distrusts_marker, ..Self::default() };
    }

    /// Takes a packet; returns the access units it completed (at most two).
    pub fn handle_packet(&mut self, packet: &RtpPacket) -> Vec<H264Unit> {
        let mut units = Vec::new();
        if self.timestamp != Some(packet.timestamp) {
            units.extend(self.close());
            self.timestamp = Some(packet.timestamp);
        } else if self.nals.is_empty() && self.closed_by_marker == Some(packet.timestamp) {
            // More of a picture whose end was marked: this camera's markers mean nothing.
            self.distrusts_marker = true;
        }
        self.take_payload(packet.payload.clone());
        if packet.marker && !self.distrusts_marker {
            self.closed_by_marker = Some(packet.timestamp);
            units.extend(self.close());
        }
        units
    }

    /// Ends the current access unit, if it holds a picture. Parameter sets on their own wait for theirs.
    fn close(&mut self) -> Option<H264Unit> {
        if self.fragment.take().is_some() {
            self.damaged = true;
        }
        let has_picture = self.nals.iter().any(|nal| kind_of(nal).is_picture());
        if !has_picture && !self.damaged {
            return None;
        }
        let nals = std::mem::take(&mut self.nals);
        self.bytes = 0;
        let keyframe = nals.iter().any(|nal| kind_of(nal) == NalKind::IdrSlice);
        if std::mem::take(&mut self.damaged) {
            self.needs_keyframe = true;
            self.dropped += u64::from(has_picture);
            return None;
        }
        if self.needs_keyframe && !keyframe {
            self.dropped += 1;
            return None;
        }
        self.needs_keyframe = false;
        Some(H264Unit { timestamp: self.timestamp?, nals, keyframe })
    }

    fn take_payload(&mut self, mut payload: Bytes) {
        let Some(&indicator) = payload.first() else { return };
        match indicator & 0x1f {
            1..=23 => self.take_nal(payload),
            24 => {
                payload.advance(1);
                self.take_aggregate(payload);
            }
            28 => self.take_fragment(payload),
            // STAP-B, MTAPs and FU-B belong to the interleaved mode, which is never set up.
            _ => self.damaged = true,
        }
    }

    fn take_nal(&mut self, nal: Bytes) {
        if nal.is_empty() {
            return;
        }
        self.bytes += nal.len();
        if self.bytes > MAX_UNIT_BYTES || self.nals.len() >= MAX_UNIT_NALS {
            self.nals.clear();
            self.bytes = 0;
            self.damaged = true;
            return;
        }
        self.nals.push(nal);
    }

    /// STAP-A (5.7.1): NAL units with 16-bit lengths.
    fn take_aggregate(&mut self, mut payload: Bytes) {
        while let Some((size, rest)) = payload.split_first_chunk::<2>() {
            let size = usize::from(u16::from_be_bytes(*size));
            if size > rest.len() {
                self.damaged = true;
                return;
            }
            payload.advance(2);
            let nal = payload.split_to(size);
            self.take_nal(nal);
        }
    }

    /// FU-A (5.8): the one place where payload is copied.
    fn take_fragment(&mut self, mut payload: Bytes) {
        let Some((&[indicator, header], _)) = payload.split_first_chunk::<2>() else {
            self.damaged = true;
            return;
        };
        payload.advance(2);
        let (start, end) = (header & 0x80 != 0, header & 0x40 != 0);
        if start {
            if self.fragment.is_some() {
                self.damaged = true;
            }
            // Fragments of one stream are of like size: the last one's length avoids growing by steps.
            let mut fragment = BytesMut::with_capacity(self.last_fragmented_len.max(payload.len() * 4));
            fragment.put_u8(indicator & 0xe0 | header & 0x1f);
            self.fragment = Some(fragment);
        }
        let Some(fragment) = self.fragment.as_mut() else {
            self.damaged = true;
            return;
        };
        if fragment.len() + payload.len() > MAX_UNIT_BYTES {
            self.fragment = None;
            self.damaged = true;
            return;
        }
        fragment.put_slice(&payload);
        if end && let Some(fragment) = self.fragment.take() {
            self.last_fragmented_len = fragment.len();
            self.take_nal(fragment.freeze());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn packet(timestamp: u32, marker: bool, payload: &[u8]) -> RtpPacket {
        RtpPacket {
            marker,
            payload_type: 96,
            sequence: 0,
            timestamp,
            ssrc: 1,
            payload: Bytes::copy_from_slice(payload),
        }
    }

    fn run(packets: &[RtpPacket]) -> Vec<H264Unit> {
        let mut depacketiser = H264Depacketiser::default();
        packets.iter().flat_map(|packet| depacketiser.handle_packet(packet)).collect()
    }

    #[test]
    fn single_units_up_to_the_marker_make_an_access_unit() {
        let units = run(&[
            packet(1, false, &[0x67, 1]),
            packet(1, false, &[0x68, 2]),
            packet(1, true, &[0x65, 3]),
            packet(2, true, &[0x41, 4]),
        ]);
        assert_eq!(units.len(), 2);
        assert_eq!(units[0].nals, vec![&[0x67, 1][..], &[0x68, 2], &[0x65, 3]]);
        assert!(units[0].keyframe && !units[1].keyframe);
    }

    #[test]
    fn an_aggregate_holds_several_units() {
        let units = run(&[packet(1, true, &[0x78, 0, 2, 0x67, 1, 0, 1, 0x68, 0, 2, 0x65, 3])]);
        assert_eq!(units[0].nals, vec![&[0x67, 1][..], &[0x68], &[0x65, 3]]);
    }

    #[test]
    fn fragments_are_joined_under_the_original_header() {
        let units = run(&[
            packet(1, false, &[0x7c, 0x85, 1, 2]),
            packet(1, false, &[0x7c, 0x05, 3]),
            packet(1, true, &[0x7c, 0x45, 4]),
        ]);
        assert_eq!(units[0].nals, vec![&[0x65, 1, 2, 3, 4][..]]);
        assert!(units[0].keyframe);
    }

    #[test]
    fn a_missing_marker_is_made_good_by_the_change_of_time() {
        let units =
            run(&[packet(1, false, &[0x65, 1]), packet(2, false, &[0x41, 2]), packet(3, false, &[0x41, 3])]);
        assert_eq!(units.iter().map(|unit| unit.timestamp).collect::<Vec<_>>(), vec![1, 2]);
    }

    #[test]
    fn a_marker_on_every_slice_is_distrusted_after_the_first_picture() {
        let slice = |timestamp| packet(timestamp, true, &[0x65, 1]);
        let units = run(&[slice(1), slice(1), slice(1), slice(2), slice(2), slice(2), slice(3)]);
        let counts: Vec<(u32, usize)> = units.iter().map(|unit| (unit.timestamp, unit.nals.len())).collect();
        assert_eq!(counts, vec![(1, 1), (1, 2), (2, 3)]);
    }

    #[test]
    fn parameter_sets_of_their_own_time_go_with_the_next_picture() {
        let units =
            run(&[packet(1, true, &[0x67, 1]), packet(1, true, &[0x68, 1]), packet(2, true, &[0x65, 1])]);
        assert_eq!(units.len(), 1);
        assert_eq!((units[0].timestamp, units[0].nals.len()), (2, 3));
    }

    #[test]
    fn after_a_loss_everything_up_to_the_next_keyframe_is_dropped_and_counted() {
        let mut depacketiser = H264Depacketiser::default();
        assert_eq!(depacketiser.handle_packet(&packet(1, true, &[0x65, 1])).len(), 1);
        depacketiser.handle_packet(&packet(2, false, &[0x7c, 0x81, 1]));
        depacketiser.handle_loss();
        assert!(depacketiser.handle_packet(&packet(2, true, &[0x7c, 0x41, 2])).is_empty());
        assert!(depacketiser.handle_packet(&packet(3, true, &[0x41, 3])).is_empty());
        assert_eq!(depacketiser.handle_packet(&packet(4, true, &[0x65, 4])).len(), 1);
        assert_eq!(depacketiser.handle_packet(&packet(5, true, &[0x41, 5])).len(), 1);
        assert_eq!(depacketiser.dropped(), 1);
    }

    #[test]
    fn a_fragment_without_its_start_spoils_only_its_own_picture_chain() {
        let units = run(&[packet(1, true, &[0x7c, 0x41, 2]), packet(2, true, &[0x65, 1])]);
        assert_eq!(units.iter().map(|unit| unit.timestamp).collect::<Vec<_>>(), vec![2]);
    }

    #[test]
    fn an_endless_access_unit_is_given_up() {
        let mut depacketiser = H264Depacketiser::default();
        depacketiser.handle_packet(&packet(1, false, &[0x7c, 0x85]));
        let piece = [&[0x7c, 0x05][..], &[7; 60_000]].concat();
        for _ in 0..200 {
            depacketiser.handle_packet(&packet(1, false, &piece));
        }
        assert!(depacketiser.handle_packet(&packet(1, true, &[0x7c, 0x45, 1])).is_empty());
    }

    proptest! {
        #[test]
        fn any_payloads_in_any_order_are_survived(
            packets in prop::collection::vec((0_u32..4, any::<bool>(), prop::collection::vec(any::<u8>(), 0..20), any::<bool>()), 0..60)
        ) {
            let mut depacketiser = H264Depacketiser::default();
            for (timestamp, marker, payload, loss) in packets {
                if loss {
                    depacketiser.handle_loss();
                }
                for unit in depacketiser.handle_packet(&packet(timestamp, marker, &payload)) {
                    prop_assert!(!unit.nals.is_empty());
                    prop_assert!(unit.nals.iter().all(|nal| !nal.is_empty()));
                }
            }
        }
    }
}
