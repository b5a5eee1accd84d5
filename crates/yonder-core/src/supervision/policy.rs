//! Retry policy: failure classes by cause code, and by whether the same configuration has worked before.

use crate::cause::CauseCode;

/// Parts of a configuration that have worked since they were last set.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct History {
    /// A feed's user name and password; a destination's stream key and passphrase.
    pub credentials: bool,
    /// A feed's address; a destination's servers.
    pub address: bool,
}

impl History {
    /// All parts have worked.
    pub const PROVEN: Self = Self { credentials: true, address: true };
}

/// Classes of failures with the same retry schedule.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FailureClass {
    /// Temporary: retried with growing delays.
    Transient,
    /// The path or the application is refused. Booting recorders and platforms in maintenance do so as well.
    Address,
    /// The certificate is not trusted, possibly because it has expired or because our clock is not set yet.
    Trust,
    /// Password, key or passphrase is refused. Attempts are rationed, since peers lock accounts.
    Credentials,
    /// The stream key is in use, often by our own previous broadcast.
    Busy,
    /// The codec is not supported.
    Media,
    /// A stored secret cannot be decrypted: no attempt can succeed before it is set again.
    Secret,
}

impl FailureClass {
    /// Returns the class of `code`.
    #[must_use]
    pub fn of(code: CauseCode) -> Self {
        match code {
            CauseCode::FeedWrongPassword
            | CauseCode::FeedForbidden
            | CauseCode::PushKeyRefused
            | CauseCode::PushPassphraseRefused => Self::Credentials,
            CauseCode::FeedNoSuchStream
            | CauseCode::FeedNoVideo
            | CauseCode::FeedTransportRefused
            | CauseCode::PushAppRefused => Self::Address,
            CauseCode::FeedTlsUntrusted | CauseCode::PushTlsUntrusted => Self::Trust,
            CauseCode::PushKeyBusy => Self::Busy,
            CauseCode::FeedCodecUnsupported | CauseCode::PushCodecRefused => Self::Media,
            CauseCode::FeedSecretLost | CauseCode::PushSecretLost => Self::Secret,
            _ => Self::Transient,
        }
    }

    /// Returns true if the failure contradicts a part that has worked, so that it is probably temporary.
    #[must_use]
    pub(super) fn has_worked(self, history: History) -> bool {
        match self {
            Self::Transient | Self::Busy => true,
            Self::Address | Self::Trust | Self::Media => history.address,
            Self::Credentials => history.credentials,
            Self::Secret => false,
        }
    }

    /// Returns the consecutive failures after which a part that never worked counts as misconfigured. A booting camera
    /// may refuse a valid path; a password or a certificate counts at once.
    pub(super) fn attempts_before_block(self) -> u32 {
        match self {
            Self::Address => 3,
            _ => 1,
        }
    }
}

/// Reaction to a failure.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RetryPolicy {
    /// Retry with growing delays.
    Retry,
    /// Retry at long intervals, and alert: a person may be needed.
    RetrySlowly,
    /// A person is needed: this never worked. Retried at long intervals.
    Block,
}
