//! Server addresses, stream keys and passphrases, as pasted: together or separate, with stray blanks, quotes and slashes.
//! Recoverable input is corrected, and each correction is reported; other input is refused with a reason.
//!
//! Pure: no name is resolved here.

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
mod key;
mod masked;
mod passphrase;
mod paste;
mod redact;
mod repair;
mod rtmp;
mod server;
mod srt;

pub use authority::{Authority, AuthorityError};
pub use key::{KeyError, StreamKey};
pub use masked::{Masked, PLACEHOLDER, mask, unmask};
pub use passphrase::{KeyLength, Passphrase, PassphraseError};
pub use paste::{PasteError, Pasted, read_backup, read_pasted, read_server};
pub use redact::redact;
pub use repair::Repair;
pub use rtmp::RtmpServer;
pub use server::{AddressError, Protocol, ServerAddress};
pub use srt::{LATENCY_RANGE_MS, SrtServer, StreamIdError, stream_id};
