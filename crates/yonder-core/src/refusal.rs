//! Judgement of refusals: from a peer's response to a [`CauseCode`].
//!
//! Protocol crates report refusals as facts: the stage, codes and texts. This module is the only place where they become a
//! [`CauseCode`], by a built-in table, by lines of the platform's rule sheet, and by what has worked before.

use std::fmt;

use serde::{Deserialize, Serialize};

use crate::cause::{Cause, CauseCode};
use crate::supervision::History;

/// Stage of an RTMP dialogue at which a refusal came.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PublishStage {
    /// `connect`: the application.
    Connect,
    /// `createStream`.
    CreateStream,
    /// `publish`: the stream key.
    Publish,
    /// After the publish was accepted.
    Live,
}

/// A refusal as the protocol reported it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Refusal<'a> {
    /// An RTSP response with a status of 300 and above.
    Rtsp {
        /// Method of the request.
        method: &'a str,
        /// Status code.
        status: u16,
        /// Reason phrase.
        reason: &'a str,
        /// The request carried credentials.
        authorized: bool,
    },
    /// An RTMP `_error` or `onStatus`.
    Rtmp {
        /// Stage of the dialogue.
        stage: PublishStage,
        /// `code` of the information object.
        code: &'a str,
        /// `description` of the information object.
        description: &'a str,
    },
    /// An SRT handshake rejection.
    Srt {
        /// Rejection reason code.
        code: u32,
    },
}

/// Meaning that a line of a rule sheet gives to a refusal.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum RefusalMeaning {
    /// The platform cannot take a broadcast now.
    NotReady,
    /// The key is in use.
    KeyBusy,
    /// The key is wrong or has expired.
    KeyRefused,
    /// The application is unknown.
    AppRefused,
    /// The codec is not accepted.
    CodecRefused,
    /// The passphrase is wrong.
    PassphraseRefused,
}

impl RefusalMeaning {
    /// All meanings.
    pub const ALL: [Self; 6] = [
        Self::NotReady,
        Self::KeyBusy,
        Self::KeyRefused,
        Self::AppRefused,
        Self::CodecRefused,
        Self::PassphraseRefused,
    ];

    /// Returns the name of the meaning.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::NotReady => "not-ready",
            Self::KeyBusy => "key-busy",
            Self::KeyRefused => "key-refused",
            Self::AppRefused => "app-refused",
            Self::CodecRefused => "codec-refused",
            Self::PassphraseRefused => "passphrase-refused",
        }
    }

    /// Returns the meaning named `name`.
    #[must_use]
    pub fn from_name(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|meaning| meaning.as_str() == name)
    }

    fn code(self) -> CauseCode {
        match self {
            Self::NotReady => CauseCode::PushNotReady,
            Self::KeyBusy => CauseCode::PushKeyBusy,
            Self::KeyRefused => CauseCode::PushKeyRefused,
            Self::AppRefused => CauseCode::PushAppRefused,
            Self::CodecRefused => CauseCode::PushCodecRefused,
            Self::PassphraseRefused => CauseCode::PushPassphraseRefused,
        }
    }
}

/// A line of a rule sheet: a text that a refusal contains, or an SRT code, and what it means on this platform.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RefusalRule {
    /// Text that the code or the description contains, without regard to case; for SRT the number of the code.
    pub text: String,
    /// Meaning on this platform.
    pub means: RefusalMeaning,
}

/// Texts of descriptions, in order of precedence. Platforms use one code for several reasons; the description, if it is in
/// English, distinguishes them.
const TEXTS: [(CauseCode, &[&str]); 4] = [
    (CauseCode::PushKeyBusy, &["already", "in use", "busy", "is publishing", "duplicate"]),
    (CauseCode::PushCodecRefused, &["codec", "hevc", "h.265", "h265", "unsupported format"]),
    (
        CauseCode::PushNotReady,
        &[
            "internal",
            "try again",
            "later",
            "unavailable",
            "temporar",
            "timeout",
            "timed out",
            "overload",
            "capacity",
            "shutting down",
            "maintenance",
            "restart",
            "not ready",
        ],
    ),
    (
        CauseCode::PushKeyRefused,
        &[
            "key",
            "not found",
            "unknown",
            "invalid",
            "authori",
            "authenticat",
            "forbidden",
            "denied",
            "expired",
            "permission",
            "not allowed",
            "does not exist",
            "not exist",
        ],
    ),
];

