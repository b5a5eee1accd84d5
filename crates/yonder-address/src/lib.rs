//! Server addresses, stream keys and passphrases, as pasted: together or separate, with stray blanks, quotes and slashes.
//! Recoverable input is corrected, and each correction is reported; other input is refused with a reason.
//!
//! Pure: no name is resolved here.
//!
//! # Example
//!
//! ```
//! use yonder_address::{Protocol, read_pasted};
//!
//! // The key is at the end of the server address, and blanks were copied with it.
//! let pasted = read_pasted(Some(" rtmps://ingest.example.net/live/planted-key-1234 "), None)?;
//! assert_eq!(pasted.server.protocol(), Protocol::Rtmps);
//! assert_eq!(pasted.server.to_string(), "rtmps://ingest.example.net/live");
//! assert!(pasted.key.is_some());
//! assert!(!pasted.repairs.is_empty());
//! # Ok::<(), yonder_address::PasteError>(())
//! ```

#![forbid(unsafe_code)]
#![deny(clippy::disallowed_methods, reason = "no clock is read and no thread sleeps in this crate")]
#![deny(
    clippy::as_conversions,
    clippy::expect_used,
    clippy::indexing_slicing,
    clippy::panic,
    clippy::unwrap_used
)]

mod authority;
mod error;
mod key;
mod masked;
mod passphrase;
mod paste;
mod protocol;
mod redact;
mod repair;
mod rtmp;
mod scheme;
mod server;
mod srt;

pub use authority::{Authority, AuthorityError};
pub use error::AddressError;
pub use key::{KeyError, StreamKey};
pub use masked::{Masked, PLACEHOLDER, mask, unmask};
pub use passphrase::{KeyLength, Passphrase, PassphraseError};
pub use paste::{PasteError, Pasted, read_backup, read_pasted, read_server};
pub use protocol::Protocol;
pub use redact::redact;
pub use repair::Repair;
pub use rtmp::RtmpServer;
pub use server::ServerAddress;
pub use srt::{LATENCY_RANGE_MS, SrtServer, StreamIdError, stream_id};
