//! Server addresses of platforms, for any protocol.

use std::fmt;

use crate::protocol::Protocol;
use crate::rtmp::RtmpServer;
use crate::srt::SrtServer;

/// Server of a platform, without secrets.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ServerAddress {
    /// RTMP or RTMPS.
    Rtmp(RtmpServer),
    /// SRT.
    Srt(SrtServer),
}

impl ServerAddress {
    /// Returns the protocol.
    #[must_use]
    pub fn protocol(&self) -> Protocol {
        match self {
            Self::Rtmp(server) if server.tls => Protocol::Rtmps,
            Self::Rtmp(_) => Protocol::Rtmp,
            Self::Srt(_) => Protocol::Srt,
        }
    }

    /// Returns the address with the secrets in its parameters, for the protocol and for sealing.
    #[must_use]
    pub fn full_address(&self) -> String {
        match self {
            Self::Rtmp(server) => server.full_address(),
            Self::Srt(server) => server.to_string(),
        }
    }

    /// Returns the host name or address; IPv6 without brackets.
    #[must_use]
    pub fn host(&self) -> &str {
        match self {
            Self::Rtmp(server) => &server.host,
            Self::Srt(server) => &server.host,
        }
    }

    /// Returns the port.
    #[must_use]
    pub fn port(&self) -> u16 {
        match self {
            Self::Rtmp(server) => server.port,
            Self::Srt(server) => server.port,
        }
    }

    /// Returns true if a stream key identifies the same broadcast on both: same host for RTMP and RTMPS, whose ports
    /// lead to the same ingest; same host and port for SRT, whose ports have separate listeners.
    #[must_use]
    pub fn is_same_ingest(&self, other: &Self) -> bool {
        let is_same_host = self.host().eq_ignore_ascii_case(other.host());
        match (self, other) {
            (Self::Srt(_), Self::Srt(_)) => is_same_host && self.port() == other.port(),
            (Self::Rtmp(_), Self::Rtmp(_)) => is_same_host,
            _ => false,
        }
    }
}

impl fmt::Display for ServerAddress {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Rtmp(server) => server.fmt(f),
            Self::Srt(server) => server.fmt(f),
        }
    }
}
