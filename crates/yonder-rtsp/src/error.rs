//! Why a pull ended, told apart by what can be done about it.

use crate::message::MessageError;

/// What a camera was waited for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Timer {
    /// The reply to a request.
    Reply(&'static str),
}

/// Why a pull failed or ended.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum PullError {
    /// The camera wants a user name and password and none were given (401).
    #[error("the camera asks for a user name and password")]
    PasswordNeeded,
    /// The camera refused the user name and password (401 after an answer).
    #[error("the camera refused the user name or password ({status} {reason})")]
    WrongPassword {
        /// Status code.
        status: u16,
        /// The camera's words.
        reason: String,
    },
    /// The camera knows us but does not let us see this (403).
    #[error("the camera forbids this account to see the stream ({status} {reason})")]
    Forbidden {
        /// Status code.
        status: u16,
        /// The camera's words.
        reason: String,
    },
    /// The camera is there but cannot serve now (503 and other server errors).
    #[error("the camera cannot serve the stream now ({status} {reason})")]
    NotReady {
        /// Status code.
        status: u16,
        /// The camera's words.
        reason: String,
    },
    /// The path names nothing (404, 400 on DESCRIBE, 454 and their like).
    #[error("the camera has no such stream ({status} {reason})")]
    NoSuchStream {
        /// Status code.
        status: u16,
        /// The camera's words.
        reason: String,
    },
    /// The camera serves as many viewers as it can (453).
    #[error("the camera serves no more viewers ({status} {reason})")]
    TooManyViewers {
        /// Status code.
        status: u16,
        /// The camera's words.
        reason: String,
    },
    /// The camera does not offer the transport asked for (461).
    #[error("the camera refused the transport ({status} {reason})")]
    TransportRefused {
        /// Status code.
        status: u16,
        /// The camera's words.
        reason: String,
    },
    /// The stream is somewhere else (301, 302 and their like, or a REDIRECT request).
    #[error("the camera sends us to another address")]
    Redirected {
        /// The new address, without credentials.
        location: String,
    },
    /// Any other refusal.
    #[error("the camera refused {method} ({status} {reason})")]
    Refused {
        /// The request's method.
        method: &'static str,
        /// Status code.
        status: u16,
        /// The camera's words.
        reason: String,
    },
    /// The description offers no picture.
    #[error("the stream has no picture")]
    NoVideo,
    /// The picture's codec is not carried.
    #[error("the picture is coded as {codec}, which is not carried")]
    CodecUnsupported {
        /// The codec's name in the session description.
        codec: String,
    },
    /// The camera did not answer in time.
    #[error("the camera did not answer {}", match .0 { Timer::Reply(method) => method })]
    NoAnswer(Timer),
    /// The camera ended the session.
    #[error("the camera ended the session")]
    ClosedByCamera,
    /// What came in is not RTSP.
    #[error("the camera does not keep to the protocol")]
    Malformed(#[from] MessageError),
    /// A reply lacks what the next step needs.
    #[error("the camera's reply to {method} lacks {what}")]
    Incomplete {
        /// The request's method.
        method: &'static str,
        /// What is missing.
        what: &'static str,
    },
}
