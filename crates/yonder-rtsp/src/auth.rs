//! Authentication: Basic (RFC 7617) and Digest (RFC 7616, and RFC 2617 without `qop`).

use std::borrow::Cow;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use md5::{Digest as _, Md5};
use secrecy::ExposeSecret as _;
use sha2::Sha256;

use crate::message::to_bytes;
use crate::url::Credentials;

/// Hash of a Digest challenge.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Algorithm {
    /// MD5, used by nearly all cameras.
    Md5,
    /// SHA-256.
    Sha256,
}

/// Character set of a Digest challenge and its response.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Charset {
    /// UTF-8.
    Utf8,
    /// Unknown: each character represents one byte.
    Bytes,
}

impl Charset {
    fn bytes(self, text: &str) -> Cow<'_, [u8]> {
        match self {
            Self::Utf8 => text.as_bytes().into(),
            Self::Bytes => to_bytes(text).into(),
        }
    }

    /// Converts our own text to the character set, one character per byte where that is unknown.
    fn own(self, text: &str) -> Cow<'_, str> {
        match self {
            Self::Utf8 => text.into(),
            Self::Bytes => text.bytes().map(char::from).collect::<String>().into(),
        }
    }
}

/// Supported challenge, the weakest first.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Challenge {
    /// Basic: the password is sent in clear.
    Basic,
    /// Digest.
    Digest {
        /// Protection space.
        realm: String,
        /// The camera's nonce.
        nonce: String,
        /// `opaque`, returned unchanged.
        opaque: Option<String>,
        /// Hash.
        algorithm: Algorithm,
        /// The challenge names the algorithm, and so must the response (RFC 7616, 3.4); old firmware may refuse an
        /// algorithm otherwise.
        names_algorithm: bool,
        /// `-sess`: the secret is hashed together with both nonces.
        session: bool,
        /// `qop=auth` is offered.
        qop_auth: bool,
        /// The password was correct but the nonce has expired.
        stale: bool,
    },
}

impl Challenge {
    fn strength(&self) -> u8 {
        match self {
            Self::Basic => 0,
            Self::Digest { algorithm: Algorithm::Md5, .. } => 1,
            Self::Digest { algorithm: Algorithm::Sha256, .. } => 2,
        }
    }

    /// Returns true if only the nonce was refused.
    #[must_use]
    pub fn is_stale(&self) -> bool {
        matches!(self, Self::Digest { stale: true, .. })
    }
}

/// Returns the strongest supported challenge of the `WWW-Authenticate` fields.
pub fn strongest<'a>(fields: impl Iterator<Item = &'a str>) -> Option<Challenge> {
    fields.flat_map(parse_field).max_by_key(Challenge::strength)
}

fn parse_field(field: &str) -> Vec<Challenge> {
    let mut challenges = Vec::new();
    for (scheme, parameters) in split_challenges(field) {
        if scheme.eq_ignore_ascii_case("basic") {
            challenges.push(Challenge::Basic);
        } else if scheme.eq_ignore_ascii_case("digest") {
            challenges.extend(digest_challenge(&parameters));
        }
    }
    challenges
}

type Parameters = Vec<(String, String)>;

/// Splits a field into challenges: a token without `=` begins the next one.
fn split_challenges(field: &str) -> Vec<(String, Parameters)> {
    let mut challenges: Vec<(String, Parameters)> = Vec::new();
    for part in split_outside_quotes(field) {
        let part = part.trim();
        let name_end = part.find('=').unwrap_or(part.len());
        let (name, value) = part.split_at(name_end);
        let mut words = name.split_whitespace();
        let (first, second) = (words.next().unwrap_or_default(), words.next());
        let parameter = match second {
            Some(parameter) => {
                challenges.push((first.to_owned(), Vec::new()));
                parameter
            }
            None if value.is_empty() => {
                if !first.is_empty() {
                    challenges.push((first.to_owned(), Vec::new()));
                }
                continue;
            }
            None => first,
        };
        let value = value.trim_start_matches('=').trim().trim_matches('"').replace("\\\"", "\"");
        if let Some((_, parameters)) = challenges.last_mut() {
            parameters.push((parameter.to_ascii_lowercase(), value));
        }
    }
    challenges
}

fn split_outside_quotes(field: &str) -> Vec<&str> {
    let mut quoted = false;
    field
        .split(move |c: char| {
            if c == '"' {
                quoted = !quoted;
            }
            c == ',' && !quoted
        })
        .collect()
}

