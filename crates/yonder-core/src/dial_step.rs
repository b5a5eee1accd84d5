//! Steps of a connection to a camera or a platform.

use serde::{Deserialize, Serialize};

/// Completed step of a connection. Steps are added, never renamed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[cfg_attr(feature = "schema", schema(as = DialStepName))]
pub enum DialStep {
    /// The name was resolved.
    #[serde(rename = "name found")]
    NameFound,
    /// TCP connected.
    #[serde(rename = "connected")]
    Connected,
    /// TLS handshake with a camera completed.
    #[serde(rename = "encrypted")]
    Encrypted,
    /// TLS handshake with a platform completed.
    #[serde(rename = "TLS agreed")]
    TlsAgreed,
    /// The peer has answered the protocol's first message.
    #[serde(rename = "greeted")]
    Greeted,
    /// The camera accepted the credentials.
    #[serde(rename = "signed in")]
    SignedIn,
    /// The camera described its stream.
    #[serde(rename = "stream described")]
    StreamDescribed,
    /// The camera set up the tracks.
    #[serde(rename = "tracks set up")]
    TracksSetUp,
    /// The camera answered PLAY.
    #[serde(rename = "playing")]
    Playing,
    /// The RTMP server accepted the application.
    #[serde(rename = "application accepted")]
    ApplicationAccepted,
    /// The RTMP server accepted the stream key.
    #[serde(rename = "key accepted")]
    KeyAccepted,
    /// The SRT listener answered the induction handshake.
    #[serde(rename = "listener answered")]
    ListenerAnswered,
    /// The SRT listener answered a probe.
    #[serde(rename = "SRT listener answered")]
    SrtListenerAnswered,
    /// The SRT listener accepted the connection.
    #[serde(rename = "accepted")]
    Accepted,
    /// The SRT listener accepted the connection and the passphrase.
    #[serde(rename = "accepted, encrypted")]
    AcceptedEncrypted,
    /// The first keyframe was received or sent.
    #[serde(rename = "first keyframe")]
    FirstKeyframe,
}

impl DialStep {
    /// All steps.
    pub const ALL: &'static [Self] = &[
        Self::NameFound,
        Self::Connected,
        Self::Encrypted,
        Self::TlsAgreed,
        Self::Greeted,
        Self::SignedIn,
        Self::StreamDescribed,
        Self::TracksSetUp,
        Self::Playing,
        Self::ApplicationAccepted,
        Self::KeyAccepted,
        Self::ListenerAnswered,
        Self::SrtListenerAnswered,
        Self::Accepted,
        Self::AcceptedEncrypted,
        Self::FirstKeyframe,
    ];

    /// Returns the name of the step.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::NameFound => "name found",
            Self::Connected => "connected",
            Self::Encrypted => "encrypted",
            Self::TlsAgreed => "TLS agreed",
            Self::Greeted => "greeted",
            Self::SignedIn => "signed in",
            Self::StreamDescribed => "stream described",
            Self::TracksSetUp => "tracks set up",
            Self::Playing => "playing",
            Self::ApplicationAccepted => "application accepted",
            Self::KeyAccepted => "key accepted",
            Self::ListenerAnswered => "listener answered",
            Self::SrtListenerAnswered => "SRT listener answered",
            Self::Accepted => "accepted",
            Self::AcceptedEncrypted => "accepted, encrypted",
            Self::FirstKeyframe => "first keyframe",
        }
    }
}

impl std::fmt::Display for DialStep {
    fn fmt(&self, formatter: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        formatter.pad(self.as_str())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_those_of_the_api() {
        for step in DialStep::ALL {
            assert_eq!(serde_json::to_value(step).unwrap(), step.as_str());
        }
    }
}
