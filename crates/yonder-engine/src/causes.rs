//! From errors of the layers below to causes for people.

use yonder_core::{Cause, CauseCode};
use yonder_rtmp::PushError;
use yonder_rtsp::PullError;
use yonder_srt::{CloseReason, Rejection, SrtError};

use crate::dial::DialError;
use crate::tls::{TlsError, fingerprint_text};

/// The cause of a dial to a camera that failed.
pub(crate) fn feed_dial(error: &DialError, target: &str) -> Cause {
    let code = match error {
        DialError::NameNotFound(_) => CauseCode::FeedNameNotFound,
        DialError::Refused => CauseCode::FeedConnectionRefused,
        DialError::NoAnswer(_) => CauseCode::FeedNoAnswer,
        DialError::Unreachable(_) | DialError::UplinkAway { .. } => CauseCode::FeedUnreachable,
    };
    Cause::new(code, dial_sentence("camera", error, target))
}

/// The cause of a dial to a platform that failed.
pub(crate) fn push_dial(error: &DialError, target: &str) -> Cause {
    let code = match error {
        DialError::NameNotFound(_) => CauseCode::PushNameNotFound,
        DialError::Refused => CauseCode::PushConnectionRefused,
        DialError::NoAnswer(_) => CauseCode::PushNoAnswer,
        DialError::Unreachable(_) => CauseCode::PushUnreachable,
        DialError::UplinkAway { .. } => CauseCode::PushUplinkAway,
    };
    Cause::new(code, dial_sentence("platform", error, target))
}

fn dial_sentence(who: &str, error: &DialError, target: &str) -> String {
    match error {
        DialError::NameNotFound(detail) => format!("The {who}'s name in {target} was not found ({detail})."),
        DialError::Refused => format!("The {who} at {target} refused the connection."),
        DialError::NoAnswer(after) => {
            format!("The {who} at {target} did not answer within {} s.", after.as_secs())
        }
        DialError::Unreachable(detail) => format!("There is no way to the {who} at {target} ({detail})."),
        DialError::UplinkAway { uplink, detail } => format!("The uplink {uplink} is away: {detail}."),
    }
}

/// The cause of TLS that did not come about.
pub(crate) fn feed_tls(error: &TlsError) -> Cause {
    match error {
        TlsError::Untrusted { fingerprint, detail } => Cause::new(
            CauseCode::FeedTlsUntrusted,
            format!(
                "The camera's certificate is not trusted: {detail}. Its SHA-256 fingerprint is {}.",
                fingerprint_text(fingerprint)
            ),
        ),
        TlsError::Failed(detail) => Cause::new(
            CauseCode::FeedTlsFailed,
            format!("The camera and we could not agree on TLS ({detail})."),
        ),
    }
}

/// The cause of TLS with a platform that did not come about.
pub(crate) fn push_tls(error: &TlsError) -> Cause {
    match error {
        TlsError::Untrusted { fingerprint, detail } => Cause::new(
            CauseCode::PushTlsUntrusted,
            format!(
                "The platform's certificate is not trusted: {detail}. Its SHA-256 fingerprint is {}.",
                fingerprint_text(fingerprint)
            ),
        ),
        TlsError::Failed(detail) => Cause::new(
            CauseCode::PushTlsFailed,
            format!("The platform and we could not agree on TLS ({detail})."),
        ),
    }
}

/// The cause of a pull that ended.
pub(crate) fn feed(error: &PullError) -> Cause {
    let code = match error {
        PullError::PasswordNeeded | PullError::WrongPassword { .. } => CauseCode::FeedWrongPassword,
        PullError::Forbidden { .. } => CauseCode::FeedForbidden,
        PullError::NotReady { .. } => CauseCode::FeedNotReady,
        PullError::NoSuchStream { .. } => CauseCode::FeedNoSuchStream,
        PullError::TooManyViewers { .. } => CauseCode::FeedTooManyViewers,
        PullError::TransportRefused { .. } => CauseCode::FeedTransportRefused,
        PullError::NoVideo => CauseCode::FeedNoVideo,
        PullError::CodecUnsupported { .. } => CauseCode::FeedCodecUnsupported,
        PullError::NoAnswer(_) => CauseCode::FeedNoAnswer,
        PullError::ClosedByCamera => CauseCode::FeedClosedByCamera,
        _ => CauseCode::FeedProtocol,
    };
    let mut cause = Cause::new(code, sentence(error));
    if let PullError::Redirected { location } = error
        && !location.is_empty()
    {
        cause.hint = format!("Set the feed's address to {location} with `yonder feed edit`.");
    }
    cause
}

