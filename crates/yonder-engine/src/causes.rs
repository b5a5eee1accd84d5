//! Mapping of engine and protocol errors to causes.

use yonder_core::{Cause, CauseCode, History, PublishStage, Refusal};
use yonder_rtmp::{PushError, PushStep, Status};
use yonder_rtsp::PullError;
use yonder_srt::{CloseReason, SrtError};

use crate::connect::DialError;
use crate::tls::{TlsError, fingerprint_text};

/// Returns the cause of a failed connection to a camera.
pub(crate) fn feed_dial(error: &DialError, target: &str) -> Cause {
    let code = match error {
        DialError::NameNotFound(_) => CauseCode::FeedNameNotFound,
        DialError::Refused => CauseCode::FeedConnectionRefused,
        DialError::NoAnswer(_) => CauseCode::FeedNoAnswer,
        DialError::Unreachable(_) | DialError::UplinkAway { .. } => CauseCode::FeedUnreachable,
    };
    Cause::new(code, dial_sentence("camera", error, target))
}

/// Returns the cause of a failed connection to a platform.
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

/// Returns the cause of a failed TLS handshake with a camera.
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

/// Returns the cause of a failed TLS handshake with a platform.
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

/// Returns the cause of a pull that ended.
pub(crate) fn feed(error: &PullError, history: History) -> Cause {
    let code = match error {
        PullError::Refused { method, status, reason, authorized } => {
            let refusal =
                Refusal::Rtsp { method, status: *status, reason: reason.as_str(), authorized: *authorized };
            return refusal.cause(&[], history);
        }
        PullError::OtherTransport { .. } => CauseCode::FeedTransportRefused,
        PullError::NoVideo => CauseCode::FeedNoVideo,
        PullError::CodecUnsupported { .. } => CauseCode::FeedCodecUnsupported,
        PullError::NoAnswer(_) => CauseCode::FeedNoAnswer,
        PullError::ClosedByCamera => CauseCode::FeedClosedByCamera,
        _ => CauseCode::FeedProtocol,
    };
    let mut cause = Cause::new(code, sentence(error));
    if matches!(error, PullError::ClearPassword) {
        "Check that this is your camera. If it was set to Basic authentication on purpose, set it to Digest again, or save its address and password again with `yonder feed edit`."
            .clone_into(&mut cause.hint);
    }
    if let PullError::Redirected { location: Some(location) } = error {
        cause.hint = format!("Set the feed's address to {location} with `yonder feed edit`.");
    }
    cause
}

/// Returns the cause of an RTMP push that ended; `cause_of` evaluates a refusal for its destination.
pub(crate) fn push(error: &PushError, cause_of: impl FnOnce(&Refusal<'_>) -> Cause) -> Cause {
    match error {
        PushError::Refused { step, status } => cause_of(&refusal(*step, status)),
        PushError::Ended { status } => cause_of(&refusal(PushStep::Live, status)),
        PushError::Redirected { .. } => {
            let message = format!("{} That is not followed: it was redirected too often.", sentence(error));
            Cause::new(CauseCode::PushProtocol, message)
        }
        PushError::NoAnswer(_) => Cause::new(CauseCode::PushNoAnswer, sentence(error)),
        _ => Cause::new(CauseCode::PushProtocol, sentence(error)),
    }
}

fn refusal(step: PushStep, status: &Status) -> Refusal<'_> {
    let stage = match step {
        PushStep::Handshake | PushStep::Connecting => PublishStage::Connect,
        PushStep::Creating => PublishStage::CreateStream,
        PushStep::Publishing => PublishStage::Publish,
        PushStep::Live => PublishStage::Live,
    };
    Refusal::Rtmp { stage, code: &status.code, description: &status.description }
}

