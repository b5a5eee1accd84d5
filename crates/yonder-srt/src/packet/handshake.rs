//! Handshake packets and their extensions (3.2.1).

use std::fmt;
use std::net::IpAddr;

use bytes::{Buf as _, BufMut as _, Bytes, BytesMut};

use crate::error::FIRST_REJECTION;
use crate::sequence::SEQUENCE_MASK;

use super::HeaderError;
use super::key_material::KeyMaterial;

/// Size of a handshake without extensions, in bytes.
const LENGTH: usize = 48;
/// Maximum length of a stream ID (3.2.1.3).
const MAX_STREAM_ID: usize = 512;
/// Maximum extensions of one handshake.
const MAX_EXTENSIONS: usize = 8;

/// Flags of an HSREQ or HSRSP (3.2.1.1.1).
pub(crate) mod flags {
    /// TSBPD in both directions, encryption, too-late packet drop, periodic NAK reports, retransmission flag.
    pub(crate) const ALL: u32 = 0x3f;
    /// TLPKTDROP: the sender drops packets that are too late.
    pub(crate) const TOO_LATE_DROP: u32 = 0x08;
    /// Buffer mode of file transfer, which live mode does not use.
    pub(crate) const STREAM: u32 = 0x40;
}

/// Types of extensions (table 5).
const LATENCY_REQUEST: u16 = 1;
const LATENCY_RESPONSE: u16 = 2;
const KEY_REQUEST: u16 = 3;
const KEY_RESPONSE: u16 = 4;
const STREAM_ID: u16 = 5;

/// Handshake type (3.2.1, table 4).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum HandshakeKind {
    /// Induction: a caller's first packet, and the listener's response with a cookie.
    Induction,
    /// Conclusion: the caller returns the cookie, and the listener accepts.
    Conclusion,
    /// Rejection with its code.
    Rejection(u32),
    /// Anything else.
    Other(u32),
}

/// Handshake packet.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Handshake {
    /// Version: 4 in a caller's induction, otherwise 5.
    pub version: u32,
    /// Key length in units of 8 bytes; 0 if not announced.
    pub encryption: u16,
    /// Magic code in a listener's induction; extension flags in a conclusion.
    pub extension_field: u16,
    /// Initial sequence number.
    pub initial_sequence: u32,
    /// Maximum packet size with all headers.
    pub mtu: u32,
    /// Flow window, in packets.
    pub window: u32,
    /// Type.
    pub kind: HandshakeKind,
    /// Socket ID of the sender.
    pub socket: u32,
    /// Cookie of the listener.
    pub cookie: u32,
    /// Address of the sender.
    pub address: IpAddr,
    /// Extensions of a conclusion.
    pub extensions: Vec<Extension>,
}

/// Extension of a conclusion.
#[derive(Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum Extension {
    /// HSREQ (false) or HSRSP (true).
    Latency {
        /// It is the response.
        response: bool,
        /// Version of the sender: major, minor, patch.
        version: u32,
        /// Flags.
        flags: u32,
        /// Latency of the sender's receive buffer, in milliseconds.
        receive_ms: u16,
        /// Latency that the sender requests of the peer, in milliseconds.
        send_ms: u16,
    },
    /// KMREQ.
    KeyRequest(KeyMaterial),
    /// KMRSP: the accepted key material, or the error state.
    KeyResponse(Result<KeyMaterial, u32>),
    /// Stream ID as its words.
    StreamId(Bytes),
    /// Any other extension, which is ignored.
    Other(u16),
}

impl fmt::Debug for Extension {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Latency { response, receive_ms, send_ms, .. } => {
                write!(f, "Latency({response}, {receive_ms}, {send_ms})")
            }
            Self::KeyRequest(material) => write!(f, "KeyRequest({material:?})"),
            Self::KeyResponse(material) => write!(f, "KeyResponse({material:?})"),
            // The stream ID may be a stream key.
            Self::StreamId(_) => f.write_str("StreamId"),
            Self::Other(kind) => write!(f, "Other({kind})"),
        }
    }
}

impl HandshakeKind {
    fn number(self) -> u32 {
        match self {
            Self::Induction => 1,
            Self::Conclusion => 0xffff_ffff,
            Self::Rejection(number) | Self::Other(number) => number,
        }
    }

    fn from_number(number: u32) -> Self {
        match number {
            1 => Self::Induction,
            0xffff_ffff => Self::Conclusion,
            // DONE and AGREEMENT have high values; codes of applications have a few thousand.
            FIRST_REJECTION..0x1_0000 => Self::Rejection(number),
            other => Self::Other(other),
        }
    }
}

impl Handshake {
    pub(crate) fn put(&self, out: &mut BytesMut) {
        out.put_u32(self.version);
        out.put_u16(self.encryption);
        out.put_u16(self.extension_field);
        out.put_u32(self.initial_sequence & SEQUENCE_MASK);
        out.put_u32(self.mtu);
        out.put_u32(self.window);
        out.put_u32(self.kind.number());
        out.put_u32(self.socket);
        out.put_u32(self.cookie);
        match self.address {
            IpAddr::V4(address) => {
                // An IPv4 address is in the first of four words; the others are zero.
                out.put_u32(u32::from_le_bytes(address.octets()));
                out.put_bytes(0, 12);
            }
            IpAddr::V6(address) => out.put_slice(&address.octets()),
        }
        for extension in &self.extensions {
            extension.put(out);
        }
    }

