//! Webhooks: a signed JSON document, posted to a web address.

use std::time::SystemTime;

use hmac::{Hmac, KeyInit as _, Mac as _};
use secrecy::{ExposeSecret as _, SecretString};
use sha2::Sha256;
use ureq::Agent;
use yonder_address::redact;
use yonder_api::AlertMessage;

use yonder_records::time;

use super::{SendError, TIMEOUT};

/// Header with the time of the signature, in seconds since 1970, by which receivers can refuse old messages.
const TIME_HEADER: &str = "Yonder-Time";
/// Header with the signature.
const SIGNATURE_HEADER: &str = "Yonder-Signature";

/// Posts the message. Any status other than 2xx is a failure.
pub(super) fn post(
    url: &str,
    secret: Option<&SecretString>,
    message: &AlertMessage,
) -> Result<(), SendError> {
    let failed = |text: String| SendError::Web(text);
    let body = serde_json::to_string(message).map_err(|error| failed(error.to_string()))?;
    let config = Agent::config_builder()
        .timeout_global(Some(TIMEOUT))
        .http_status_as_error(false)
        // A signed message must not go to another address.
        .max_redirects(0)
        .build();
    let agent: Agent = config.into();
    let mut request = agent.post(url).content_type("application/json");
    if let Some(secret) = secret {
        let now = time::millis(SystemTime::now()) / 1_000;
        let signature = sign(secret, now, &body);
        request = request.header(TIME_HEADER, now.to_string()).header(SIGNATURE_HEADER, signature);
    }
    let answer = request
        .send(&body)
        // Errors may contain the address, which is a secret of many services.
        .map_err(|error| {
            failed(format!("the web contact cannot be reached: {}", redact(&error.to_string(), [url])))
        })?;
    match answer.status() {
        status if status.is_success() => Ok(()),
        status => Err(failed(format!("the web contact answered {status}"))),
    }
}

/// Returns the HMAC-SHA-256 (RFC 2104) of the time, a line feed and the body, in hexadecimal.
fn sign(secret: &SecretString, time_s: i64, body: &str) -> String {
    let Ok(mut mac) = Hmac::<Sha256>::new_from_slice(secret.expose_secret().as_bytes()) else {
        // HMAC accepts keys of any length.
        return String::new();
    };
    mac.update(format!("{time_s}\n{body}").as_bytes());
    hex::encode(mac.finalize().into_bytes())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_signature_is_over_the_time_and_the_body() {
        // Computed with another implementation.
        let signed = sign(&"made-up-secret".into(), 1_795_000_000, r#"{"kind":"test"}"#);
        assert_eq!(signed, "c43ca0527c012590afac4542cf41d255c91f159ca2a512c2ace2334d0616b6a9");
        assert_ne!(signed, sign(&"made-up-secret".into(), 1_795_000_001, r#"{"kind":"test"}"#));
    }
}