impl Refusal<'_> {
    /// Returns the cause of the refusal; its message quotes the peer.
    #[must_use]
    pub fn cause(&self, rules: &[RefusalRule], history: History) -> Cause {
        let code = self.code(rules, history);
        let mut cause = Cause::new(code, format!("{} ({self}).", lead(code)));
        match self {
            Self::Srt { code: 1011 } => {
                "The platform requires a passphrase: set it with `yonder destination rekey --passphrase-file`."
                    .clone_into(&mut cause.hint);
            }
            Self::Rtmp { stage: PublishStage::Connect, description, .. } if asks_for_sign_in(description) => {
                cause.message = format!("The platform asks for a user name and password ({self}).");
                "Signing in to an RTMP server is not supported. Use an address with a stream key."
                    .clone_into(&mut cause.hint);
            }
            Self::Rtsp { status: 401, authorized: false, .. } => {
                "The camera asks for a user name and password.".clone_into(&mut cause.message);
            }
            _ => {}
        }
        cause
    }

    /// Returns the code of the refusal.
    #[must_use]
    pub fn code(&self, rules: &[RefusalRule], history: History) -> CauseCode {
        if let Some(rule) = rules.iter().find(|rule| self.matches(rule)) {
            return rule.means.code();
        }
        match *self {
            Self::Rtsp { method, status, .. } => rtsp_code(method, status),
            Self::Srt { code } => srt_code(code),
            Self::Rtmp { stage, code, description } => rtmp_code(stage, code, description, history),
        }
    }

    fn matches(&self, rule: &RefusalRule) -> bool {
        let text = rule.text.to_lowercase();
        match self {
            Self::Rtsp { .. } => false,
            Self::Srt { code } => text == code.to_string(),
            Self::Rtmp { code, description, .. } => {
                code.to_lowercase().contains(&text) || description.to_lowercase().contains(&text)
            }
        }
    }
}

/// Maps RTSP statuses (RFC 2326, 7.1.1); `method` decides where a status has several meanings.
fn rtsp_code(method: &str, status: u16) -> CauseCode {
    match status {
        401 | 407 => CauseCode::FeedWrongPassword,
        403 => CauseCode::FeedForbidden,
        404 | 410 => CauseCode::FeedNoSuchStream,
        400 | 451 if method == "DESCRIBE" => CauseCode::FeedNoSuchStream,
        453 => CauseCode::FeedTooManyViewers,
        461 => CauseCode::FeedTransportRefused,
        500 | 502..=504 => CauseCode::FeedNotReady,
        _ => CauseCode::FeedProtocol,
    }
}

/// Maps SRT rejection reasons (draft-sharabayko-srt, table 7, and the HTTP-like codes of applications). Codes without a
/// defined meaning count as temporary.
fn srt_code(code: u32) -> CauseCode {
    match code {
        1010 | 1011 => CauseCode::PushPassphraseRefused,
        1400 | 1401 | 1403 | 1404 => CauseCode::PushKeyRefused,
        1409 | 1423 => CauseCode::PushKeyBusy,
        1415 => CauseCode::PushCodecRefused,
        1405 | 1406 => CauseCode::PushAppRefused,
        1008 | 1012..=1015 | 1505 => CauseCode::PushProtocol,
        _ => CauseCode::PushNotReady,
    }
}

fn rtmp_code(stage: PublishStage, code: &str, description: &str, history: History) -> CauseCode {
    let description = description.to_lowercase();
    let by_text = TEXTS
        .iter()
        .find(|(_, texts)| texts.iter().any(|text| description.contains(text)))
        .map(|(code, _)| *code);
    match (stage, by_text) {
        (PublishStage::Live, Some(CauseCode::PushCodecRefused)) => CauseCode::PushCodecRefused,
        (PublishStage::Live, _) => CauseCode::PushClosedByPlatform,
        // A refused `connect` concerns the application, not the key.
        (PublishStage::Connect, Some(CauseCode::PushKeyRefused) | None) => CauseCode::PushAppRefused,
        (_, Some(code)) => code,
        // "Already being published by another client": the code alone means a busy key if the key has worked.
        (_, None) if code.contains("BadName") && history.credentials => CauseCode::PushKeyBusy,
        (_, None) if code.contains("BadName") => CauseCode::PushKeyRefused,
        (_, None) => CauseCode::PushNotReady,
    }
}

/// Returns true for a refusal of `connect` that asks for a user name and password (`authmod=adobe` or `llnw`).
fn asks_for_sign_in(description: &str) -> bool {
    description.contains("authmod=") || description.contains("need auth")
}