/// Returns the cause of an SRT push that ended; `cause_of` evaluates a refusal for its destination.
pub(crate) fn push_srt(error: &SrtError, cause_of: impl FnOnce(&Refusal<'_>) -> Cause) -> Cause {
    match error {
        SrtError::Rejected(rejection) => cause_of(&Refusal::Srt { code: rejection.code() }),
        SrtError::Closed(reason) => push_srt_closed(*reason),
        _ => srt(error),
    }
}

/// Returns the cause of an SRT handshake that failed, without regard to a destination.
pub(crate) fn srt(error: &SrtError) -> Cause {
    let code = match error {
        SrtError::Rejected(rejection) => {
            return Refusal::Srt { code: rejection.code() }.cause(&[], History::default());
        }
        SrtError::NoAnswer { .. } => CauseCode::PushNoAnswer,
        SrtError::PassphraseRefused | SrtError::PassphraseUnexpected => CauseCode::PushPassphraseRefused,
        _ => CauseCode::PushProtocol,
    };
    let mut cause = Cause::new(code, sentence(error));
    if matches!(error, SrtError::PassphraseUnexpected) {
        "Take the passphrase away with `yonder destination edit --no-passphrase`, or switch encryption on at the platform."
            .clone_into(&mut cause.hint);
    }
    cause
}

/// Returns the cause of an SRT connection that ended.
fn push_srt_closed(reason: CloseReason) -> Cause {
    match reason {
        CloseReason::Shutdown => {
            Cause::new(CauseCode::PushClosedByPlatform, "The platform closed the connection.")
        }
        CloseReason::KeyExhausted => {
            let message = "The platform never accepted a new encryption key, and the present one is used up.";
            Cause::new(CauseCode::PushProtocol, message)
        }
        CloseReason::Silent(span) => {
            let message = format!("Nothing has come from the platform for {} s.", span.as_secs());
            Cause::new(CauseCode::PushNoAnswer, message)
        }
    }
}

/// Formats an error, which is in lower case without a period, as a sentence.
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
    use yonder_srt::Rejection;

    #[test]
    fn dial_failures_name_the_target_and_their_side() {
        let cause = feed_dial(&DialError::Refused, "192.0.2.7:554");
        assert_eq!(cause.code.code(), "feed.connection-refused");
        assert_eq!(cause.message, "The camera at 192.0.2.7:554 refused the connection.");
        let cause = push_dial(&DialError::NoAnswer(Duration::from_secs(5)), "ingest.example.net:1935");
        assert_eq!(cause.code.code(), "push.no-answer");
        assert!(cause.message.contains("within 5 s"));
    }

    #[rstest]
    #[case(PullError::Refused { method: "DESCRIBE", status: 404, reason: "No".into(), authorized: true }, "feed.no-such-stream")]
    #[case(PullError::Refused { method: "PLAY", status: 455, reason: "No".into(), authorized: true }, "feed.protocol")]
    #[case(PullError::OtherTransport { transport: "RTP/AVP".into() }, "feed.transport-refused")]
    #[case(PullError::NoVideo, "feed.no-video")]
    #[case(PullError::CodecUnsupported { codec: "JPEG".into() }, "feed.codec-unsupported")]
    #[case(PullError::ClosedByCamera, "feed.closed-by-camera")]
    fn every_end_of_a_pull_has_its_code_and_a_sentence(#[case] error: PullError, #[case] code: &str) {
        let cause = feed(&error, History::default());
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
    #[case(SrtError::Rejected(Rejection::Other(1999)), "push.not-ready")]
    #[case(SrtError::Version(4), "push.protocol")]
    #[case(SrtError::NoAnswer { step: "end", after: Duration::from_secs(3) }, "push.no-answer")]
    fn every_failure_of_an_srt_handshake_has_its_code_and_a_sentence(
        #[case] error: SrtError,
        #[case] code: &str,
    ) {
        let cause = srt(&error);
        assert_eq!(cause.code.code(), code);
        assert!(cause.message.starts_with("The ") && cause.message.ends_with('.'), "{}", cause.message);
    }

    #[rstest]
    #[case(CloseReason::Shutdown, "push.closed-by-platform", "closed")]
    #[case(CloseReason::Silent(Duration::from_secs(5)), "push.no-answer", "5 s")]
    #[case(CloseReason::KeyExhausted, "push.protocol", "key")]
    fn end_of_an_srt_connection_has_its_code_and_a_sentence(
        #[case] reason: CloseReason,
        #[case] code: &str,
        #[case] detail: &str,
    ) {
        let cause = push_srt(&reason.into(), |_| panic!("no refusal"));
        assert_eq!(cause.code.code(), code);
        assert!(cause.message.contains(detail), "{}", cause.message);
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
    fn redirect_cause_contains_the_new_address() {
        let (url, _) = yonder_rtsp::CameraUrl::parse("rtsp://192.0.2.9/x?token=planted").unwrap();
        let cause = feed(&PullError::Redirected { location: Some(Box::new(url)) }, History::default());
        assert!(cause.hint.contains("rtsp://192.0.2.9/x?token={secret}"), "{}", cause.hint);
    }
}
