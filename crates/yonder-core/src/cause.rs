//! Causes: stable codes with a message and the next step for an operator.

use std::fmt;

use serde::{Deserialize, Serialize};

/// Fault domain of a cause.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum FaultDomain {
    /// The camera or its site.
    Camera,
    /// The network between camera or platform and this machine.
    Network,
    /// The platform.
    Platform,
    /// This service or its settings. Its public name is `ours`.
    #[serde(rename = "ours")]
    Service,
    /// Planned: not a fault.
    Planned,
}

impl FaultDomain {
    /// All fault domains.
    pub const ALL: [Self; 5] = [Self::Camera, Self::Network, Self::Platform, Self::Service, Self::Planned];

    /// Returns the name used in the API and the records.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Camera => "camera",
            Self::Network => "network",
            Self::Platform => "platform",
            Self::Service => "ours",
            Self::Planned => "planned",
        }
    }

    /// Returns the domain with this name.
    #[must_use]
    pub fn from_name(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|domain| domain.as_str() == name)
    }

    /// Returns a sentence about the domain.
    #[must_use]
    pub fn sentence(self) -> &'static str {
        match self {
            Self::Camera => "Camera side.",
            Self::Network => "Network side.",
            Self::Platform => "Platform side.",
            Self::Service => "Our side.",
            Self::Planned => "Planned.",
        }
    }
}