    pub(crate) fn read(mut data: &[u8]) -> Result<Self, HeaderError> {
        if data.len() < LENGTH {
            return Err(HeaderError::Short);
        }
        let (version, encryption, extension_field) = (data.get_u32(), data.get_u16(), data.get_u16());
        let (initial_sequence, mtu, window) =
            (data.get_u32() & SEQUENCE_MASK, data.get_u32(), data.get_u32());
        let kind = HandshakeKind::from_number(data.get_u32());
        let (socket, cookie) = (data.get_u32(), data.get_u32());
        let mut octets = [0; 16];
        data.copy_to_slice(&mut octets);
        let address = match octets {
            [a, b, c, d, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0] => IpAddr::from([d, c, b, a]),
            octets => IpAddr::from(octets),
        };
        let mut extensions = Vec::new();
        if version >= 5 && kind == HandshakeKind::Conclusion {
            while data.len() >= 4 && extensions.len() < MAX_EXTENSIONS {
                let (kind, words) = (data.get_u16(), usize::from(data.get_u16()));
                let (content, rest) = data.split_at_checked(words * 4).ok_or(HeaderError::Short)?;
                extensions.push(Extension::read(kind, content)?);
                data = rest;
            }
        }
        Ok(Self {
            version,
            encryption,
            extension_field,
            initial_sequence,
            mtu,
            window,
            kind,
            socket,
            cookie,
            address,
            extensions,
        })
    }
}

impl Extension {
    /// Creates a stream ID extension from at most 512 bytes.
    pub(crate) fn stream_id(text: &str) -> Self {
        let mut words = BytesMut::with_capacity(text.len() + 3);
        for group in text.as_bytes().chunks(4) {
            // Each word is in little-endian order (3.2.1.3).
            let mut word = [0; 4];
            for (slot, byte) in word.iter_mut().zip(group) {
                *slot = *byte;
            }
            words.put_u32_le(u32::from_be_bytes(word));
        }
        Self::StreamId(words.freeze())
    }

    /// Returns the flag of this extension in the extension field (table 2).
    pub(crate) fn flag(&self) -> u16 {
        match self {
            Self::Latency { .. } => 1,
            Self::KeyRequest(_) | Self::KeyResponse(_) => 2,
            Self::StreamId(_) | Self::Other(_) => 4,
        }
    }

    fn put(&self, out: &mut BytesMut) {
        let (kind, mut content) = (self.number(), BytesMut::new());
        match self {
            Self::Latency { version, flags, receive_ms, send_ms, .. } => {
                content.put_u32(*version);
                content.put_u32(*flags);
                content.put_u16(*receive_ms);
                content.put_u16(*send_ms);
            }
            Self::KeyRequest(material) | Self::KeyResponse(Ok(material)) => material.put(&mut content),
            Self::KeyResponse(Err(state)) => content.put_u32(*state),
            Self::StreamId(words) => content.put_slice(words),
            Self::Other(_) => {}
        }
        out.put_u16(kind);
        out.put_u16(u16::try_from(content.len() / 4).unwrap_or_default());
        out.put_slice(&content);
    }

    fn number(&self) -> u16 {
        match self {
            Self::Latency { response: false, .. } => LATENCY_REQUEST,
            Self::Latency { response: true, .. } => LATENCY_RESPONSE,
            Self::KeyRequest(_) => KEY_REQUEST,
            Self::KeyResponse(_) => KEY_RESPONSE,
            Self::StreamId(_) => STREAM_ID,
            Self::Other(kind) => *kind,
        }
    }

    fn read(kind: u16, mut content: &[u8]) -> Result<Self, HeaderError> {
        Ok(match kind {
            LATENCY_REQUEST | LATENCY_RESPONSE => {
                if content.len() < 12 {
                    return Err(HeaderError::Short);
                }
                Self::Latency {
                    response: kind == LATENCY_RESPONSE,
                    version: content.get_u32(),
                    flags: content.get_u32(),
                    receive_ms: content.get_u16(),
                    send_ms: content.get_u16(),
                }
            }
            KEY_REQUEST => Self::KeyRequest(KeyMaterial::read(content)?),
            KEY_RESPONSE if content.len() == 4 => Self::KeyResponse(Err(content.get_u32())),
            KEY_RESPONSE => Self::KeyResponse(Ok(KeyMaterial::read(content)?)),
            STREAM_ID if content.len() > MAX_STREAM_ID => return Err(HeaderError::Field("Stream ID")),
            STREAM_ID => Self::StreamId(Bytes::copy_from_slice(content)),
            other => Self::Other(other),
        })
    }
}

/// Returns the text of a stream ID from its words.
pub(crate) fn stream_id_text(words: &[u8]) -> String {
    let bytes: Vec<u8> = words.chunks(4).flat_map(|word| word.iter().rev().copied()).collect();
    let end = bytes.iter().position(|byte| *byte == 0).unwrap_or(bytes.len());
    String::from_utf8_lossy(bytes.get(..end).unwrap_or_default()).into_owned()
}
