//! Retry policy: failure classes by cause code, and whether the same address and credentials have worked before.

use crate::cause::CauseCode;

/// Which parts of an address are known to be right: they worked since they were last set.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct History {
    /// A feed's user name and password; a destination's stream key and passphrase.
    pub credentials: bool,
    /// A feed's address; a destination's servers.
    pub address: bool,
}

impl History {
    /// Everything has worked.
    pub const PROVEN: Self = Self { credentials: true, address: true };
}

/// Classes of failures that are retried alike.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FailureClass {
    /// Passes by itself: retried with growing delays.
    Transient,
    /// The path, the application or what is found there is refused. Recorders that boot and platforms in maintenance do
    /// so too.
    Address,
    /// The certificate is not trusted, also because it has expired or because our clock is not set yet.
    Trust,
    /// Password, key or passphrase is refused. Retries are rationed, since peers lock accounts.
    Credentials,
    /// The stream key is in use, often by our own broadcast before this one.
    Busy,
    /// The codec is not carried or not taken.
    Media,
    /// A stored secret cannot be opened: no attempt can succeed before it is set again.
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

    /// True when the failure contradicts something that has worked, so that it probably passes by itself.
    #[must_use]
    pub(super) fn has_worked(self, history: History) -> bool {
        match self {
            Self::Transient | Self::Busy => true,
            Self::Address | Self::Trust | Self::Media => history.address,
            Self::Credentials => history.credentials,
            Self::Secret => false,
        }
    }

    /// Failures in a row before something that never worked counts as a mistake. A camera that starts may refuse a path
    /// that is right; a password and a certificate are judged at once.
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
    /// A person is needed: this never worked. Retried at long intervals all the same.
    Block,
}
