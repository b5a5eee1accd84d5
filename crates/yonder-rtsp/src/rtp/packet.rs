//! The RTP fixed header (RFC 3550, 5.1).

use bytes::Bytes;

/// Error for an invalid RTP packet.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum PacketError {
    /// Truncated.
    #[error("packet is cut short")]
    Short,
    /// Not version 2.
    #[error("RTP version is {0}, not 2")]
    Version(u8),
    /// More padding than payload.
    #[error("padding is longer than the payload")]
    Padding,
}

/// RTP packet. The payload is borrowed (`&[u8]`) where packets arrive in order, and shared ([`Bytes`]) where they wait in the
/// jitter buffer.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RtpPacket<P = Bytes> {
    /// Marker bit; the last packet of an access unit in the video formats.
    pub marker: bool,
    /// Payload type.
    pub payload_type: u8,
    /// Sequence number.
    pub sequence: u16,
    /// RTP timestamp.
    pub timestamp: u32,
    /// Synchronization source.
    pub ssrc: u32,
    /// Payload, without padding.
    pub payload: P,
}

impl<'a> RtpPacket<&'a [u8]> {
    /// Parses a packet.
    ///
    /// # Errors
    /// [`PacketError`] if it is truncated or has another version.
    pub fn read(data: &'a [u8]) -> Result<Self, PacketError> {
        let Some((&[b0, b1, s0, s1, t0, t1, t2, t3, i0, i1, i2, i3], mut data)) =
            data.split_first_chunk::<12>()
        else {
            return Err(PacketError::Short);
        };
        if b0 >> 6 != 2 {
            return Err(PacketError::Version(b0 >> 6));
        }
        let sources = usize::from(b0 & 0x0f) * 4;
        data = data.get(sources..).ok_or(PacketError::Short)?;
        if b0 & 0x10 != 0 {
            let Some((&[_, _, high, low], extension)) = data.split_first_chunk::<4>() else {
                return Err(PacketError::Short);
            };
            let words = usize::from(u16::from_be_bytes([high, low]));
            data = extension.get(words * 4..).ok_or(PacketError::Short)?;
        }
        if b0 & 0x20 != 0 {
            // A count of zero violates 5.1, but clearly means no padding.
            let padding = usize::from(data.last().copied().ok_or(PacketError::Padding)?);
            let keep = data.len().checked_sub(padding).ok_or(PacketError::Padding)?;
            data = data.get(..keep).unwrap_or_default();
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

impl RtpPacket {
    /// Parses a packet. Shares `data`.
    ///
    /// # Errors
    /// [`PacketError`] if it is truncated or has another version.
    pub fn parse(data: &Bytes) -> Result<Self, PacketError> {
        let packet = RtpPacket::read(data)?;
        let RtpPacket { marker, payload_type, sequence, timestamp, ssrc, payload } = packet;
        Ok(Self { marker, payload_type, sequence, timestamp, ssrc, payload: data.slice_ref(payload) })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const PLAIN: [u8; 14] = [0x80, 0xe0, 0x12, 0x34, 0, 0, 0, 9, 0xde, 0xad, 0xbe, 0xef, 0xaa, 0xbb];

    #[test]
    fn a_plain_packet_is_read() {
        let packet = RtpPacket::read(&PLAIN).unwrap();
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
        assert_eq!(RtpPacket::read(&data).unwrap().payload[..], [0x41, 0x42]);
    }

    #[test]
    fn invalid_lengths_are_refused() {
        let change = |at: usize, value: u8| {
            let mut data = PLAIN.to_vec();
            data[at] = value;
            RtpPacket::read(&data).map(|_| ())
        };
        assert_eq!(change(0, 0x40), Err(PacketError::Version(1)));
        assert_eq!(change(0, 0x8f), Err(PacketError::Short));
        assert_eq!(change(0, 0x90), Err(PacketError::Short));
        assert_eq!(change(0, 0xa0), Err(PacketError::Padding));
        // The padding bit with a last byte of 0: no padding.
        let mut data = PLAIN.to_vec();
        data[0] = 0xa0;
        data.extend([0]);
        assert_eq!(RtpPacket::read(&data).unwrap().payload[..], [0xaa, 0xbb, 0]);
        assert_eq!(RtpPacket::read(&PLAIN[..11]), Err(PacketError::Short));
    }

    proptest! {
        #[test]
        fn any_bytes_are_parsed_or_refused(data: Vec<u8>) {
            let shared = Bytes::from(data.clone());
            match (RtpPacket::read(&data), RtpPacket::parse(&shared)) {
                (Ok(read), Ok(parsed)) => {
                    prop_assert!(read.payload.len() + 12 <= data.len());
                    prop_assert_eq!(read.payload, &parsed.payload[..]);
                    prop_assert_eq!((read.sequence, read.timestamp), (parsed.sequence, parsed.timestamp));
                }
                (read, parsed) => prop_assert_eq!(read.map(|_| ()), parsed.map(|_| ())),
            }
        }
    }
}
