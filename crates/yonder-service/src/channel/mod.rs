//! Notification channels: signed webhooks, and email. All calls block.

mod mail;
mod web;

use std::time::Duration;

use secrecy::SecretString;
use yonder_api::{AlertMessage, Channel};

/// Timeout of an attempt.
const TIMEOUT: Duration = Duration::from_secs(15);

/// Error of a notification, without secrets.
#[derive(Debug, thiserror::Error)]
pub(crate) enum SendError {
    /// The web server did not accept it.
    #[error("{0}")]
    Web(String),
    /// The mail server did not accept it.
    #[error("{0}")]
    Mail(String),
}

/// Sends a message once.
///
/// # Errors
/// If the server does not accept it.
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
