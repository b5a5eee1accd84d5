//! Random faults of a camera and of a platform's servers, drawn from a seed.

use std::time::Duration;

use yonder_core::{Cause, CauseCode, History, PublishStage, Refusal};

/// Repeatable random numbers (xorshift64*).
pub(crate) struct Random(u64);

impl Random {
    pub(crate) fn new(seed: u64) -> Self {
        // Neighboring seeds must not begin alike.
        Self(seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1)
    }

    pub(crate) fn below(&mut self, limit: u64) -> u64 {
        self.0 ^= self.0 >> 12;
        self.0 ^= self.0 << 25;
        self.0 ^= self.0 >> 27;
        self.0.wrapping_mul(0x2545_f491_4f6c_dd1d) % limit
    }

    /// Returns a length of time, usually short and sometimes long.
    pub(crate) fn span(&mut self, usual_s: u64) -> Duration {
        let factor = if self.below(10) == 0 { 20 } else { 1 };
        Duration::from_millis(1 + self.below(usual_s * 1000 * factor))
    }

    fn pick<T: Copy>(&mut self, of: &[T]) -> T {
        of[usize::try_from(self.below(u64::try_from(of.len()).unwrap())).unwrap()]
    }
}

/// Behaviour of a camera or recorder towards its clients.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum CameraFault {
    Ready,
    /// Off: nothing listens.
    Refused,
    /// Off: nothing answers.
    Silent,
    /// Its RTSP server is up before its channels.
    NoChannels,
    /// Its RTSP server is up before its accounts.
    NoAccounts,
    /// It is starting.
    Unavailable,
    /// A session of ours is not forgotten yet.
    SessionTaken,
    /// Its certificate is not valid yet: its clock, or ours, is not set.
    CertificateNotValid,
    /// It accepts connections and answers nothing.
    Frozen,
    /// It describes an audio track only, while its encoder starts.
    NoVideoYet,
}

impl CameraFault {
    const ALL: [Self; 9] = [
        Self::Refused,
        Self::Silent,
        Self::NoChannels,
        Self::NoAccounts,
        Self::Unavailable,
        Self::SessionTaken,
        Self::CertificateNotValid,
        Self::Frozen,
        Self::NoVideoYet,
    ];

    pub(crate) fn draw(random: &mut Random) -> Self {
        random.pick(&Self::ALL)
    }

    pub(crate) fn accepts_connections(self) -> bool {
        !matches!(self, Self::Refused | Self::Silent)
    }

    /// Returns the failure of a connection; `None` when video flows.
    pub(crate) fn answer(self, history: History) -> Option<Cause> {
        let refused = |status, reason| {
            let refusal = Refusal::Rtsp { method: "DESCRIBE", status, reason, authorized: true };
            Some(refusal.cause(&[], history))
        };
        let code = match self {
            Self::Ready => return None,
            Self::NoChannels => return refused(404, "Not Found"),
            Self::NoAccounts => return refused(401, "Unauthorized"),
            Self::Unavailable => return refused(503, "Service Unavailable"),
            Self::SessionTaken => return refused(453, "Not Enough Bandwidth"),
            Self::Refused => CauseCode::FeedConnectionRefused,
            Self::Silent | Self::Frozen => CauseCode::FeedNoAnswer,
            Self::CertificateNotValid => CauseCode::FeedTlsUntrusted,
            Self::NoVideoYet => CauseCode::FeedNoVideo,
        };
        Some(Cause::new(code, "It failed."))
    }
}

/// Behaviour of one of a platform's servers towards publishers.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum ServerFault {
    Ready,
    /// Nothing listens.
    Refused,
    /// Nothing answers.
    Silent,
    /// `connect` is refused while its application restarts.
    Maintenance,
    /// `publish` is answered with the bare code `NetStream.Publish.BadName`.
    BadName,
    /// `publish` is refused for an internal reason: the port is open, but nothing works behind it.
    OpensButRefuses,
    /// The same by SRT.
    SrtInternal,
    /// Its certificate has expired.
    CertificateExpired,
    /// The key is positively refused, though it is right.
    KeyRefused,
    /// The codec is refused, though it was taken before.
    CodecRefused,
}

impl ServerFault {
    const ALL: [Self; 9] = [
        Self::Refused,
        Self::Silent,
        Self::Maintenance,
        Self::BadName,
        Self::OpensButRefuses,
        Self::SrtInternal,
        Self::CertificateExpired,
        Self::KeyRefused,
        Self::CodecRefused,
    ];

    pub(crate) fn draw(random: &mut Random) -> Self {
        random.pick(&Self::ALL)
    }

    /// Returns a probe (TCP and TLS) succeeds.
    pub(crate) fn is_reachable(self) -> bool {
        !matches!(self, Self::Refused | Self::Silent | Self::CertificateExpired)
    }

    /// Returns the failure of a connection; `None` when the broadcast is live.
    pub(crate) fn answer(self, history: History) -> Option<Cause> {
        let publish = |code, description| {
            let refusal = Refusal::Rtmp { stage: PublishStage::Publish, code, description };
            Some(refusal.cause(&[], history))
        };
        let code = match self {
            Self::Ready => return None,
            Self::BadName => return publish("NetStream.Publish.BadName", ""),
            Self::OpensButRefuses => return publish("NetStream.Publish.Failed", "Internal error"),
            Self::KeyRefused => return publish("NetStream.Publish.BadName", "Unknown key"),
            Self::CodecRefused => return publish("NetStream.Publish.Rejected", "Unsupported codec"),
            Self::SrtInternal => return Some(Refusal::Srt { code: 1006 }.cause(&[], history)),
            Self::Maintenance => {
                let stage = PublishStage::Connect;
                let code = "NetConnection.Connect.Rejected";
                return Some(Refusal::Rtmp { stage, code, description: "" }.cause(&[], history));
            }
            Self::Refused => CauseCode::PushConnectionRefused,
            Self::Silent => CauseCode::PushNoAnswer,
            Self::CertificateExpired => CauseCode::PushTlsUntrusted,
        };
        Some(Cause::new(code, "It failed."))
    }

    /// The answer while the platform has not noticed yet that our last broadcast dropped.
    pub(crate) fn busy(history: History) -> Cause {
        let code = "NetStream.Publish.BadName";
        let description = "Stream is already publishing";
        Refusal::Rtmp { stage: PublishStage::Publish, code, description }.cause(&[], history)
    }
}