/// Builds the code table: variant, code, fault domain, default next step.
macro_rules! cause_codes {
    ($($(#[$doc:meta])* $variant:ident, $code:literal, $side:ident, $hint:literal;)*) => {
        /// Stable code of a cause. Codes are added, never renamed.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
        #[non_exhaustive]
        pub enum CauseCode { $($(#[$doc])* $variant,)* }

        impl CauseCode {
            /// All codes.
            pub const ALL: &'static [Self] = &[$(Self::$variant,)*];

            /// Returns the code as text.
            #[must_use]
            pub fn code(self) -> &'static str {
                match self { $(Self::$variant => $code,)* }
            }

            /// Returns the fault domain.
            #[must_use]
            pub fn side(self) -> FaultDomain {
                match self { $(Self::$variant => FaultDomain::$side,)* }
            }

            /// Returns the default next step.
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
    /// No route to the camera.
    FeedUnreachable, "feed.unreachable", Network, "Check that the camera has power and network, and that this machine can reach its address.";
    /// The camera's port is closed.
    FeedConnectionRefused, "feed.connection-refused", Camera, "The device answers but nothing listens on this port. Check the port, that RTSP is switched on, and that the port is forwarded to the camera.";
    /// The camera does not answer.
    FeedNoAnswer, "feed.no-answer", Camera, "Check that the camera runs and that no firewall drops the connection.";
    /// User name or password is wrong.
    FeedWrongPassword, "feed.wrong-password", Camera, "Set the right user name and password with `yonder feed edit`. It is tried at most twice in 15 minutes, so that the camera does not lock the account.";
    /// The account may not see the stream.
    FeedForbidden, "feed.forbidden", Camera, "Give this account the right to view in the camera's settings, or use another account. After many failed sign-ins cameras lock an account for some minutes.";
    /// The camera has no stream at this path.
    FeedNoSuchStream, "feed.no-such-stream", Camera, "Check the path in the feed's address against the camera's manual. Recorders also answer this while they start.";
    /// The transport was refused.
    FeedTransportRefused, "feed.transport-refused", Camera, "Choose another transport with `yonder feed edit --transport`.";
    /// The camera's certificate is not trusted.
    FeedTlsUntrusted, "feed.tls-untrusted", Camera, "Check the camera's and this machine's clock. Compare the fingerprint with the one in the camera's settings; if it is the same, pin it with `yonder feed edit --pin`.";
    /// TLS with the camera failed.
    FeedTlsFailed, "feed.tls-failed", Camera, "Check that this port of the camera speaks RTSP over TLS; without TLS the address begins with rtsp://.";
    /// The camera is not ready to serve.
    FeedNotReady, "feed.not-ready", Camera, "The camera is there but cannot serve; it may be starting, or out of resources.";
    /// The stream has no video.
    FeedNoVideo, "feed.no-video", Camera, "Check the path: this stream has no video.";
    /// The codec is not supported.
    FeedCodecUnsupported, "feed.codec-unsupported", Camera, "Switch the camera's stream to H.264 or H.265, or pull its other stream.";
    /// No keyframe arrives.
    FeedNoKeyframe, "feed.no-keyframe", Camera, "Set the camera's keyframe interval to 2 seconds.";
    /// Connected, but no media arrives.
    FeedStalled, "feed.stalled", Camera, "Reconnecting automatically. If this recurs, check the camera's load and network.";
    /// Packet loss is so high that no frame is complete.
    FeedPacketLoss, "feed.packet-loss", Network, "Pull over TCP (`yonder feed edit --transport tcp`), pull the sub stream, or find the congestion or fault in the network between the camera and this machine.";
    /// Packets arrive, but no frame can be assembled from them.
    FeedUnreadable, "feed.unreadable", Camera, "Update the camera's firmware, choose H.264 in Main profile, or pull its other stream; `yonder feed survey` shows the received stream.";
    /// The camera closed the connection.
    FeedClosedByCamera, "feed.closed-by-camera", Camera, "The camera ended the connection; it may be restarting.";
    /// No encoder publishes to the feed.
    FeedNoPublisher, "feed.no-publisher", Camera, "Start the encoder, and check the server and the stream key in its settings.";
    /// The encoder has ended the stream.
    FeedPublisherEnded, "feed.publisher-ended", Camera, "Start the stream at the encoder again.";
    /// The connection of the encoder broke.
    FeedPublisherLost, "feed.publisher-lost", Network, "Check that the encoder has power and network. Most encoders connect again by themselves.";
    /// The encoder sends what cannot be used.
    FeedPublisherInvalid, "feed.publisher-invalid", Camera, "Choose H.264 or H.265 with AAC in the encoder's settings, or update its software.";
    /// The camera accepts no more viewers.
    FeedTooManyViewers, "feed.too-many-viewers", Camera, "Close other viewers of this camera, or raise its limit.";
    /// The camera violates the protocol.
    FeedProtocol, "feed.protocol", Camera, "Check that the address is the camera's RTSP address and port.";
    /// The stored password cannot be decrypted.
    FeedSecretLost, "feed.secret-lost", Service, "Set the password again with `yonder feed edit --password-file`. If many secrets are lost, put the right master key back.";
    /// Internal error of the service.
    FeedInternal, "feed.internal", Service, "This is a fault of the service, which retries. Report it with the log.";

    /// The platform's name does not resolve.
    PushNameNotFound, "push.name-not-found", Network, "Check the spelling of the server address, and that this machine's name server works.";
    /// No route to the platform.
    PushUnreachable, "push.unreachable", Network, "Check this machine's uplink, and that the server address is right.";
    /// The uplink that the push is bound to is unavailable.
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
    PushAppRefused, "push.app-refused", Platform, "Check the path of the server address: the platform does not accept this application. Platforms also answer this during maintenance.";
    /// The key was refused.
    PushKeyRefused, "push.key-refused", Platform, "Take a fresh stream key from the platform and set it with `yonder destination rekey`. The current one is tried at most twice in 15 minutes.";
    /// The key is in use.
    PushKeyBusy, "push.key-busy", Platform, "The platform still holds the previous broadcast, or another encoder uses this key. The service retries every 5 s for 2 minutes, then less often.";
    /// The platform is not ready for a broadcast.
    PushNotReady, "push.not-ready", Platform, "The platform is full or not ready; the service retries.";
    /// The codec was refused.
    PushCodecRefused, "push.codec-refused", Platform, "Switch the camera to a codec that the platform accepts (nearly always H.264 and AAC), or push its other stream. The service retries after 1, 5, 15 and then every 30 minutes.";
    /// The platform ended the broadcast.
    PushClosedByPlatform, "push.closed-by-platform", Platform, "Reconnecting automatically. If this recurs, check the channel on the platform.";
    /// The network is too slow.
    PushTooSlow, "push.too-slow", Network, "Lower the camera's bit rate, push its sub stream, or find other traffic on the uplink.";
    /// The rendition for this push has failed.
    PushRenditionFailed, "push.rendition-failed", Service, "The service starts it again. If this recurs, set the camera to a codec that the platform accepts, or send the feed as it is with `yonder relay edit --adapt none`.";
    /// The machine is too slow for the rendition of this push.
    PushRenditionOverloaded, "push.rendition-overloaded", Service, "Find what else uses this machine's processor, ask for less with `yonder relay edit --limit`, or change the camera's settings so that nothing has to be adapted.";
    /// The passphrase was refused.
    PushPassphraseRefused, "push.passphrase-refused", Platform, "Set the passphrase that the platform shows with `yonder destination rekey --passphrase-file`. The current one is tried at most twice in 15 minutes.";
    /// The platform violates the protocol.
    PushProtocol, "push.protocol", Platform, "Check that the server address and port are the platform's for this protocol.";
    /// The stored key or passphrase cannot be decrypted.
    PushSecretLost, "push.secret-lost", Service, "Set the stream key or the passphrase again with `yonder destination rekey`. If many secrets are lost, put the right master key back.";
    /// Internal error of the service.
    PushInternal, "push.internal", Service, "This is a fault of the service, which retries. Report it with the log.";
}

impl fmt::Display for CauseCode {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.code())
    }
}

/// Cause with message and next step.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Cause {
    /// Stable code.
    pub code: CauseCode,
    /// Message, in one sentence.
    pub message: String,
    /// Next step.
    pub hint: String,
    /// Probable reasons, the likeliest first; often empty.
    pub probable_causes: Vec<String>,
}

impl Cause {
    /// Creates a cause with the default next step of its code.
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
    fn every_next_step_is_a_sentence() {
        for code in CauseCode::ALL {
            assert!(code.hint().ends_with('.') && code.hint().len() > 20, "{code}");
        }
    }

    #[test]
    fn fault_domains_have_one_name_in_the_api_and_in_the_records() {
        for domain in FaultDomain::ALL {
            assert_eq!(serde_json::to_value(domain).unwrap(), domain.as_str());
            assert_eq!(FaultDomain::from_name(domain.as_str()), Some(domain));
        }
    }
}
