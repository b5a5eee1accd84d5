//! Publisher as its feed sees it: facts, and a channel of messages.

use std::fmt;
use std::net::SocketAddr;
use std::time::Duration;

use tokio::sync::mpsc;

use crate::units::UnitEvent;

/// Maximum messages between server and feed: some seconds of audio and video.
pub(super) const QUEUE: usize = 1_024;
/// Maximum length of a software name, in characters.
const MAX_NAME: usize = 80;

/// Protocol of a publisher.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum IngestProtocol {
    /// RTMP.
    Rtmp,
    /// RTMP over TLS.
    Rtmps,
    /// SRT.
    Srt,
}

impl IngestProtocol {
    /// Returns the name of the protocol.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Rtmp => "rtmp",
            Self::Rtmps => "rtmps",
            Self::Srt => "srt",
        }
    }
}

/// Facts about a publisher.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PublisherInfo {
    /// Protocol.
    pub protocol: IngestProtocol,
    /// Address.
    pub from: SocketAddr,
    /// Name and version of its software, as sent; only printable characters.
    pub software: Option<String>,
    /// The connection is encrypted.
    pub is_encrypted: bool,
}

/// Statistics of an SRT connection.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct LinkStats {
    /// Round-trip time.
    pub rtt: Duration,
    /// Packets received.
    pub received: u64,
    /// Packets missing at their delivery time.
    pub missing: u64,
}

/// Message of a publisher.
#[derive(Debug, Clone, PartialEq)]
pub enum PublisherMessage {
    /// Bytes received, before the media in them.
    Received(usize),
    /// Media.
    Media(UnitEvent),
    /// Name and version of the publisher's software, if they come later than the connection.
    Software(String),
    /// Statistics of an SRT connection, once a second.
    Link(LinkStats),
    /// The end, which is the last message.
    End(PublisherEnd),
}

/// End of a publisher.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum PublisherEnd {
    /// It ended the broadcast in order.
    Ended,
    /// It closed the connection.
    Closed,
    /// The connection broke, or nothing arrived any more.
    Lost(String),
    /// It violated the protocol.
    Protocol(String),
    /// Another publisher with the same key has taken over.
    Replaced,
}

impl fmt::Display for PublisherEnd {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Ended => f.write_str("the encoder ended the stream"),
            Self::Closed => f.write_str("the encoder closed the connection"),
            Self::Lost(reason) => write!(f, "the connection of the encoder broke: {reason}"),
            Self::Protocol(reason) => write!(f, "the encoder sent invalid data: {reason}"),
            Self::Replaced => f.write_str("another encoder has taken over with the same key"),
        }
    }
}

/// Publisher that was accepted for a feed. Dropping it closes the connection.
#[derive(Debug)]
pub struct Publisher {
    /// Facts.
    pub info: PublisherInfo,
    /// Messages, in order. The channel ends with [`PublisherMessage::End`], or without if the server ended.
    pub messages: mpsc::Receiver<PublisherMessage>,
}

/// Returns the printable part of a name that a peer has sent; `None` if nothing is left.
pub(super) fn printable(name: &str) -> Option<String> {
    let name: String = name.chars().filter(|c| !c.is_control()).take(MAX_NAME).collect();
    let name = name.trim();
    (!name.is_empty()).then(|| name.to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_of_peers_are_printable_and_short() {
        assert_eq!(printable(" Fellside\u{1b}[31m 2\n").unwrap(), "Fellside[31m 2");
        assert_eq!(printable(&"x".repeat(500)).unwrap().len(), MAX_NAME);
        assert_eq!(printable("\n\t"), None);
    }
}
