//! The RTP fixed header (RFC 3550, 5.1).

use bytes::{Buf as _, Bytes};

/// Why bytes are no RTP packet.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum PacketError {
    /// Shorter than its header says.
    #[error("packet is cut short")]
    Short,
    /// Not version 2.
    #[error("RTP version is {0}, not 2")]
    Version(u8),
    /// More padding than payload.
    #[error("padding is longer than the payload")]
    Padding,
}

/// An RTP packet; the payload is shared with the receive buffer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RtpPacket {
    /// Marker bit; ends an access unit in the video formats.
    pub marker: bool,
    /// Payload type.
    pub payload_type: u8,
    /// Sequence number.
    pub sequence: u16,
    /// Media time.
    pub timestamp: u32,
    /// Synchronisation source.
    pub ssrc: u32,
    /// What follows the header, without padding.
    pub payload: Bytes,
}

impl RtpPacket {
    /// Reads a packet.
    ///
    /// # Errors
    /// [`PacketError`] when it is cut short or of another version.
    pub fn parse(mut data: Bytes) -> Result<Self, PacketError> {
        let Some((&[b0, b1, s0, s1, t0, t1, t2, t3, i0, i1, i2, i3], _)) = data.split_first_chunk::<12>()
        else {
            return Err(PacketError::Short);
        };
        if b0 >> 6 != 2 {
            return Err(PacketError::Version(b0 >> 6));
        }
        data.advance(12);
        let sources = usize::from(b0 & 0x0f) * 4;
        skip(&mut data, sources)?;
        if b0 & 0x10 != 0 {
            let Some((&[_, _, high, low], _)) = data.split_first_chunk::<4>() else {
                return Err(PacketError::Short);
            };
            skip(&mut data, 4 + usize::from(u16::from_be_bytes([high, low])) * 4)?;
        }
        if b0 & 0x20 != 0 {
            let padding = usize::from(data.last().copied().ok_or(PacketError::Padding)?);
            let keep = data.len().checked_sub(padding).filter(|_| padding > 0).ok_or(PacketError::Padding)?;
            data.truncate(keep);
        }
        Ok(Self {
            marker: b1 & 0x80 != 0,
            payload_type: b1 & 0x7f,
            sequence: u16::from_be_bytes([s0, s1]),
            timestamp: u32::from_be_bytes([t0, t1, t2, t3]),
            ssrc: u32::from_be_bytes([i0, i1, i2, i3]),
            payload: data,
        })
    }
}

fn skip(data: &mut Bytes, count: usize) -> Result<(), PacketError> {
    if data.len() < count {
        return Err(PacketError::Short);
    }
    data.advance(count);
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const PLAIN: [u8; 14] = [0x80, 0xe0, 0x12, 0x34, 0, 0, 0, 9, 0xde, 0xad, 0xbe, 0xef, 0xaa, 0xbb];

    #[test]
    fn a_plain_packet_is_read() {
        let packet = RtpPacket::parse(Bytes::from_static(&PLAIN)).unwrap();
        assert_eq!((packet.marker, packet.payload_type, packet.sequence), (true, 96, 0x1234));
        assert_eq!((packet.timestamp, packet.ssrc), (9, 0xdead_beef));
        assert_eq!(packet.payload[..], [0xaa, 0xbb]);
    }

    #[test]
    fn contributing_sources_extension_and_padding_are_passed_over() {
        let mut data = PLAIN[..12].to_vec();
        data[0] = 0x80 | 0x20 | 0x10 | 1;
        data.extend([1, 2, 3, 4]); // one contributing source
        data.extend([0xbe, 0xde, 0, 1, 9, 9, 9, 9]); // extension of one word
        data.extend([0x41, 0x42, 0, 0, 3]); // two bytes and three of padding
        assert_eq!(RtpPacket::parse(Bytes::from(data)).unwrap().payload[..], [0x41, 0x42]);
    }

    #[test]
    fn lies_about_lengths_are_refused() {
        let change = |at: usize, value: u8| {
            let mut data = PLAIN.to_vec();
            data[at] = value;
            RtpPacket::parse(Bytes::from(data)).map(|_| ())
        };
        assert_eq!(change(0, 0x40), Err(PacketError::Version(1)));
        assert_eq!(change(0, 0x8f), Err(PacketError::Short));
        assert_eq!(change(0, 0x90), Err(PacketError::Short));
        assert_eq!(change(0, 0xa0), Err(PacketError::Padding));
        assert_eq!(RtpPacket::parse(Bytes::from_static(&PLAIN[..11])), Err(PacketError::Short));
    }

    proptest! {
        #[test]
        fn any_bytes_are_read_or_refused(data: Vec<u8>) {
            let length = data.len();
            if let Ok(packet) = RtpPacket::parse(Bytes::from(data)) {
                prop_assert!(packet.payload.len() + 12 <= length);
            }
        }
    }
}
