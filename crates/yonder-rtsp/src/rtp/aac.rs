//! Depacketizer for AAC-hbr (RFC 3640, 3.3.6): several frames in a packet, or one frame in several packets.

use bytes::{Bytes, BytesMut};
use smallvec::SmallVec;
use yonder_media::BitReader;
use yonder_media::aac::SAMPLES_PER_FRAME;

use super::packet::RtpPacket;

/// Maximum size of a frame: 6144 bits per channel, 48 channels.
const MAX_FRAME_BYTES: usize = 48 * 768;

/// Widths of the AU header fields, from the session description.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct AacFormat {
    /// `sizelength`: bits of the frame size.
    pub size_bits: u32,
    /// `indexlength`: bits of the first frame's index.
    pub index_bits: u32,
    /// `indexdeltalength`: bits of further index differences.
    pub delta_bits: u32,
}

impl Default for AacFormat {
    /// Returns the parameters of AAC-hbr (3.3.6).
    fn default() -> Self {
        Self { size_bits: 13, index_bits: 3, delta_bits: 3 }
    }
}

/// Raw AAC frame.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AacFrame {
    /// RTP time.
    pub timestamp: u32,
    /// Frame without a header.
    pub data: Bytes,
}

/// Frames completed by one packet, usually one.
pub(crate) type AacFrames = SmallVec<[AacFrame; 2]>;

/// Depacketizer for AAC-hbr.
#[derive(Debug, Default)]
pub struct AacDepacketizer {
    format: AacFormat,
    /// Incomplete frame: RTP time, full size, received data.
    partial: Option<(u32, usize, BytesMut)>,
    dropped: u64,
}

impl AacDepacketizer {
    /// Creates a depacketizer for the given field widths.
    #[must_use]
    pub fn new(format: AacFormat) -> Self {
        Self { format, ..Self::default() }
    }

    /// Returns the frames dropped because of packet loss or invalid data.
    #[must_use]
    pub fn dropped(&self) -> u64 {
        self.dropped
    }

    /// Handles a gap before the next packet.
    pub fn handle_loss(&mut self) {
        if self.partial.take().is_some() {
            self.dropped += 1;
        }
    }

    /// Handles a packet and returns the frames that it completes.
    pub fn handle_packet<P: AsRef<[u8]>>(&mut self, packet: &RtpPacket<P>) -> SmallVec<[AacFrame; 2]> {
        let Some((sizes, data)) = self.read_headers(packet.payload.as_ref()) else {
            self.dropped += 1;
            return SmallVec::new();
        };
        if let [size] = sizes.as_slice()
            && (*size > data.len() || self.partial.is_some())
        {
            return self.take_fragment(packet.timestamp, *size, data).into_iter().collect();
        }
        self.handle_loss();
        self.split_frames(packet.timestamp, &sizes, data)
    }

