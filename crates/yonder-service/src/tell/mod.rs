//! Telling people: over the web, signed, or by mail. Everything here blocks; it belongs on threads that may.

mod mail;
mod web;

use std::time::Duration;

use secrecy::SecretString;
use yonder_api::{AlertMessage, Way};

pub(crate) use mail::read_mailboxes;

/// One try may take this long.
const PATIENCE: Duration = Duration::from_secs(15);
/// Pauses between tries; after the last it is given up.
const PAUSES: [Duration; 3] = [Duration::from_secs(2), Duration::from_secs(20), Duration::from_secs(120)];

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

/// Tells, and tries again where it fails.
pub(crate) async fn tell_patiently(
    way: Way,
    secret: Option<SecretString>,
    message: AlertMessage,
) -> Result<(), TellError> {
    let mut pauses = PAUSES.iter();
    loop {
        let (way, secret, message) = (way.clone(), secret.clone(), message.clone());
        let tried = tokio::task::spawn_blocking(move || tell(&way, secret.as_ref(), &message)).await;
        let error = match tried {
            Ok(Ok(())) => return Ok(()),
            Ok(Err(error)) => error,
            Err(error) => TellError::Web(format!("the service failed inside: {error}")),
        };
        match pauses.next() {
            Some(pause) => tokio::time::sleep(*pause).await,
            None => return Err(error),
        }
    }
}
