//! Reasons for the failure or end of a connection.

use std::time::Duration;

/// Handshake rejection (4.3, table 7; codes from 1400 on are the application's, like HTTP statuses).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Rejection {
    /// 1002, and codes without a specific meaning: rejected by the peer.
    Peer,
    /// 1003, 1402, 1503: the peer is overloaded or not ready.
    Busy,
    /// 1010: wrong passphrase.
    BadSecret,
    /// 1011: only one side encrypts.
    Unsecured,
    /// 1008: unsupported version.
    Version,
    /// 1400, 1405, 1406: bad request.
    BadRequest,
    /// 1401, 1403: the stream ID is not allowed.
    Forbidden,
    /// 1404: the stream ID is unknown.
    NotFound,
    /// 1409, 1423: the stream ID is in use.
    Conflict,
    /// 1415: unsupported media.
    Media,
    /// Any other code.
    Other(u32),
}

/// First rejection code among handshake types.
pub(crate) const FIRST_REJECTION: u32 = 1000;
/// Offset of application codes in some implementations.
const APPLICATION_OFFSET: u32 = 1000;

impl Rejection {
    /// Returns the rejection for a code on the wire.
    #[must_use]
    pub fn from_code(code: u32) -> Self {
        // Both 1404 and 2404 occur for "not found": some implementations add the offset twice.
        let code = if code >= 2400 { code - APPLICATION_OFFSET } else { code };
        match code {
            1002 => Self::Peer,
            1003 | 1402 | 1503 => Self::Busy,
            1010 => Self::BadSecret,
            1011 => Self::Unsecured,
            1008 => Self::Version,
            1400 | 1405 | 1406 => Self::BadRequest,
            1401 | 1403 => Self::Forbidden,
            1404 => Self::NotFound,
            1409 | 1423 => Self::Conflict,
            1415 => Self::Media,
            other => Self::Other(other),
        }
    }

    /// Returns the code on the wire.
    #[must_use]
    pub fn code(self) -> u32 {
        match self {
            Self::Peer => 1002,
            Self::Busy => 1402,
            Self::BadSecret => 1010,
            Self::Unsecured => 1011,
            Self::Version => 1008,
            Self::BadRequest => 1400,
            Self::Forbidden => 1403,
            Self::NotFound => 1404,
            Self::Conflict => 1409,
            Self::Media => 1415,
            Self::Other(code) => code,
        }
    }

    /// Returns the object of a sentence that begins with "the platform refused".
    #[must_use]
    pub fn meaning(self) -> &'static str {
        match self {
            Self::Peer => "the connection",
            Self::Busy => "because it has no room or is not ready",
            Self::BadSecret => "the passphrase",
            Self::Unsecured => "because only one side encrypts",
            Self::Version => "this version of SRT",
            Self::BadRequest => "the stream ID as not understood",
            Self::Forbidden => "the stream ID as not allowed",
            Self::NotFound => "the stream ID as unknown",
            Self::Conflict => "because the stream ID is in use",
            Self::Media => "the kind of media",
            Self::Other(_) => "without a known reason",
        }
    }
}

/// Reason for the failure or end of a call.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum SrtError {
    /// Timeout of the handshake.
    #[error("the platform did not answer the {step} of the handshake within {} s", .after.as_secs())]
    NoAnswer {
        /// Step that was not answered.
        step: &'static str,
        /// Duration of the wait.
        after: Duration,
    },
    /// Rejected.
    #[error("the platform refused {} (code {})", .0.meaning(), .0.code())]
    Rejected(Rejection),
    /// The peer could not decrypt the keys.
    #[error("the platform cannot read what is encrypted with this passphrase")]
    PassphraseRefused,
    /// The peer does not encrypt.
    #[error("the platform expects no passphrase")]
    PassphraseUnexpected,
    /// The peer has an older version without the required extensions.
    #[error("the platform speaks version {0} of the handshake; 5 is needed")]
    Version(u32),
    /// The established connection has ended.
    #[error(transparent)]
    Closed(#[from] CloseReason),
}

/// Reason for the end of a connection.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum CloseReason {
    /// A shutdown packet was sent or received.
    #[error("the connection was closed")]
    Shutdown,
    /// Nothing was received for this long.
    #[error("nothing has been received for {} s", .0.as_secs())]
    Silent(Duration),
    /// The peer has not accepted a new key, and the present one has reached its limit.
    #[error("the encryption key is used up, and no new one was accepted")]
    KeyExhausted,
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(1010, Rejection::BadSecret)]
    #[case(1404, Rejection::NotFound)]
    #[case(2404, Rejection::NotFound)]
    #[case(1409, Rejection::Conflict)]
    #[case(1999, Rejection::Other(1999))]
    fn codes_have_meanings(#[case] code: u32, #[case] rejection: Rejection) {
        assert_eq!(Rejection::from_code(code), rejection);
        assert_eq!(Rejection::from_code(rejection.code()), rejection);
    }
}
