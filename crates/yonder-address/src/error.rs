//! Errors of server addresses.

use crate::authority::AuthorityError;
use crate::passphrase::PassphraseError;

/// Maximum length of an address, in bytes.
pub(crate) const MAX_ADDRESS: usize = 2048;

/// Error for an invalid server address.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum AddressError {
    /// Unknown scheme.
    #[error("the server address must begin with rtmp://, rtmps:// or srt://")]
    Scheme,
    /// The address of a web page.
    #[error(
        "this is the address of a web page; copy the server address for encoders from the platform's page, beginning with rtmp://, rtmps:// or srt://"
    )]
    WebPage,
    /// The address of a camera.
    #[error("this is the address of a camera; a destination needs the platform's server address")]
    Camera,
    /// Invalid host or port.
    #[error(transparent)]
    Authority(#[from] AuthorityError),
    /// The application is missing.
    #[error("the server address has no application, as in rtmp://{0}/live")]
    NoApplication(String),
    /// Blank or control character.
    #[error("the server address contains a blank at position {0}")]
    Blank(usize),
    /// Credentials in the address.
    #[error("the server address contains a user name or password; platforms use a stream key instead")]
    Credentials,
    /// Too long.
    #[error("the server address is longer than {MAX_ADDRESS} bytes")]
    TooLong,
    /// SRT has no default port.
    #[error("an SRT address needs a port, as in srt://{0}:8890")]
    NoPort(String),
    /// SRT has no path.
    #[error("an SRT address has no path; write the stream ID as ?streamid=")]
    Path,
    /// File mode of SRT is not supported.
    #[error("the address is for file transfer (transtype=file); a push needs transtype=live")]
    FileMode,
    /// A passphrase in a context where it cannot be stored.
    #[error("the passphrase does not belong in this address; enter it separately; it is stored encrypted")]
    PassphraseInAddress,
    /// Invalid passphrase.
    #[error(transparent)]
    Passphrase(PassphraseError),
    /// Invalid key length.
    #[error("pbkeylen={0} is not a key length; use 16, 24 or 32 bytes")]
    KeyLength(String),
    /// Latency out of range.
    #[error("the latency {0:?} is not a number of milliseconds from 20 to 8000")]
    Latency(String),
    /// Only caller mode is supported.
    #[error("mode={0} is not possible: pushes call the platform (mode=caller)")]
    Mode(String),
    /// The stream ID is too long.
    #[error("the stream ID is longer than 512 bytes")]
    StreamId,
}
