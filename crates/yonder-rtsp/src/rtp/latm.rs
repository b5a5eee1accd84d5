//! AAC in LATM (RFC 6416): one `AudioMuxElement` in one packet or several.

use bytes::{Bytes, BytesMut};
use smallvec::SmallVec;
use yonder_media::aac::{SAMPLES_PER_FRAME, StreamMux};

use super::aac::{AacFrame, AacFrames};
use super::packet::RtpPacket;

/// Largest element assembled.
const MAX_ELEMENT_BYTES: usize = 64 * 1024;

/// Takes AAC frames out of LATM packets.
#[derive(Debug)]
pub struct LatmDepacketiser {
    mux: Option<StreamMux>,
    /// The configuration comes with the elements (`cpresent=1`).
    in_band: bool,
    /// RTP ticks of one frame.
    frame_ticks: u32,
    partial: Option<(u32, BytesMut)>,
    /// Packets are missing: what follows up to the next marker belongs to a broken element.
    broken: bool,
    dropped: u64,
}

impl LatmDepacketiser {
    /// A depacketiser with the configuration of the session description, if that held one.
    #[must_use]
    pub fn new(mux: Option<StreamMux>, in_band: bool) -> Self {
        Self { mux, in_band, frame_ticks: SAMPLES_PER_FRAME, partial: None, broken: false, dropped: 0 }
    }

    /// Frames dropped because a piece was lost or made no sense.
    #[must_use]
    pub fn dropped(&self) -> u64 {
        self.dropped
    }

    /// The `AudioSpecificConfig` in force.
    #[must_use]
    pub fn specific(&self) -> Option<&Bytes> {
        self.mux.as_ref().map(|mux| &mux.specific)
    }

    /// Packets are missing before the next one.
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
        let mut taken = AacFrames::with_capacity(frames.len());
        for data in frames.into_iter().filter(|data| !data.is_empty()) {
            taken.push(AacFrame { timestamp: at, data });
            at = at.wrapping_add(self.frame_ticks);
        }
        taken
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

    fn depacketiser() -> LatmDepacketiser {
        LatmDepacketiser::new(StreamMux::parse(&CONFIG).ok(), false)
    }

    #[test]
    fn an_element_in_one_packet_gives_its_frame() {
        let frames = depacketiser().handle_packet(&packet(7, true, &[3, 1, 2, 3]));
        assert_eq!(frames[..], [AacFrame { timestamp: 7, data: Bytes::from_static(&[1, 2, 3]) }]);
    }

    #[test]
    fn an_element_in_several_packets_is_joined() {
        let mut depacketiser = depacketiser();
        assert!(depacketiser.handle_packet(&packet(7, false, &[3, 1])).is_empty());
        let frames = depacketiser.handle_packet(&packet(7, true, &[2, 3]));
        assert_eq!(frames[0].data[..], [1, 2, 3]);
    }

    #[test]
    fn a_loss_inside_an_element_drops_it_and_no_other() {
        let mut depacketiser = depacketiser();
        depacketiser.handle_packet(&packet(7, false, &[3, 1]));
        depacketiser.handle_loss();
        assert!(depacketiser.handle_packet(&packet(7, true, &[3])).is_empty());
        assert_eq!(depacketiser.handle_packet(&packet(8, true, &[1, 9])).len(), 1);
        assert_eq!(depacketiser.dropped(), 1);
    }

    #[test]
    fn the_audio_specific_config_is_told() {
        assert_eq!(depacketiser().specific().map(|config| config[..].to_vec()), Some(vec![0x12, 0x08]));
    }

    proptest! {
        #[test]
        fn any_packets_are_survived(
            packets in prop::collection::vec((0_u32..3, any::<bool>(), prop::collection::vec(any::<u8>(), 0..30)), 0..40),
            in_band: bool,
        ) {
            let mut depacketiser = LatmDepacketiser::new(StreamMux::parse(&CONFIG).ok(), in_band);
            for (time, marker, payload) in packets {
                for frame in depacketiser.handle_packet(&packet(time, marker, &payload)) {
                    prop_assert!(!frame.data.is_empty());
                }
            }
        }
    }
}
