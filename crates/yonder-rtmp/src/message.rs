//! RTMP messages (section 6 and 7.1).

use bytes::Bytes;

/// Kind of a message, by its type ID.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MessageKind {
    /// Set Chunk Size (5.4.1).
    SetChunkSize,
    /// Abort (5.4.2).
    Abort,
    /// Acknowledgement (5.4.3).
    Acknowledgement,
    /// User Control (6.2).
    UserControl,
    /// Window Acknowledgement Size (5.4.4).
    WindowSize,
    /// Set Peer Bandwidth (5.4.5).
    PeerBandwidth,
    /// Audio (7.1.4).
    Audio,
    /// Video (7.1.5).
    Video,
    /// Data in AMF0 (7.1.2).
    Data,
    /// Command in AMF0 (7.1.1).
    Command,
    /// Data in AMF3; in practice AMF0 data after one zero byte.
    Data3,
    /// Aggregate (7.1.6): tags of a file, one after another.
    Aggregate,
    /// Command in AMF3; in practice an AMF0 command after one zero byte.
    Command3,
    /// Any other type ID.
    Other(u8),
}

impl MessageKind {
    /// Returns the kind of a type ID.
    #[must_use]
    pub fn from_id(id: u8) -> Self {
        match id {
            1 => Self::SetChunkSize,
            2 => Self::Abort,
            3 => Self::Acknowledgement,
            4 => Self::UserControl,
            5 => Self::WindowSize,
            6 => Self::PeerBandwidth,
            8 => Self::Audio,
            9 => Self::Video,
            15 => Self::Data3,
            17 => Self::Command3,
            18 => Self::Data,
            20 => Self::Command,
            22 => Self::Aggregate,
            other => Self::Other(other),
        }
    }

    /// Returns the type ID of a kind.
    #[must_use]
    pub fn id(self) -> u8 {
        match self {
            Self::SetChunkSize => 1,
            Self::Abort => 2,
            Self::Acknowledgement => 3,
            Self::UserControl => 4,
            Self::WindowSize => 5,
            Self::PeerBandwidth => 6,
            Self::Audio => 8,
            Self::Video => 9,
            Self::Data3 => 15,
            Self::Command3 => 17,
            Self::Data => 18,
            Self::Command => 20,
            Self::Aggregate => 22,
            Self::Other(id) => id,
        }
    }
}

/// Complete message.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Message {
    /// Kind.
    pub kind: MessageKind,
    /// Message stream ID; 0 for control messages.
    pub stream: u32,
    /// Milliseconds, modulo 2^32.
    pub timestamp: u32,
    /// Payload.
    pub payload: Bytes,
}

impl Message {
    /// Returns the 32-bit value of a control message.
    #[must_use]
    pub fn number(&self) -> Option<u32> {
        self.payload.first_chunk::<4>().map(|bytes| u32::from_be_bytes(*bytes))
    }
}
