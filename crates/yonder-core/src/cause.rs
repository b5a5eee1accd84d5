//! Causes: a stable code, a plain sentence, and the next step for a person.

use std::fmt;

use serde::{Deserialize, Serialize};

/// Fault domain of a cause.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum Side {
    /// The camera or its site.
    Camera,
    /// The way between.
    Network,
    /// The platform.
    Platform,
    /// This service or its settings.
    Ours,
    /// Planned: not a fault.
    Planned,
}

impl Side {
    /// Every side.
    pub const ALL: [Self; 5] = [Self::Camera, Self::Network, Self::Platform, Self::Ours, Self::Planned];

    /// Returns the name used in the API and the records.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Camera => "camera",
            Self::Network => "network",
            Self::Platform => "platform",
            Self::Ours => "ours",
            Self::Planned => "planned",
        }
    }

    /// Returns the side with this name.
    #[must_use]
    pub fn from_name(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|side| side.as_str() == name)
    }

    /// Returns the side as a sentence.
    #[must_use]
    pub fn sentence(self) -> &'static str {
        match self {
            Self::Camera => "Camera side.",
            Self::Network => "Network side.",
            Self::Platform => "Platform side.",
            Self::Ours => "Our side.",
            Self::Planned => "Planned.",
        }
    }
}