    /// Parses the AU headers (3.2.1): a 16-bit length in bits, then size and index of each frame.
    fn read_headers<'p>(&self, payload: &'p [u8]) -> Option<(SmallVec<[usize; 8]>, &'p [u8])> {
        let (length, rest) = payload.split_first_chunk::<2>()?;
        let header_bits = usize::from(u16::from_be_bytes(*length));
        let header_bytes = header_bits.div_ceil(8);
        let (headers, data) = rest.split_at_checked(header_bytes)?;
        let mut reader = BitReader::new(headers);
        let mut sizes = SmallVec::new();
        let mut index_bits = self.format.index_bits;
        let header_width = |index: u32| usize::try_from(self.format.size_bits + index).unwrap_or(usize::MAX);
        while reader.position() + header_width(index_bits) <= header_bits {
            sizes.push(usize::try_from(reader.bits(self.format.size_bits).ok()?).ok()?);
            reader.skip(index_bits).ok()?;
            index_bits = self.format.delta_bits;
            if header_width(index_bits) == 0 {
                break;
            }
        }
        if sizes.is_empty() { None } else { Some((sizes, data)) }
    }

    /// Splits a packet into frames. Frames are copied, since a small one would keep the whole receive block alive.
    fn split_frames(&mut self, timestamp: u32, sizes: &[usize], mut data: &[u8]) -> AacFrames {
        let mut frames = AacFrames::with_capacity(sizes.len());
        let mut at = timestamp;
        for &size in sizes {
            let Some((frame, rest)) = data.split_at_checked(size).filter(|_| size > 0) else {
                self.dropped += 1;
                break;
            };
            frames.push(AacFrame { timestamp: at, data: Bytes::copy_from_slice(frame) });
            data = rest;
            at = at.wrapping_add(SAMPLES_PER_FRAME);
        }
        frames
    }

    /// Adds a fragment (3.2.3.1): each one repeats the full size of the frame, and they are in order.
    fn take_fragment(&mut self, timestamp: u32, size: usize, data: &[u8]) -> Option<AacFrame> {
        let fits = self.partial.as_ref().is_some_and(|(at, whole, _)| *at == timestamp && *whole == size);
        if !fits {
            self.handle_loss();
            if size > MAX_FRAME_BYTES {
                self.dropped += 1;
                return None;
            }
            self.partial = Some((timestamp, size, BytesMut::with_capacity(size)));
        }
        let (_, _, joined) = self.partial.as_mut()?;
        joined.extend_from_slice(data);
        if joined.len() < size {
            return None;
        }
        let (timestamp, _, mut joined) = self.partial.take()?;
        joined.truncate(size);
        Some(AacFrame { timestamp, data: joined.freeze() })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn packet(timestamp: u32, payload: &[u8]) -> RtpPacket {
        RtpPacket {
            marker: true,
            payload_type: 97,
            sequence: 0,
            timestamp,
            ssrc: 1,
            payload: Bytes::copy_from_slice(payload),
        }
    }

    #[test]
    fn one_frame_in_a_packet() {
        let frames = AacDepacketizer::default().handle_packet(&packet(5, &[0, 16, 0, 3 << 3, 1, 2, 3]));
        assert_eq!(frames[..], [AacFrame { timestamp: 5, data: Bytes::from_static(&[1, 2, 3]) }]);
    }

    #[test]
    fn several_frames_in_a_packet_follow_at_their_length() {
        let frames =
            AacDepacketizer::default().handle_packet(&packet(0, &[0, 32, 0, 2 << 3, 0, 1 << 3, 1, 2, 3]));
        assert_eq!(frames.len(), 2);
        assert_eq!((frames[1].timestamp, &frames[1].data[..]), (1024, &[3][..]));
    }

    #[test]
    fn a_frame_in_several_packets_is_joined() {
        let mut depacketizer = AacDepacketizer::default();
        assert!(depacketizer.handle_packet(&packet(9, &[0, 16, 0, 5 << 3, 1, 2])).is_empty());
        let frames = depacketizer.handle_packet(&packet(9, &[0, 16, 0, 5 << 3, 3, 4, 5]));
        assert_eq!(frames[..], [AacFrame { timestamp: 9, data: Bytes::from_static(&[1, 2, 3, 4, 5]) }]);
    }

    #[test]
    fn a_frame_with_a_lost_piece_is_dropped_and_the_next_is_whole() {
        let mut depacketizer = AacDepacketizer::default();
        depacketizer.handle_packet(&packet(9, &[0, 16, 0, 5 << 3, 1, 2]));
        depacketizer.handle_loss();
        assert_eq!(depacketizer.handle_packet(&packet(10, &[0, 16, 0, 1 << 3, 7])).len(), 1);
        assert_eq!(depacketizer.dropped(), 1);
    }

    #[test]
    fn invalid_headers_are_counted() {
        let mut depacketizer = AacDepacketizer::default();
        for payload in [&[][..], &[0], &[0, 0], &[0xff, 0xff, 1], &[0, 16, 0, 0]] {
            assert!(depacketizer.handle_packet(&packet(0, payload)).is_empty());
        }
        assert_eq!(depacketizer.dropped(), 5);
    }

    proptest! {
        #[test]
        fn any_payloads_are_handled(payloads: Vec<Vec<u8>>, size_bits in 0_u32..20, index_bits in 0_u32..20) {
            let format = AacFormat { size_bits, index_bits, delta_bits: index_bits };
            let mut depacketizer = AacDepacketizer::new(format);
            for payload in payloads {
                depacketizer.handle_packet(&packet(1, &payload));
            }
        }
    }
}
