//! Reasons for the end of a pull.

use yonder_protocol::Side;

use crate::message::MessageError;
use crate::url::CameraUrl;

/// Timeout of a camera.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Timer {
    /// The reply to a request.
    Reply(&'static str),
}

/// Reason for the failure or end of a pull.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum PullError {
    /// The camera refused a request.
    #[error("the camera refused {method} ({status} {reason})")]
    Refused {
        /// Method of the request.
        method: &'static str,
        /// Status code.
        status: u16,
        /// Reason phrase.
        reason: String,
        /// The request carried credentials.
        authorized: bool,
    },
    /// The camera has offered Digest before, and now only offers Basic.
    #[error("the camera asks for the password in clear, which it did not before; it may be another device")]
    ClearPassword,
    /// The camera answered SETUP with a transport that differs from the request.
    #[error("the camera set up another transport than the one asked for ({transport})")]
    OtherTransport {
        /// Transport header of the response.
        transport: String,
    },
    /// Redirect (301, 302 and the like, or a REDIRECT request).
    #[error("the camera sends us to another address")]
    Redirected {
        /// New URL; `None` if it cannot be parsed.
        location: Option<Box<CameraUrl>>,
    },
    /// The description has no video.
    #[error("the stream has no picture")]
    NoVideo,
    /// The video codec is not supported.
    #[error("the picture is coded as {codec}, which is not carried")]
    CodecUnsupported {
        /// Codec name from the session description.
        codec: String,
    },
    /// The camera did not answer in time.
    #[error("the camera did not answer {}", match .0 { Timer::Reply(method) => method })]
    NoAnswer(Timer),
    /// The camera ended the session.
    #[error("the camera ended the session")]
    ClosedByCamera,
    /// The input is not RTSP.
    #[error("the camera does not keep to the protocol")]
    Malformed(#[from] MessageError),
    /// A reply lacks a required part.
    #[error("the camera's reply to {method} lacks {what}")]
    Incomplete {
        /// Method of the request.
        method: &'static str,
        /// The missing part.
        what: &'static str,
    },
    /// The pull was closed by this side.
    #[error("the pull was closed")]
    Closed,
}

impl PullError {
    /// Returns the side that ends the session for this reason.
    pub(crate) fn side(&self) -> Side {
        match self {
            Self::Refused { .. } | Self::Redirected { .. } | Self::ClosedByCamera => Side::Peer,
            Self::ClearPassword
            | Self::OtherTransport { .. }
            | Self::NoVideo
            | Self::CodecUnsupported { .. }
            | Self::NoAnswer(_)
            | Self::Malformed(_)
            | Self::Incomplete { .. }
            | Self::Closed => Side::Local,
        }
    }
}