/// The cause of a push that ended.
pub(crate) fn push(error: &PushError) -> Cause {
    let code = match error {
        PushError::AppRefused { .. } => CauseCode::PushAppRefused,
        PushError::KeyRefused { .. } => CauseCode::PushKeyRefused,
        PushError::KeyBusy { .. } => CauseCode::PushKeyBusy,
        PushError::Ended { .. } => CauseCode::PushClosedByPlatform,
        PushError::NoAnswer(_) => CauseCode::PushNoAnswer,
        PushError::CodecRefused { .. } => CauseCode::PushCodecRefused,
        _ => CauseCode::PushProtocol,
    };
    Cause::new(code, sentence(error))
}

/// The cause of an SRT connection that did not come about.
pub(crate) fn push_srt(error: &SrtError) -> Cause {
    let code = match error {
        SrtError::NoAnswer { .. } => CauseCode::PushNoAnswer,
        SrtError::PassphraseRefused | SrtError::PassphraseUnexpected => CauseCode::PushPassphraseRefused,
        SrtError::Rejected(rejection) => match rejection {
            Rejection::BadSecret | Rejection::Unsecured => CauseCode::PushPassphraseRefused,
            Rejection::Forbidden | Rejection::NotFound | Rejection::BadRequest => CauseCode::PushKeyRefused,
            Rejection::Conflict => CauseCode::PushKeyBusy,
            Rejection::Busy => CauseCode::PushNotReady,
            Rejection::Media => CauseCode::PushCodecRefused,
            Rejection::Version => CauseCode::PushProtocol,
            _ => CauseCode::PushAppRefused,
        },
        _ => CauseCode::PushProtocol,
    };
    let mut cause = Cause::new(code, sentence(error));
    match error {
        SrtError::Rejected(Rejection::Unsecured) => {
            "The platform wants a passphrase: set it with `yonder destination rekey --passphrase-file`."
                .clone_into(&mut cause.hint);
        }
        SrtError::PassphraseUnexpected => {
            "Take the passphrase away with `yonder destination edit --no-passphrase`, or switch encryption on at the platform."
                .clone_into(&mut cause.hint);
        }
        _ => {}
    }
    cause
}

/// The cause of an SRT connection that ended; `None` when we ended it.
pub(crate) fn push_srt_closed(reason: CloseReason) -> Option<Cause> {
    match reason {
        CloseReason::Ours => None,
        CloseReason::ByPeer => {
            Some(Cause::new(CauseCode::PushClosedByPlatform, "The platform closed the connection."))
        }
        CloseReason::Silent(span) => {
            let message = format!("Nothing has come from the platform for {} s.", span.as_secs());
            Some(Cause::new(CauseCode::PushNoAnswer, message))
        }
    }
}

