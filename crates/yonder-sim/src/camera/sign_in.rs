//! Authentication by a stand-in camera: Basic (RFC 7617) and Digest (RFC 2617, RFC 7616).

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use md5::{Digest as _, Md5};
use secrecy::{ExposeSecret as _, SecretString};
use sha2::Sha256;
use yonder_rtsp::message::Request;

use super::faults::SignIn;

/// Protection space of all stand-in cameras.
const REALM: &str = "Hollow Fell";

/// Result of an authentication.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum AuthResult {
    /// The credentials are valid.
    Right,
    /// The credentials are valid, under a stale nonce.
    Stale,
    /// The credentials are missing or wrong.
    Wrong,
}

/// Returns the challenges for a nonce, one header field each.
pub(super) fn challenges(kind: SignIn, nonce: &str, stale: bool) -> Vec<String> {
    let stale = if stale { ", stale=true" } else { "" };
    let digest = format!("Digest realm=\"{REALM}\", nonce=\"{nonce}\"{stale}");
    let basic = format!("Basic realm=\"{REALM}\"");
    let sha256 = format!("{digest}, algorithm=SHA-256, qop=\"auth\"");
    match kind {
        SignIn::Digest => vec![digest],
        SignIn::DigestQop => vec![format!("{digest}, qop=\"auth,auth-int\", opaque=\"5ccc\"")],
        SignIn::DigestSha256 => vec![sha256],
        SignIn::Basic => vec![basic],
        SignIn::Everything => vec![basic, digest, sha256],
    }
}

/// Checks the credentials of a request.
pub(super) fn check_credentials(
    request: &Request,
    kind: SignIn,
    nonce: &str,
    account: &(String, SecretString),
) -> AuthResult {
    let Some(value) = request.headers.get("Authorization") else { return AuthResult::Wrong };
    let (user, password) = (&account.0, account.1.expose_secret());
    if let Some(proof) = value.strip_prefix("Basic ") {
        let expected = STANDARD.encode(format!("{user}:{password}"));
        // If all schemes are offered, only the strongest is accepted.
        let right = kind == SignIn::Basic && proof.trim() == expected;
        return if right { AuthResult::Right } else { AuthResult::Wrong };
    }
    let field = |name: &str| {
        value
            .trim_start_matches("Digest ")
            .split(", ")
            .filter_map(|part| part.split_once('='))
            .find(|(key, _)| key.trim() == name)
            .map(|(_, value)| value.trim().trim_matches('"').to_owned())
            .unwrap_or_default()
    };
    let is_sha256 = field("algorithm") == "SHA-256";
    if is_sha256 != matches!(kind, SignIn::DigestSha256 | SignIn::Everything) || kind == SignIn::Basic {
        return AuthResult::Wrong;
    }
    let hash = |text: String| {
        if is_sha256 { hex::encode(Sha256::digest(text)) } else { hex::encode(Md5::digest(text)) }
    };
    let secret = hash(format!("{user}:{REALM}:{password}"));
    let asked = hash(format!("{}:{}", request.method, field("uri")));
    let used = field("nonce");
    let proof = if field("qop") == "auth" {
        hash(format!("{secret}:{used}:{}:{}:auth:{asked}", field("nc"), field("cnonce")))
    } else {
        hash(format!("{secret}:{used}:{asked}"))
    };
    match field("username") == *user && field("response") == proof {
        true if used == nonce => AuthResult::Right,
        true => AuthResult::Stale,
        false => AuthResult::Wrong,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use bytes::Bytes;
    use rstest::rstest;
    use yonder_rtsp::Credentials;
    use yonder_rtsp::auth::{Authenticator, strongest};
    use yonder_rtsp::message::Headers;

    const URL: &str = "rtsp://192.0.2.7/main";

    /// Returns a request with an answer to the camera's challenges.
    fn answered(kind: SignIn, nonce: &str, password: &str) -> Request {
        let offered = challenges(kind, nonce, false);
        let challenge = strongest(offered.iter().map(String::as_str)).unwrap();
        let credentials = Credentials { user: "rail".into(), password: password.into() };
        let value = Authenticator::new(challenge, credentials, 7).authorize("DESCRIBE", URL);
        let mut headers = Headers::default();
        headers.push("Authorization", value);
        Request { method: "DESCRIBE".into(), url: URL.into(), headers, body: Bytes::new() }
    }

    #[rstest]
    fn only_the_correct_password_is_accepted(
        #[values(SignIn::Digest, SignIn::DigestQop, SignIn::DigestSha256, SignIn::Basic, SignIn::Everything)]
        kind: SignIn,
    ) {
        let account = ("rail".to_owned(), "up-the-fell".into());
        let right = answered(kind, "n1", "up-the-fell");
        assert_eq!(check_credentials(&right, kind, "n1", &account), AuthResult::Right);
        assert_eq!(check_credentials(&answered(kind, "n1", "down"), kind, "n1", &account), AuthResult::Wrong);
        let other = ("somebody".to_owned(), "up-the-fell".into());
        assert_eq!(check_credentials(&right, kind, "n1", &other), AuthResult::Wrong);
        if kind != SignIn::Basic {
            assert_eq!(check_credentials(&right, kind, "n2", &account), AuthResult::Stale);
        }
    }

    #[test]
    fn a_weaker_answer_than_was_offered_is_refused() {
        let account = ("rail".to_owned(), "up-the-fell".into());
        let weak = answered(SignIn::Digest, "n1", "up-the-fell");
        assert_eq!(check_credentials(&weak, SignIn::Everything, "n1", &account), AuthResult::Wrong);
    }
}