fn digest_challenge(parameters: &Parameters) -> Option<Challenge> {
    let get = |name: &str| parameters.iter().find(|(key, _)| key == name).map(|(_, value)| value.as_str());
    let (algorithm, session) = match get("algorithm").map(str::to_ascii_uppercase).as_deref() {
        None | Some("MD5" | "") => (Algorithm::Md5, false),
        Some("MD5-SESS") => (Algorithm::Md5, true),
        Some("SHA-256") => (Algorithm::Sha256, false),
        Some("SHA-256-SESS") => (Algorithm::Sha256, true),
        Some(_) => return None,
    };
    let qop = get("qop").unwrap_or_default();
    let qop_auth = qop.split(',').any(|kind| kind.trim().eq_ignore_ascii_case("auth"));
    // Only `auth-int` is offered, which is not supported.
    if !qop.is_empty() && !qop_auth {
        return None;
    }
    Some(Challenge::Digest {
        realm: get("realm").unwrap_or_default().to_owned(),
        nonce: get("nonce")?.to_owned(),
        opaque: get("opaque").map(str::to_owned),
        algorithm,
        session,
        qop_auth,
        names_algorithm: get("algorithm").is_some_and(|name| !name.is_empty()),
        stale: get("stale").is_some_and(|stale| stale.eq_ignore_ascii_case("true")),
    })
}

/// Computes the `Authorization` header of each request.
#[derive(Debug)]
pub struct Authenticator {
    challenge: Challenge,
    credentials: Credentials,
    client_nonce: String,
    uses: u32,
    charset: Charset,
}

impl Authenticator {
    /// Creates an authenticator. `seed` determines the client nonce; it must be random in production.
    #[must_use]
    pub fn new(challenge: Challenge, credentials: Credentials, seed: u64) -> Self {
        let client_nonce = format!("{seed:016x}");
        Self { challenge, credentials, client_nonce, uses: 0, charset: Charset::Utf8 }
    }

    /// Sets whether each character of the challenge, and of the response, represents one byte.
    #[must_use]
    pub fn with_bytes(self, is_bytes: bool) -> Self {
        Self { charset: if is_bytes { Charset::Bytes } else { Charset::Utf8 }, ..self }
    }

    /// Returns the `Authorization` value for a request.
    pub fn authorize(&mut self, method: &str, url: &str) -> String {
        let user = &self.credentials.user;
        let password = self.credentials.password.expose_secret();
        let Challenge::Digest { realm, nonce, opaque, algorithm, names_algorithm, session, qop_auth, .. } =
            &self.challenge
        else {
            return format!("Basic {}", STANDARD.encode(format!("{user}:{password}")));
        };
        let charset = self.charset;
        let (user, password) = (charset.own(user), charset.own(password));
        let digest = |text: String| hash(*algorithm, &charset.bytes(&text));
        let mut secret = digest(format!("{user}:{realm}:{password}"));
        if *session {
            secret = digest(format!("{secret}:{nonce}:{}", self.client_nonce));
        }
        let request = digest(format!("{method}:{url}"));
        self.uses = self.uses.saturating_add(1);
        let count = format!("{:08x}", self.uses);
        let response = if *qop_auth {
            digest(format!("{secret}:{nonce}:{count}:{}:auth:{request}", self.client_nonce))
        } else {
            digest(format!("{secret}:{nonce}:{request}"))
        };
        let mut value = format!(
            "Digest username=\"{}\", realm=\"{}\", nonce=\"{nonce}\", uri=\"{url}\", response=\"{response}\"",
            quoted(&user),
            quoted(realm)
        );
        if let Some(opaque) = opaque {
            value += &format!(", opaque=\"{opaque}\"");
        }
        match (algorithm, session) {
            (Algorithm::Md5, false) if !names_algorithm => {}
            (Algorithm::Md5, false) => value += ", algorithm=MD5",
            (Algorithm::Md5, true) => value += ", algorithm=MD5-sess",
            (Algorithm::Sha256, false) => value += ", algorithm=SHA-256",
            (Algorithm::Sha256, true) => value += ", algorithm=SHA-256-sess",
        }
        if *qop_auth {
            value += &format!(", qop=auth, nc={count}");
        }
        // RFC 7616, 3.4.2: the session secret needs the client nonce, with or without `qop`.
        if *qop_auth || *session {
            value += &format!(", cnonce=\"{}\"", self.client_nonce);
        }
        value
    }
}

fn quoted(text: &str) -> String {
    text.replace('"', "\\\"")
}

