//! Telling people: over the web, signed, or by mail. Everything here blocks; it belongs on threads that may.

mod mail;
mod web;

use std::time::Duration;

use secrecy::SecretString;
use yonder_api::{AlertMessage, Way};

pub(crate) use mail::read_mailboxes;

/// One try may take this long.
const PATIENCE: Duration = Duration::from_secs(15);
/// Why nobody could be told. Without any secret.
#[derive(Debug, thiserror::Error)]
pub(crate) enum TellError {
    /// A web server did not take it.
    #[error("{0}")]
    Web(String),
    /// A mail server did not take it.
    #[error("{0}")]
    Mail(String),
}

/// Tells once.
pub(crate) fn tell(
    way: &Way,
    secret: Option<&SecretString>,
    message: &AlertMessage,
) -> Result<(), TellError> {
    match way {
        Way::Web { url } => web::post(url, secret, message),
        Way::Mail { .. } => mail::send(way, secret, message),
    }
}