/// Builds the code table: variant, code, side, usual next step.
macro_rules! cause_codes {
    ($($(#[$doc:meta])* $variant:ident, $code:literal, $side:ident, $hint:literal;)*) => {
        /// Stable code of a cause. Codes are added, never renamed.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
        #[non_exhaustive]
        pub enum CauseCode { $($(#[$doc])* $variant,)* }

        impl CauseCode {
            /// All codes.
            pub const ALL: &'static [Self] = &[$(Self::$variant,)*];

            /// The code as it is written everywhere.
            #[must_use]
            pub fn code(self) -> &'static str {
                match self { $(Self::$variant => $code,)* }
            }

            /// Returns the fault domain.
            #[must_use]
            pub fn side(self) -> Side {
                match self { $(Self::$variant => Side::$side,)* }
            }

            /// The usual next step.
            #[must_use]
            pub fn hint(self) -> &'static str {
                match self { $(Self::$variant => $hint,)* }
            }
        }
    };
}

cause_codes! {
    /// The camera's name does not resolve.
    FeedNameNotFound, "feed.name-not-found", Network, "Check the spelling of the host name, and that this machine's name server knows it.";
    /// No way to the camera.
    FeedUnreachable, "feed.unreachable", Network, "Check that the camera has power and network, and that this machine can reach its address.";
    /// The camera's port is closed.
    FeedConnectionRefused, "feed.connection-refused", Camera, "The device answers but nothing listens on this port. Check the port, that RTSP is switched on, and that the port is forwarded to the camera.";
    /// The camera does not answer.
    FeedNoAnswer, "feed.no-answer", Camera, "Check that the camera runs and that no firewall swallows the connection.";
    /// User name or password is wrong.
    FeedWrongPassword, "feed.wrong-password", Camera, "Set the right user name and password with `yonder feed edit`. It is tried at most twice in 15 minutes, so that the camera does not lock the account.";
    /// The account may not see the stream.
    FeedForbidden, "feed.forbidden", Camera, "Give this account the right to view in the camera's settings, or use another account. After many failed sign-ins cameras lock an account for some minutes.";
    /// The path names no stream.
    FeedNoSuchStream, "feed.no-such-stream", Camera, "Check the path in the feed's address against the camera's manual. Recorders that are starting answer so, too.";
    /// The transport was refused.
    FeedTransportRefused, "feed.transport-refused", Camera, "Choose another transport with `yonder feed edit --transport`.";
    /// The camera's certificate is not trusted.
    FeedTlsUntrusted, "feed.tls-untrusted", Camera, "Check the camera's and this machine's clock. Compare the fingerprint with the one in the camera's settings; if it is the same, keep it with `yonder feed edit --pin`.";
    /// TLS with the camera failed.
    FeedTlsFailed, "feed.tls-failed", Camera, "Check that this port of the camera speaks RTSP over TLS; without TLS the address begins with rtsp://.";
    /// The camera cannot serve now.
    FeedNotReady, "feed.not-ready", Camera, "The camera is there but cannot serve; it may be starting, or out of resources.";
    /// There is no picture.
    FeedNoVideo, "feed.no-video", Camera, "Check the path: this stream has no picture.";
    /// The codec is not carried.
    FeedCodecUnsupported, "feed.codec-unsupported", Camera, "Switch the camera's stream to H.264 or H.265, or pull its other stream.";
    /// No keyframe comes.
    FeedNoKeyframe, "feed.no-keyframe", Camera, "Set the camera's keyframe interval to 2 seconds.";
    /// Connected, but nothing comes.
    FeedStalled, "feed.stalled", Camera, "Reconnecting automatically. If this recurs, check the camera's load and network.";
    /// Packets come, but so many are lost that no picture is whole.
    FeedPacketLoss, "feed.packet-loss", Network, "Pull over TCP (`yonder feed edit --transport tcp`), pull the sub stream, or look for what fills or breaks the network between the camera and this machine.";
    /// Packets come, but no picture can be made of them.
    FeedUnreadable, "feed.unreadable", Camera, "Update the camera's firmware, choose H.264 with its usual profile, or pull its other stream; `yonder feed survey` shows what comes.";
    /// The camera hung up.
    FeedClosedByCamera, "feed.closed-by-camera", Camera, "The camera ended the connection; it may be restarting.";
    /// The camera serves no more viewers.
    FeedTooManyViewers, "feed.too-many-viewers", Camera, "Close other viewers of this camera, or raise its limit.";
    /// The camera breaks the protocol.
    FeedProtocol, "feed.protocol", Camera, "Check that the address is the camera's RTSP address and port.";
    /// The stored password cannot be opened.
    FeedSecretLost, "feed.secret-lost", Ours, "Set the password again with `yonder feed edit --password-file`. If many secrets are lost, put the right master key back.";
    /// The service failed.
    FeedInternal, "feed.internal", Ours, "This is a fault of the service. It tries again; please report it with the log.";

    /// The platform's name does not resolve.
    PushNameNotFound, "push.name-not-found", Network, "Check the spelling of the server address, and that this machine's name server works.";
    /// No way to the platform.
    PushUnreachable, "push.unreachable", Network, "Check this machine's uplink, and that the server address is right.";
    /// The uplink that the push is bound to is not there.
    PushUplinkAway, "push.uplink-away", Network, "Check this uplink: its interface is down or missing, or it has another address now. Bind it again with `yonder uplink edit`. Other uplinks of the destination take over.";
    /// The platform's port is closed.
    PushConnectionRefused, "push.connection-refused", Platform, "The server answers but nothing listens on this port. Check the server address, or wait for the platform to return.";
    /// The platform does not answer.
    PushNoAnswer, "push.no-answer", Platform, "Check the server address and that no firewall swallows the connection.";
    /// The platform's certificate is not trusted.
    PushTlsUntrusted, "push.tls-untrusted", Platform, "Check the server address and this machine's clock; a private authority is added with `yonder destination edit --authority`.";
    /// TLS failed.
    PushTlsFailed, "push.tls-failed", Platform, "Check that this is the platform's address for encrypted pushes.";
    /// The application was refused.
    PushAppRefused, "push.app-refused", Platform, "Check the path of the server address: the platform does not accept this application. Platforms in maintenance answer so, too.";
    /// The key was refused.
    PushKeyRefused, "push.key-refused", Platform, "Take a fresh stream key from the platform and set it with `yonder destination rekey`. The present one is tried at most twice in 15 minutes.";
    /// The key is in use.
    PushKeyBusy, "push.key-busy", Platform, "The platform still sees the broadcast before this one, or another encoder uses this key. It is tried every 5 s for 2 minutes, then less often.";
    /// The platform cannot take a broadcast now.
    PushNotReady, "push.not-ready", Platform, "The platform has no room or is not ready; it is tried again by itself.";
    /// The codec was refused.
    PushCodecRefused, "push.codec-refused", Platform, "Switch the camera to a codec that the platform takes (H.264 and AAC nearly always are), or push its other stream. It is tried again after 1, 5, 15 and then every 30 minutes.";
    /// The platform ended the broadcast.
    PushClosedByPlatform, "push.closed-by-platform", Platform, "Reconnecting automatically. If this recurs, check the channel on the platform.";
    /// The way is too slow.
    PushTooSlow, "push.too-slow", Network, "Lower the camera's bit rate, push its sub stream, or look for what else uses the uplink.";
    /// The passphrase was refused.
    PushPassphraseRefused, "push.passphrase-refused", Platform, "Set the passphrase that the platform shows with `yonder destination rekey --passphrase-file`. The present one is tried at most twice in 15 minutes.";
    /// The platform breaks the protocol.
    PushProtocol, "push.protocol", Platform, "Check that the server address and port are the platform's for this protocol.";
    /// The stored key or passphrase cannot be opened.
    PushSecretLost, "push.secret-lost", Ours, "Set the stream key or the passphrase again with `yonder destination rekey`. If many secrets are lost, put the right master key back.";
    /// The service failed.
    PushInternal, "push.internal", Ours, "This is a fault of the service. It tries again; please report it with the log.";
}

impl fmt::Display for CauseCode {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.code())
    }
}

/// A cause as people see it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Cause {
    /// Stable code.
    pub code: CauseCode,
    /// Message, in one sentence.
    pub message: String,
    /// Next step.
    pub hint: String,
    /// Likely reasons, likeliest first; often none.
    pub probable_causes: Vec<String>,
}

impl Cause {
    /// A cause with its code's usual next step.
    #[must_use]
    pub fn new(code: CauseCode, message: impl Into<String>) -> Self {
        Self { code, message: message.into(), hint: code.hint().to_owned(), probable_causes: Vec::new() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::HashSet;

    #[test]
    fn codes_are_unique_and_name_their_subject() {
        let codes: HashSet<&str> = CauseCode::ALL.iter().map(|code| code.code()).collect();
        assert_eq!(codes.len(), CauseCode::ALL.len());
        assert!(codes.iter().all(|code| code.starts_with("feed.") || code.starts_with("push.")));
    }

    #[test]
    fn every_hint_is_a_sentence() {
        for code in CauseCode::ALL {
            assert!(code.hint().ends_with('.') && code.hint().len() > 20, "{code}");
        }
    }
}
