//! Packet formats (section 3). Stateless.

mod handshake;
mod key_material;
mod loss;

use bytes::{Buf as _, BufMut, Bytes, BytesMut};

pub use handshake::{Extension, Handshake, HandshakeKind};
pub(crate) use handshake::{flags, stream_id_text};
pub use key_material::KeyMaterial;
pub(crate) use key_material::{KeyState, SALT, Slot};
pub use loss::LossRange;
pub(crate) use loss::{put_ranges, read_ranges};

use crate::sequence::{MESSAGE_MASK, SEQUENCE_MASK};

/// Size of a packet header, in bytes.
pub(crate) const HEADER: usize = 16;
/// Subtypes of user-defined packets that carry key material after the handshake (3.2.2).
const KEY_REQUEST: u16 = 3;
const KEY_RESPONSE: u16 = 4;

/// Error for an invalid datagram.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum HeaderError {
    /// Truncated in a header or a field.
    #[error("the packet is cut short")]
    Short,
    /// Invalid value of a field.
    #[error("the field {0} is not as it must be")]
    Field(&'static str),
    /// Unknown control type.
    #[error("the control type {0} is not known")]
    Type(u16),
}

/// Key of an encrypted data packet (3.1, KK).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Encryption {
    None,
    With(Slot),
}

/// A packet.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Packet {
    /// Microseconds since the sender's socket began, modulo 2³².
    pub timestamp: u32,
    /// Destination socket ID; zero before it is known.
    pub destination: u32,
    /// Body.
    pub body: PacketBody,
}

/// Body of a packet.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum PacketBody {
    /// Data packet.
    Data(Data),
    /// Control packet.
    Control(Control),
}

/// Data packet.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Data {
    pub(crate) sequence: u32,
    pub(crate) message: u32,
    pub(crate) encryption: Encryption,
    pub(crate) retransmitted: bool,
    pub(crate) payload: Bytes,
}

/// Control packets (3.2).
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum Control {
    /// Handshake.
    Handshake(Box<Handshake>),
    /// Keep-alive.
    KeepAlive,
    /// Acknowledgement of all packets before a sequence number.
    Ack {
        /// Acknowledgement number; zero for a light one.
        number: u32,
        /// First sequence number that was not received.
        next: u32,
        /// Further fields of a full acknowledgement.
        report: Option<AckReport>,
    },
    /// Loss report.
    Nak(Vec<LossRange>),
    /// Congestion warning, which live mode ignores.
    CongestionWarning,
    /// Shutdown.
    Shutdown,
    /// Response to an acknowledgement, to measure the round-trip time.
    AckAck(u32),
    /// Packets that will not be sent because they are too late.
    DropRequest {
        /// Message number.
        message: u32,
        /// First and last sequence number.
        range: LossRange,
    },
    /// Error of the peer.
    PeerError(u32),
    /// New key material.
    KeyRequest(KeyMaterial),
    /// Accepted key material, or the error state.
    KeyResponse(Result<KeyMaterial, u32>),
}

/// Fields of a full acknowledgement (3.2.4).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct AckReport {
    pub(crate) rtt_us: u32,
    pub(crate) rtt_variance_us: u32,
    pub(crate) free_packets: u32,
    pub(crate) packets_per_s: u32,
    pub(crate) capacity_packets_per_s: u32,
    pub(crate) bytes_per_s: u32,
}

impl Data {
    /// Writes header and payload.
    pub(crate) fn put(&self, timestamp: u32, destination: u32, out: &mut BytesMut) {
        out.put_u32(self.sequence & SEQUENCE_MASK);
        // PP 11: a message in one packet. O 0: the receiver orders packets by their time.
        let key = match self.encryption {
            Encryption::None => 0,
            Encryption::With(slot) => slot.bits(),
        };
        let flags = 0b11 << 30 | u32::from(key) << 27 | u32::from(self.retransmitted) << 26;
        out.put_u32(flags | self.message & MESSAGE_MASK);
        out.put_u32(timestamp);
        out.put_u32(destination);
        out.put_slice(&self.payload);
    }
}

impl Control {
    /// Encodes the packet.
    pub fn put(&self, timestamp: u32, destination: u32, out: &mut BytesMut) {
        let (kind, subtype, information) = self.head();
        out.put_u16(1 << 15 | kind);
        out.put_u16(subtype);
        out.put_u32(information);
        out.put_u32(timestamp);
        out.put_u32(destination);
        match self {
            Self::Handshake(handshake) => handshake.put(out),
            Self::Ack { next, report, .. } => {
                out.put_u32(next & SEQUENCE_MASK);
                if let Some(report) = report {
                    out.put_u32(report.rtt_us);
                    out.put_u32(report.rtt_variance_us);
                    out.put_u32(report.free_packets);
                    out.put_u32(report.packets_per_s);
                    out.put_u32(report.capacity_packets_per_s);
                    out.put_u32(report.bytes_per_s);
                }
            }
            Self::Nak(ranges) => put_ranges(ranges, out),
            Self::DropRequest { range, .. } => {
                out.put_u32(range.first & SEQUENCE_MASK);
                out.put_u32(range.last & SEQUENCE_MASK);
            }
            Self::KeyRequest(material) | Self::KeyResponse(Ok(material)) => material.put(out),
            Self::KeyResponse(Err(state)) => out.put_u32(*state),
            // Packets without content carry one word, since some receivers require it.
            Self::KeepAlive | Self::Shutdown | Self::CongestionWarning | Self::AckAck(_) => out.put_u32(0),
            Self::PeerError(_) => {}
        }
    }

