//! Depacketizer for LATM (RFC 6416): one `AudioMuxElement` in one or several packets.

use bytes::{Bytes, BytesMut};
use smallvec::SmallVec;
use yonder_media::aac::{SAMPLES_PER_FRAME, StreamMux};

use super::aac::{AacFrame, AacFrames};
use super::packet::RtpPacket;

/// Maximum size of an element.
const MAX_ELEMENT_BYTES: usize = 64 * 1024;

/// Depacketizer for LATM.
#[derive(Debug)]
pub struct LatmDepacketizer {
    mux: Option<StreamMux>,
    /// The configuration is in-band (`cpresent=1`).
    in_band: bool,
    /// RTP ticks per frame.
    frame_ticks: u32,
    partial: Option<(u32, BytesMut)>,
    /// Packets are missing: packets up to the next marker belong to a damaged element.
    broken: bool,
    dropped: u64,
}

impl LatmDepacketizer {
    /// Creates a depacketizer with the configuration from the session description, if present.
    #[must_use]
    pub fn new(mux: Option<StreamMux>, in_band: bool) -> Self {
        Self { mux, in_band, frame_ticks: SAMPLES_PER_FRAME, partial: None, broken: false, dropped: 0 }
    }

    /// Returns the frames dropped because of packet loss or invalid data.
    #[must_use]
    pub fn dropped(&self) -> u64 {
        self.dropped
    }

    /// Returns the `AudioSpecificConfig` in force.
    #[must_use]
    pub fn specific(&self) -> Option<&Bytes> {
        self.mux.as_ref().map(|mux| &mux.specific)
    }

    /// Handles a gap before the next packet.
    pub fn handle_loss(&mut self) {
        self.broken = self.partial.take().is_some();
    }

    /// Handles a packet and returns the frames that it completes. The marker ends an element (6.1).
    pub fn handle_packet<P: AsRef<[u8]>>(&mut self, packet: &RtpPacket<P>) -> SmallVec<[AacFrame; 2]> {
        if self.partial.as_ref().is_some_and(|(time, _)| *time != packet.timestamp) {
            self.partial = None;
            self.dropped += 1;
        }
        if std::mem::take(&mut self.broken) {
            self.broken = !packet.marker;
            self.dropped += 1;
            return SmallVec::new();
        }
        let element = match self.partial.take() {
            None if packet.marker => Bytes::copy_from_slice(packet.payload.as_ref()),
            partial => {
                let (time, mut joined) = partial.unwrap_or_else(|| (packet.timestamp, BytesMut::new()));
                joined.extend_from_slice(packet.payload.as_ref());
                if !packet.marker {
                    if joined.len() <= MAX_ELEMENT_BYTES {
                        self.partial = Some((time, joined));
                    }
                    return SmallVec::new();
                }
                joined.freeze()
            }
        };
        self.take_element(packet.timestamp, &element)
    }

    fn take_element(&mut self, timestamp: u32, element: &Bytes) -> AacFrames {
        let Ok(frames) = StreamMux::take_frames(&mut self.mux, self.in_band, element) else {
            self.dropped += 1;
            return SmallVec::new();
        };
        let mut at = timestamp;
        let mut decoded = AacFrames::with_capacity(frames.len());
        for data in frames.into_iter().filter(|data| !data.is_empty()) {
            decoded.push(AacFrame { timestamp: at, data });
            at = at.wrapping_add(self.frame_ticks);
        }
        decoded
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const CONFIG: [u8; 6] = [0x40, 0x00, 0x24, 0x10, 0x3f, 0xc0];

    fn packet(timestamp: u32, marker: bool, payload: &[u8]) -> RtpPacket {
        RtpPacket {
            marker,
            payload_type: 97,
            sequence: 0,
            timestamp,
            ssrc: 1,
            payload: Bytes::copy_from_slice(payload),
        }
    }

    fn depacketizer() -> LatmDepacketizer {
        LatmDepacketizer::new(StreamMux::parse(&CONFIG).ok(), false)
    }

    #[test]
    fn an_element_in_one_packet_gives_its_frame() {
        let frames = depacketizer().handle_packet(&packet(7, true, &[3, 1, 2, 3]));
        assert_eq!(frames[..], [AacFrame { timestamp: 7, data: Bytes::from_static(&[1, 2, 3]) }]);
    }

    #[test]
    fn an_element_in_several_packets_is_joined() {
        let mut depacketizer = depacketizer();
        assert!(depacketizer.handle_packet(&packet(7, false, &[3, 1])).is_empty());
        let frames = depacketizer.handle_packet(&packet(7, true, &[2, 3]));
        assert_eq!(frames[0].data[..], [1, 2, 3]);
    }

    #[test]
    fn a_loss_inside_an_element_drops_it_and_no_other() {
        let mut depacketizer = depacketizer();
        depacketizer.handle_packet(&packet(7, false, &[3, 1]));
        depacketizer.handle_loss();
        assert!(depacketizer.handle_packet(&packet(7, true, &[3])).is_empty());
        assert_eq!(depacketizer.handle_packet(&packet(8, true, &[1, 9])).len(), 1);
        assert_eq!(depacketizer.dropped(), 1);
    }

    #[test]
    fn audio_specific_config_is_returned() {
        assert_eq!(depacketizer().specific().map(|config| config[..].to_vec()), Some(vec![0x12, 0x08]));
    }

    proptest! {
        #[test]
        fn any_packets_are_handled(
            packets in prop::collection::vec((0_u32..3, any::<bool>(), prop::collection::vec(any::<u8>(), 0..30)), 0..40),
            in_band: bool,
        ) {
            let mut depacketizer = LatmDepacketizer::new(StreamMux::parse(&CONFIG).ok(), in_band);
            for (time, marker, payload) in packets {
                for frame in depacketizer.handle_packet(&packet(time, marker, &payload)) {
                    prop_assert!(!frame.data.is_empty());
                }
            }
        }
    }
}
