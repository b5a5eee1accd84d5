//! The camera's side of Digest sign-in (RFC 2617, 3.2.2, without `qop`).

use md5::{Digest as _, Md5};
use secrecy::{ExposeSecret as _, SecretString};
use yonder_rtsp::message::Request;

/// Protection space of all stand-in cameras.
const REALM: &str = "Hollow Fell";

/// The challenge for a nonce.
pub(super) fn challenge(nonce: &str) -> String {
    format!("Digest realm=\"{REALM}\", nonce=\"{nonce}\"")
}

/// True when the request proves that its sender knows the password.
pub(super) fn is_authorized(request: &Request, nonce: &str, account: &(String, SecretString)) -> bool {
    let Some(value) = request.headers.get("Authorization") else { return false };
    let field = |name: &str| {
        value
            .split(',')
            .filter_map(|part| part.trim().trim_start_matches("Digest ").split_once('='))
            .find(|(key, _)| key.trim() == name)
            .map(|(_, value)| value.trim().trim_matches('"').to_owned())
            .unwrap_or_default()
    };
    let (user, password) = account;
    let secret = hash(&format!("{user}:{REALM}:{}", password.expose_secret()));
    let asked = hash(&format!("{}:{}", request.method, field("uri")));
    field("username") == *user
        && field("nonce") == nonce
        && field("response") == hash(&format!("{secret}:{nonce}:{asked}"))
}

fn hash(text: &str) -> String {
    Md5::digest(text).iter().map(|byte| format!("{byte:02x}")).collect()
}
