//! Connection to a platform, of either protocol.

use std::io;

use super::rtmp::RtmpConnection;
use super::srt::SrtConnection;

/// Connection to a platform.
#[expect(clippy::large_enum_variant, reason = "it is always boxed as a whole")]
#[derive(Debug)]
pub(crate) enum Connection {
    /// RTMP or RTMPS.
    Rtmp(RtmpConnection),
    /// SRT.
    Srt(SrtConnection),
}

impl Connection {
    /// Registers its sockets with the caller's runtime.
    pub(super) fn register_here(self) -> io::Result<Self> {
        match self {
            Self::Rtmp(connection) => connection.register_here().map(Self::Rtmp),
            // An SRT socket is not registered.
            Self::Srt(connection) => Ok(Self::Srt(connection)),
        }
    }

    pub(super) async fn close(self) {
        match self {
            Self::Rtmp(connection) => connection.close().await,
            Self::Srt(connection) => connection.close().await,
        }
    }
}