fn hash(algorithm: Algorithm, data: &[u8]) -> String {
    match algorithm {
        Algorithm::Md5 => hex::encode(Md5::digest(data)),
        Algorithm::Sha256 => hex::encode(Sha256::digest(data)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn credentials(user: &str, password: &str) -> Credentials {
        Credentials { user: user.to_owned(), password: password.into() }
    }

    fn answer(field: &str, credentials: Credentials, method: &str, url: &str) -> String {
        let challenge = strongest(std::iter::once(field)).unwrap();
        Authenticator::new(challenge, credentials, 0).authorize(method, url)
    }

    #[test]
    fn basic_is_the_example_of_rfc_7617() {
        let value = answer("Basic realm=\"WallyWorld\"", credentials("Aladdin", "open sesame"), "GET", "/");
        assert_eq!(value, "Basic QWxhZGRpbjpvcGVuIHNlc2FtZQ==");
    }

    /// Header values of RFC 2617, 3.5; the response for SHA-256 was computed independently by the formula of RFC 7616.
    #[rstest]
    #[case::md5(Algorithm::Md5, false, "6629fae49393a05397450978507c4ef1")]
    #[case::sha256(
        Algorithm::Sha256,
        false,
        "5abdd07184ba512a22c53f41470e5eea7dcaa3a93a59b630c13dfe0a5dc6e38b"
    )]
    #[case::md5_sess(Algorithm::Md5, true, "8e3825c57e897f5a0dec6c2d4e5059d0")]
    #[case::sha256_sess(
        Algorithm::Sha256,
        true,
        "b8822e12417cb7750f4e2b8515f0dcf25b7dd26993e80bee1426201446a7f59b"
    )]
    fn digest_with_qop_is_the_published_example(
        #[case] algorithm: Algorithm,
        #[case] session: bool,
        #[case] response: &str,
    ) {
        let challenge = Challenge::Digest {
            realm: "testrealm@host.com".into(),
            nonce: "dcd98b7102dd2f0e8b11d0f600bfb0c093".into(),
            opaque: Some("5ccc069c403ebaf9f0171e9517f40e41".into()),
            algorithm,
            names_algorithm: true,
            session,
            qop_auth: true,
            stale: false,
        };
        let mut authenticator = Authenticator::new(challenge, credentials("Mufasa", "Circle Of Life"), 0);
        authenticator.client_nonce = "0a4f113b".into();
        let value = authenticator.authorize("GET", "/dir/index.html");
        assert!(value.contains(&format!("response=\"{response}\"")), "{value}");
        assert!(
            value.contains("nc=00000001") && value.contains("opaque=\"5ccc069c403ebaf9f0171e9517f40e41\"")
        );
    }

    #[test]
    fn a_realm_in_another_character_set_is_hashed_as_it_came() {
        // Two characters in GBK; the user's password is UTF-8. Computed independently.
        let realm: String = [0xc9_u8, 0xe3, 0xcf, 0xf1].map(char::from).iter().collect();
        let challenge =
            strongest(std::iter::once(format!("Digest realm=\"{realm}\", nonce=\"n1\"").as_str())).unwrap();
        let mut authenticator =
            Authenticator::new(challenge, credentials("op", "w\u{f6}rd"), 0).with_bytes(true);
        let value = authenticator.authorize("DESCRIBE", "rtsp://192.0.2.7/main");
        assert!(value.contains("response=\"f4a65dbc53a2ebb546f2a4d4385b322e\""), "{value}");
        let sent = to_bytes(&value);
        assert!(
            sent.windows(4).any(|bytes| bytes == [0xc9, 0xe3, 0xcf, 0xf1]),
            "the realm goes back as it came"
        );
    }

    #[test]
    fn digest_without_qop_is_the_formula_of_rfc_2069() {
        // Computed independently from RFC 2617, 3.2.2.1, with the header values of its example in 3.5.
        let value = answer(
            "Digest realm=\"testrealm@host.com\", nonce=\"dcd98b7102dd2f0e8b11d0f600bfb0c093\"",
            credentials("Mufasa", "Circle Of Life"),
            "GET",
            "/dir/index.html",
        );
        assert!(value.contains("response=\"670fd8c2df070c60b045671b8b24ff02\""), "{value}");
        assert!(!value.contains("qop"));
    }

    #[rstest]
    #[case::digest_over_basic(&["Basic realm=\"a\"", "Digest realm=\"a\", nonce=\"n\""], 1)]
    #[case::sha_over_md5(&["Digest realm=\"a\", nonce=\"n\", algorithm=SHA-256", "Digest realm=\"a\", nonce=\"n\""], 2)]
    #[case::both_in_one_field(&["Basic realm=\"a, b\", Digest realm=\"c\", nonce=\"n\", qop=\"auth,auth-int\""], 1)]
    #[case::unknown_algorithm_left_aside(&["Digest realm=\"a\", nonce=\"n\", algorithm=SHA-512-256", "Basic"], 0)]
    #[case::body_integrity_left_aside(&["Digest realm=\"a\", nonce=\"n\", qop=\"auth-int\"", "Basic realm=x"], 0)]
    fn the_strongest_answerable_challenge_wins(#[case] fields: &[&str], #[case] strength: u8) {
        assert_eq!(strongest(fields.iter().copied()).map(|c| c.strength()), Some(strength));
    }

    #[test]
    fn stale_nonce_is_detected() {
        let challenge = strongest(std::iter::once("Digest realm=\"a\", nonce=\"n\", stale=TRUE")).unwrap();
        assert!(challenge.is_stale());
    }

    #[test]
    fn unsupported_challenges_are_ignored() {
        assert_eq!(strongest(["Bearer", "", ",,,=", "Digest realm=x"].into_iter()), None);
    }
}