    /// Returns type, subtype and type-specific information.
    fn head(&self) -> (u16, u16, u32) {
        match self {
            Self::Handshake(_) => (0, 0, 0),
            Self::KeepAlive => (1, 0, 0),
            Self::Ack { number, .. } => (2, 0, *number),
            Self::Nak(_) => (3, 0, 0),
            Self::CongestionWarning => (4, 0, 0),
            Self::Shutdown => (5, 0, 0),
            Self::AckAck(number) => (6, 0, *number),
            Self::DropRequest { message, .. } => (7, 0, *message),
            Self::PeerError(code) => (8, 0, *code),
            Self::KeyRequest(_) => (0x7fff, KEY_REQUEST, 0),
            Self::KeyResponse(_) => (0x7fff, KEY_RESPONSE, 0),
        }
    }

    fn read((kind, subtype, information): (u16, u16, u32), mut data: &[u8]) -> Result<Self, HeaderError> {
        let word = |data: &mut &[u8]| data.try_get_u32().map_err(|_| HeaderError::Short);
        Ok(match (kind, subtype) {
            (0, _) => Self::Handshake(Box::new(Handshake::read(data)?)),
            (1, _) => Self::KeepAlive,
            (2, _) => {
                let next = word(&mut data)? & SEQUENCE_MASK;
                // Older peers omit the last fields.
                let mut optional = || data.try_get_u32().unwrap_or_default();
                let values = [optional(), optional(), optional(), optional(), optional(), optional()];
                let [
                    rtt_us,
                    rtt_variance_us,
                    free_packets,
                    packets_per_s,
                    capacity_packets_per_s,
                    bytes_per_s,
                ] = values;
                let report = (information != 0).then_some(AckReport {
                    rtt_us,
                    rtt_variance_us,
                    free_packets,
                    packets_per_s,
                    capacity_packets_per_s,
                    bytes_per_s,
                });
                Self::Ack { number: information, next, report }
            }
            (3, _) => Self::Nak(read_ranges(data)?),
            (4, _) => Self::CongestionWarning,
            (5, _) => Self::Shutdown,
            (6, _) => Self::AckAck(information),
            (7, _) => {
                let (first, last) = (word(&mut data)? & SEQUENCE_MASK, word(&mut data)? & SEQUENCE_MASK);
                Self::DropRequest { message: information, range: LossRange { first, last } }
            }
            (8, _) => Self::PeerError(information),
            (0x7fff, KEY_REQUEST) => Self::KeyRequest(KeyMaterial::read(data)?),
            (0x7fff, KEY_RESPONSE) if data.len() == 4 => Self::KeyResponse(Err(word(&mut data)?)),
            (0x7fff, KEY_RESPONSE) => Self::KeyResponse(Ok(KeyMaterial::read(data)?)),
            (other, _) => return Err(HeaderError::Type(other)),
        })
    }
}

impl Packet {
    /// Returns true for a control packet, which has the first bit set (3).
    #[must_use]
    pub fn is_control(datagram: &[u8]) -> bool {
        datagram.first().is_some_and(|first| first & 0x80 != 0)
    }

    /// Parses a datagram. Shares its payload.
    ///
    /// # Errors
    /// [`HeaderError`] for an invalid packet.
    pub fn read(mut datagram: Bytes) -> Result<Self, HeaderError> {
        if datagram.len() < HEADER {
            return Err(HeaderError::Short);
        }
        let is_control = Self::is_control(&datagram);
        let (first, second) = (datagram.get_u32(), datagram.get_u32());
        let (timestamp, destination) = (datagram.get_u32(), datagram.get_u32());
        let body = if !is_control {
            let encryption = match second >> 27 & 3 {
                0 => Encryption::None,
                1 => Encryption::With(Slot::Even),
                2 => Encryption::With(Slot::Odd),
                _ => return Err(HeaderError::Field("KK")),
            };
            PacketBody::Data(Data {
                sequence: first,
                message: second & MESSAGE_MASK,
                encryption,
                retransmitted: second & 1 << 26 != 0,
                payload: datagram,
            })
        } else {
            let kind = u16::try_from(first >> 16 & 0x7fff).unwrap_or_default();
            let subtype = u16::try_from(first & 0xffff).unwrap_or_default();
            PacketBody::Control(Control::read((kind, subtype, second), &datagram)?)
        };
        Ok(Self { timestamp, destination, body })
    }
}

#[cfg(test)]
mod tests;