/// Errors speak in lower case without a stop; causes are sentences.
fn sentence(error: &dyn std::fmt::Display) -> String {
    let text = error.to_string();
    let mut characters = text.chars();
    let first = characters.next().map(char::to_uppercase).into_iter().flatten();
    let mut sentence: String = first.chain(characters).collect();
    if !sentence.ends_with('.') {
        sentence.push('.');
    }
    sentence
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use std::time::Duration;

    #[test]
    fn dial_failures_name_the_target_and_their_side() {
        let cause = feed_dial(&DialError::Refused, "192.0.2.7:554");
        assert_eq!(cause.code.code(), "feed.connection-refused");
        assert_eq!(cause.message, "The camera at 192.0.2.7:554 refused the connection.");
        let cause = push_dial(&DialError::NoAnswer(Duration::from_secs(5)), "ingest.example.net:1935");
        assert_eq!(cause.code.code(), "push.no-answer");
        assert!(cause.message.contains("within 5 s"));
    }

    #[test]
    fn refusals_become_sentences_with_the_peers_words() {
        let cause = feed(&PullError::NoSuchStream { status: 404, reason: "Not Found".into() });
        assert_eq!(cause.message, "The camera has no such stream (404 Not Found).");
        let cause = push(&PushError::KeyRefused { words: "unknown key".into() });
        assert_eq!(cause.code.code(), "push.key-refused");
        assert!(cause.message.contains("unknown key"));
    }

    #[rstest]
    #[case(PullError::PasswordNeeded, "feed.wrong-password")]
    #[case(PullError::WrongPassword { status: 401, reason: "No".into() }, "feed.wrong-password")]
    #[case(PullError::Forbidden { status: 403, reason: "No".into() }, "feed.forbidden")]
    #[case(PullError::NoSuchStream { status: 404, reason: "No".into() }, "feed.no-such-stream")]
    #[case(PullError::TooManyViewers { status: 453, reason: "No".into() }, "feed.too-many-viewers")]
    #[case(PullError::TransportRefused { status: 461, reason: "No".into() }, "feed.transport-refused")]
    #[case(PullError::NotReady { status: 503, reason: "No".into() }, "feed.not-ready")]
    #[case(PullError::Refused { method: "PLAY", status: 455, reason: "No".into() }, "feed.protocol")]
    #[case(PullError::NoVideo, "feed.no-video")]
    #[case(PullError::CodecUnsupported { codec: "JPEG".into() }, "feed.codec-unsupported")]
    #[case(PullError::ClosedByCamera, "feed.closed-by-camera")]
    fn every_end_of_a_pull_has_its_code_and_a_sentence(#[case] error: PullError, #[case] code: &str) {
        let cause = feed(&error);
        assert_eq!(cause.code.code(), code);
        assert!(cause.message.starts_with("The ") && cause.message.ends_with('.'), "{}", cause.message);
    }

    #[test]
    fn an_untrusted_certificate_shows_its_fingerprint() {
        let error = TlsError::Untrusted { fingerprint: [0xa1; 32], detail: "it has expired".into() };
        let cause = feed_tls(&error);
        assert_eq!(cause.code.code(), "feed.tls-untrusted");
        assert!(
            cause.message.contains("it has expired") && cause.message.contains("A1:A1:A1"),
            "{}",
            cause.message
        );
        assert_eq!(feed_tls(&TlsError::Failed("no TLS".into())).code.code(), "feed.tls-failed");
    }

    #[rstest]
    #[case(SrtError::PassphraseRefused, "push.passphrase-refused")]
    #[case(SrtError::PassphraseUnexpected, "push.passphrase-refused")]
    #[case(SrtError::Rejected(Rejection::Unsecured), "push.passphrase-refused")]
    #[case(SrtError::Rejected(Rejection::NotFound), "push.key-refused")]
    #[case(SrtError::Rejected(Rejection::Forbidden), "push.key-refused")]
    #[case(SrtError::Rejected(Rejection::Conflict), "push.key-busy")]
    #[case(SrtError::Rejected(Rejection::Busy), "push.not-ready")]
    #[case(SrtError::Rejected(Rejection::Media), "push.codec-refused")]
    #[case(SrtError::Rejected(Rejection::Version), "push.protocol")]
    #[case(SrtError::Rejected(Rejection::Other(1999)), "push.app-refused")]
    #[case(SrtError::Version(4), "push.protocol")]
    #[case(SrtError::NoAnswer { step: "end", after: Duration::from_secs(3) }, "push.no-answer")]
    fn every_refusal_of_srt_has_its_code_and_a_sentence(#[case] error: SrtError, #[case] code: &str) {
        let cause = push_srt(&error);
        assert_eq!(cause.code.code(), code);
        assert!(cause.message.starts_with("The ") && cause.message.ends_with('.'), "{}", cause.message);
    }

    #[test]
    fn an_end_of_srt_has_a_cause_unless_it_is_ours() {
        assert_eq!(push_srt_closed(CloseReason::Ours), None);
        let silent = push_srt_closed(CloseReason::Silent(Duration::from_secs(5))).unwrap();
        assert_eq!((silent.code.code(), silent.message.contains("5 s")), ("push.no-answer", true));
        let by_peer = push_srt_closed(CloseReason::ByPeer).unwrap();
        assert_eq!(by_peer.code.code(), "push.closed-by-platform");
    }

    #[test]
    fn a_platforms_untrusted_certificate_shows_its_fingerprint() {
        let error = TlsError::Untrusted { fingerprint: [0xa1; 32], detail: "it has expired".into() };
        let cause = push_tls(&error);
        assert_eq!(cause.code.code(), "push.tls-untrusted");
        assert!(cause.message.contains("it has expired") && cause.message.contains("A1:A1:A1"));
        assert_eq!(push_tls(&TlsError::Failed("no TLS".into())).code.code(), "push.tls-failed");
    }

    #[test]
    fn a_redirect_tells_the_new_address() {
        let cause = feed(&PullError::Redirected { location: "rtsp://192.0.2.9/x".into() });
        assert!(cause.hint.contains("rtsp://192.0.2.9/x"));
    }
}
