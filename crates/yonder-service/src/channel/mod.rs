//! Channels of notifications: signed web requests, and mail. All calls block.

mod mail;
mod web;

use std::time::Duration;

use secrecy::SecretString;
use yonder_api::{AlertMessage, Channel};

pub(crate) use mail::read_mailboxes;

/// Timeout of an attempt.
const TIMEOUT: Duration = Duration::from_secs(15);

/// A notification that could not be sent. Without any secret.
#[derive(Debug, thiserror::Error)]
pub(crate) enum SendError {
    /// A web server did not accept it.
    #[error("{0}")]
    Web(String),
    /// A mail server did not accept it.
    #[error("{0}")]
    Mail(String),
}

/// Sends a message once.
///
/// # Errors
/// When the server does not accept it.
pub(crate) fn send(
    channel: &Channel,
    secret: Option<&SecretString>,
    message: &AlertMessage,
) -> Result<(), SendError> {
    match channel {
        Channel::Webhook { url } => web::post(url, secret, message),
        Channel::Email { .. } => mail::send(channel, secret, message),
    }
}
