//! Why a connection did not come about, or ended.

use std::time::Duration;

/// A refusal by the other side (4.3, table 7; codes from 1400 on are the application's, after HTTP).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Rejection {
    /// 1002, and whatever has no meaning of its own: refused by the peer.
    Peer,
    /// 1003, 1402, 1503: the peer has no room, or is not ready.
    Busy,
    /// 1010: another passphrase.
    BadSecret,
    /// 1011: one side asks for encryption and the other does not.
    Unsecured,
    /// 1008: another version.
    Version,
    /// 1400, 1405, 1406: the request makes no sense to the peer.
    BadRequest,
    /// 1401, 1403: the stream ID is not allowed.
    Forbidden,
    /// 1404: the stream ID is unknown.
    NotFound,
    /// 1409, 1423: the stream ID is in use.
    Conflict,
    /// 1415: the media is not taken.
    Media,
    /// Any other code.
    Other(u32),
}

/// First rejection code among handshake types.
pub(crate) const FIRST_REJECTION: u32 = 1000;
/// First code of applications where the offset of the reference tables is added.
const APPLICATION_OFFSET: u32 = 1000;

impl Rejection {
    /// The refusal for a code on the wire.
    #[must_use]
    pub fn from_code(code: u32) -> Self {
        // 1404 and 2404 both are seen for "not found": some count the offset twice.
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

    /// The code on the wire.
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

/// Why a call ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum SrtError {
    /// Nothing came within the time allowed.
    #[error("the platform did not answer the {step} of the handshake within {} s", .after.as_secs())]
    NoAnswer {
        /// Which half was not answered.
        step: &'static str,
        /// How long it was waited for.
        after: Duration,
    },
    /// Refused.
    #[error("the platform refused {} (code {})", .0.meaning(), .0.code())]
    Rejected(Rejection),
    /// It cannot read what we encrypt.
    #[error("the platform cannot read what is encrypted with this passphrase")]
    PassphraseRefused,
    /// It does not encrypt at all.
    #[error("the platform expects no passphrase")]
    PassphraseUnexpected,
    /// It speaks an older SRT, without the extensions that live streams need.
    #[error("the platform speaks version {0} of the handshake; 5 is needed")]
    Version(u32),
    /// The connection that was made has ended.
    #[error(transparent)]
    Closed(#[from] CloseReason),
}

/// Why a connection ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum CloseReason {
    /// A shutdown packet was sent or received.
    #[error("the connection was closed")]
    Shutdown,
    /// Nothing was received for this long.
    #[error("nothing has been received for {} s", .0.as_secs())]
    Silent(Duration),
    /// The peer has not accepted a new key, and the present one must not be used any longer.
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