fn lead(code: CauseCode) -> &'static str {
    match code {
        CauseCode::FeedWrongPassword => "The camera refused the user name or password",
        CauseCode::FeedForbidden => "The camera forbids this account to view the stream",
        CauseCode::FeedNoSuchStream => "The camera does not have this stream",
        CauseCode::FeedTooManyViewers => "The camera has reached its viewer limit",
        CauseCode::FeedTransportRefused => "The camera refused the transport",
        CauseCode::FeedNotReady => "The camera cannot serve the stream now",
        CauseCode::FeedProtocol => "The camera refused a request",
        CauseCode::PushAppRefused => "The platform refused the application",
        CauseCode::PushKeyRefused => "The platform refused the stream key",
        CauseCode::PushKeyBusy => "The stream key is in use",
        CauseCode::PushCodecRefused => "The platform does not accept the codec",
        CauseCode::PushPassphraseRefused => "The platform refused the passphrase",
        CauseCode::PushClosedByPlatform => "The platform ended the broadcast",
        CauseCode::PushNotReady => "The platform cannot accept the broadcast now",
        _ => "The platform refused the connection",
    }
}

/// Formats the peer's message.
impl fmt::Display for Refusal<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Rtsp { method, status, reason, .. } => write!(f, "{status} {reason} to {method}"),
            Self::Rtmp { code: "", description: "", .. } => f.write_str("no reason given"),
            Self::Rtmp { code: "", description: text, .. }
            | Self::Rtmp { code: text, description: "", .. } => f.write_str(text),
            Self::Rtmp { code, description, .. } => write!(f, "{description}, {code}"),
            Self::Srt { code } => write!(f, "SRT code {code}"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const UNUSED: History = History { credentials: false, address: false };

    fn rtmp<'a>(stage: PublishStage, code: &'a str, description: &'a str) -> Refusal<'a> {
        Refusal::Rtmp { stage, code, description }
    }

    #[rstest]
    #[case::bare_code_of_a_fresh_key("NetStream.Publish.BadName", "", UNUSED, CauseCode::PushKeyRefused)]
    #[case::bare_code_of_a_proven_key(
        "NetStream.Publish.BadName",
        "",
        History::PROVEN,
        CauseCode::PushKeyBusy
    )]
    #[case::other_language(
        "NetStream.Publish.BadName",
        "Flux déjà diffusé",
        History::PROVEN,
        CauseCode::PushKeyBusy
    )]
    #[case::busy("NetStream.Publish.BadName", "Stream is already publishing", UNUSED, CauseCode::PushKeyBusy)]
    #[case::wrong(
        "NetStream.Publish.BadName",
        "Stream key is not known",
        History::PROVEN,
        CauseCode::PushKeyRefused
    )]
    #[case::internal(
        "NetStream.Publish.BadName",
        "Internal error, try later",
        UNUSED,
        CauseCode::PushNotReady
    )]
    #[case::shutting_down(
        "NetStream.Publish.Failed",
        "Server is shutting down",
        UNUSED,
        CauseCode::PushNotReady
    )]
    #[case::unknown_code("NetStream.Publish.Denied.Foo", "", UNUSED, CauseCode::PushNotReady)]
    #[case::codec("NetStream.Publish.Rejected", "HEVC is not enabled", UNUSED, CauseCode::PushCodecRefused)]
    #[case::nothing_said("", "", History::PROVEN, CauseCode::PushNotReady)]
    fn publish_refusals_are_classified_by_text_code_and_history(
        #[case] code: &str,
        #[case] description: &str,
        #[case] history: History,
        #[case] expected: CauseCode,
    ) {
        assert_eq!(rtmp(PublishStage::Publish, code, description).code(&[], history), expected);
    }

    #[rstest]
    #[case::unknown_app("no such application", CauseCode::PushAppRefused)]
    #[case::nothing_said("", CauseCode::PushAppRefused)]
    #[case::maintenance("down for maintenance", CauseCode::PushNotReady)]
    fn connect_refusals_concern_the_application(#[case] description: &str, #[case] expected: CauseCode) {
        let refusal = rtmp(PublishStage::Connect, "NetConnection.Connect.Rejected", description);
        assert_eq!(refusal.code(&[], UNUSED), expected);
    }

    #[test]
    fn end_of_a_broadcast_is_by_the_platform_unless_it_names_the_codec() {
        let ended = |text| rtmp(PublishStage::Live, "NetStream.Publish.Failed", text).code(&[], UNUSED);
        assert_eq!(ended("key expired"), CauseCode::PushClosedByPlatform);
        assert_eq!(ended("unsupported format"), CauseCode::PushCodecRefused);
    }

    #[rstest]
    #[case(1000, CauseCode::PushNotReady)]
    #[case(1001, CauseCode::PushNotReady)]
    #[case(1002, CauseCode::PushNotReady)]
    #[case(1005, CauseCode::PushNotReady)]
    #[case(1006, CauseCode::PushNotReady)]
    #[case(1007, CauseCode::PushNotReady)]
    #[case(1008, CauseCode::PushProtocol)]
    #[case(1010, CauseCode::PushPassphraseRefused)]
    #[case(1011, CauseCode::PushPassphraseRefused)]
    #[case(1016, CauseCode::PushNotReady)]
    #[case(1402, CauseCode::PushNotReady)]
    #[case(1403, CauseCode::PushKeyRefused)]
    #[case(1404, CauseCode::PushKeyRefused)]
    #[case(1409, CauseCode::PushKeyBusy)]
    #[case(1415, CauseCode::PushCodecRefused)]
    #[case(1500, CauseCode::PushNotReady)]
    #[case(1503, CauseCode::PushNotReady)]
    #[case(1999, CauseCode::PushNotReady)]
    fn ambiguous_srt_codes_are_temporary(#[case] code: u32, #[case] expected: CauseCode) {
        assert_eq!(Refusal::Srt { code }.code(&[], UNUSED), expected);
    }

    #[rstest]
    #[case("DESCRIBE", 401, CauseCode::FeedWrongPassword)]
    #[case("DESCRIBE", 403, CauseCode::FeedForbidden)]
    #[case("DESCRIBE", 404, CauseCode::FeedNoSuchStream)]
    #[case("DESCRIBE", 400, CauseCode::FeedNoSuchStream)]
    #[case("PLAY", 400, CauseCode::FeedProtocol)]
    #[case("SETUP", 453, CauseCode::FeedTooManyViewers)]
    #[case("SETUP", 461, CauseCode::FeedTransportRefused)]
    #[case("PLAY", 455, CauseCode::FeedProtocol)]
    #[case("DESCRIBE", 503, CauseCode::FeedNotReady)]
    fn rtsp_statuses_map_to_their_causes(
        #[case] method: &str,
        #[case] status: u16,
        #[case] expected: CauseCode,
    ) {
        let refusal = Refusal::Rtsp { method, status, reason: "No", authorized: true };
        assert_eq!(refusal.code(&[], UNUSED), expected);
    }

    #[test]
    fn rule_sheet_lines_have_precedence() {
        let rules = [
            RefusalRule { text: "badname".into(), means: RefusalMeaning::NotReady },
            RefusalRule { text: "1404".into(), means: RefusalMeaning::KeyBusy },
        ];
        let refusal = rtmp(PublishStage::Publish, "NetStream.Publish.BadName", "Stream key is not known");
        assert_eq!(refusal.code(&rules, UNUSED), CauseCode::PushNotReady);
        assert_eq!(Refusal::Srt { code: 1404 }.code(&rules, UNUSED), CauseCode::PushKeyBusy);
        assert_eq!(Refusal::Srt { code: 1403 }.code(&rules, UNUSED), CauseCode::PushKeyRefused);
    }

    #[test]
    fn messages_quote_the_peer() {
        let refusal = rtmp(PublishStage::Publish, "NetStream.Publish.BadName", "no such key");
        assert_eq!(
            refusal.cause(&[], UNUSED).message,
            "The platform refused the stream key (no such key, NetStream.Publish.BadName)."
        );
        let refusal =
            Refusal::Rtsp { method: "DESCRIBE", status: 404, reason: "Not Found", authorized: true };
        assert_eq!(
            refusal.cause(&[], UNUSED).message,
            "The camera does not have this stream (404 Not Found to DESCRIBE)."
        );
        let asked =
            Refusal::Rtsp { method: "DESCRIBE", status: 401, reason: "Unauthorized", authorized: false };
        assert_eq!(asked.cause(&[], UNUSED).message, "The camera asks for a user name and password.");
    }

    #[test]
    fn meanings_have_names() {
        for meaning in RefusalMeaning::ALL {
            assert_eq!(RefusalMeaning::from_name(meaning.as_str()), Some(meaning));
        }
        assert_eq!(RefusalMeaning::from_name("busy"), None);
    }
}
