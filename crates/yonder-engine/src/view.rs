//! Views of feeds, relays and pushes. Times are wall times; rates are in kilobits (1000 bits) per second.

use std::time::{Duration, SystemTime};

use yonder_core::rendition::{AudioSource, Rendition};
use yonder_core::{
    AudioInfo, Cause, CauseCode, DialStep, FaultDomain, FeedPhase, History, PushPhase, ServerRole, VideoInfo,
};
use yonder_ingest::PublisherInfo;
use yonder_media::Track;
use yonder_rtsp::{DropCounts, Skipped};

use crate::clock::Clock;
use crate::spec::PushSpec;

/// Cause of a state.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CauseView {
    /// Code.
    pub kind: CauseCode,
    /// Code as text.
    pub code: &'static str,
    /// Fault domain.
    pub side: FaultDomain,
    /// Message, in one sentence.
    pub message: String,
    /// Next step.
    pub hint: String,
    /// Probable reasons, the likeliest first.
    pub probable_causes: Vec<String>,
}

impl From<&Cause> for CauseView {
    fn from(cause: &Cause) -> Self {
        Self {
            kind: cause.code,
            code: cause.code.code(),
            side: cause.code.side(),
            message: cause.message.clone(),
            hint: cause.hint.clone(),
            probable_causes: cause.probable_causes.clone(),
        }
    }
}

/// Transport of RTP packets.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RtpTransport {
    /// Interleaved with RTSP.
    Tcp,
    /// UDP.
    Udp,
}

impl RtpTransport {
    /// Returns the name of the transport.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Tcp => "tcp",
            Self::Udp => "udp",
        }
    }

    pub(crate) fn other(self) -> Self {
        match self {
            Self::Tcp => Self::Udp,
            Self::Udp => Self::Tcp,
        }
    }
}

/// Reception statistics of a track in one session.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ReceptionView {
    /// Track.
    pub track: Track,
    /// Packets received.
    pub received: u64,
    /// Packets lost.
    pub lost: u64,
    /// Packets that arrived after a later one.
    pub reordered: u64,
    /// Duplicate packets, and packets too late.
    pub repeated: u64,
    /// Access units dropped because of packet loss.
    pub units_dropped: u64,
    /// Parts of packets that were dropped, by reason.
    pub drops: DropCounts,
    /// Interarrival jitter (RFC 3550, 6.4.1) in seconds.
    pub jitter_s: f64,
    /// Clock drift of the camera in parts per million, with its standard error.
    pub drift_ppm: Option<(f64, f64)>,
}

impl ReceptionView {
    /// Subtracts earlier counts.
    pub(crate) fn count_from(&mut self, before: &Self) {
        self.received = self.received.saturating_sub(before.received);
        self.lost = self.lost.saturating_sub(before.lost);
        self.reordered = self.reordered.saturating_sub(before.reordered);
        self.repeated = self.repeated.saturating_sub(before.repeated);
        self.units_dropped = self.units_dropped.saturating_sub(before.units_dropped);
        self.drops = self.drops.since(before.drops);
    }
}

/// State of a feed at one moment.
#[derive(Debug, Clone, PartialEq)]
pub struct FeedView {
    /// Name.
    pub name: String,
    /// Age of this state. It exceeds a second only if the feed's media thread is blocked.
    pub age: Duration,
    /// State.
    pub state: FeedPhase,
    /// When the state began.
    pub since: SystemTime,
    /// When it went down, over all attempts.
    pub down_since: Option<SystemTime>,
    /// Connection attempts since it went down.
    pub attempts: u32,
    /// Cause while it does not flow, or a warning.
    pub cause: Option<CauseView>,
    /// Time until the next attempt, while waiting or blocked.
    pub retry_in: Option<Duration>,
    /// Parts of its configuration that have worked since they were set.
    pub history: History,
    /// A person may be needed: it is blocked, or retried at long intervals only.
    pub needs_attention: bool,
    /// Transport in use.
    pub transport: Option<RtpTransport>,
    /// Video, once known.
    pub video: Option<VideoInfo>,
    /// Audio, once known.
    pub audio: Option<AudioInfo>,
    /// Bytes received since the feed was enabled.
    pub bytes: u64,
    /// Packets lost since the feed was enabled.
    pub packets_lost: u64,
    /// Access units dropped because of packet loss, or because they depend on a dropped one.
    pub units_dropped: u64,
    /// Data skipped on the camera's RTSP connections.
    pub skipped: Skipped,
    /// Reception of the present or last session.
    pub reception: Vec<ReceptionView>,
    /// Steps of the last dial.
    pub steps: Vec<StepView>,
    /// Number of reconnections.
    pub reconnects: u64,
    /// Renditions that are made of it.
    pub renditions: Vec<RenditionView>,
    /// Encoder that publishes it now.
    pub publisher: Option<PublisherView>,
}

/// Encoder that publishes a feed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PublisherView {
    /// Protocol, network address and software.
    pub info: PublisherInfo,
    /// When it began.
    pub since: SystemTime,
    /// Round-trip time, with SRT.
    pub rtt: Option<Duration>,
}

/// Completed step of a connection.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StepView {
    /// Step.
    pub step: DialStep,
    /// Time since the dial began.
    pub after: Duration,
}

/// Statistics of an SRT connection.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct LinkView {
    /// Negotiated latency.
    pub latency: Duration,
    /// Round-trip time.
    pub rtt: Duration,
    /// Packets reported as lost in this connection.
    pub lost: u64,
    /// Packets sent, without retransmissions.
    pub sent: u64,
    /// Retransmitted packets.
    pub retransmitted: u64,
    /// Packets dropped because they were too late.
    pub dropped: u64,
    /// Link capacity estimated by the peer, in kilobits per second, once known.
    pub estimated_bandwidth_kbps: Option<u64>,
    /// Rate at which packets reach the peer, repetitions included, in kilobits per second, if known.
    pub receiving_kbps: Option<u64>,
    /// The connection is encrypted.
    pub encrypted: bool,
}

/// State of a rendition at one moment.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct RenditionView {
    /// Format.
    pub rendition: Rendition,
    /// Source of its audio.
    pub audio_source: AudioSource,
    /// Present bit rate of its video, in kilobits per second: less than that of the rendition while the network path of its
    /// only push is too slow.
    pub video_kbps: Option<u32>,
    /// Number of pushes that use it.
    pub shared_by: u32,
    /// Processor cores that it occupies.
    pub cpu_cores: f64,
    /// Video frames received from the feed.
    pub frames_in: u64,
    /// Video frames made.
    pub frames_out: u64,
    /// Video frames of the feed that were skipped because the machine was too slow.
    pub skipped: u64,
    /// Number of restarts after failures.
    pub restarts: u64,
}

/// State of a push at one moment.
#[derive(Debug, Clone, PartialEq)]
pub struct PushView {
    /// Name of the destination.
    pub destination: String,
    /// State.
    pub state: PushPhase,
    /// When the state began.
    pub since: SystemTime,
    /// When it went down, over all attempts.
    pub down_since: Option<SystemTime>,
    /// Connection attempts since it went down.
    pub attempts: u32,
    /// Cause while it is not live.
    pub cause: Option<CauseView>,
    /// Time until the next attempt, while waiting or blocked.
    pub retry_in: Option<Duration>,
    /// Parts of the destination that have worked since they were set.
    pub history: History,
    /// A person may be needed: it is blocked, or retried at long intervals only.
    pub needs_attention: bool,
    /// Output bit rate.
    pub kbps: u64,
    /// Bytes sent since it was enabled.
    pub bytes: u64,
    /// Video frames sent since it was enabled.
    pub frames_sent: u64,
    /// Video frames skipped since it was enabled, because the network was too slow.
    pub frames_dropped: u64,
    /// Number of reconnections.
    pub reconnects: u64,
    /// Backlog behind the feed.
    pub backlog: Duration,
    /// Steps of the last dial.
    pub steps: Vec<StepView>,
    /// Since when it is connected.
    pub connected_since: Option<SystemTime>,
    /// Server in use, or to be dialed next.
    pub server: ServerRole,
    /// Uplink that it is bound to.
    pub uplink: Option<String>,
    /// SRT statistics.
    pub link: Option<LinkView>,
    /// Warning about a running push.
    pub warning: Option<&'static str>,
    /// Rendition that it sends; `None` for the feed as it is.
    pub rendition: Option<RenditionView>,
}

impl PushView {
    /// Returns the view of a push that has just been started.
    pub(crate) fn started(spec: &PushSpec, clock: &Clock) -> Self {
        Self {
            destination: spec.destination.clone(),
            state: PushPhase::Waiting,
            since: clock.wall(clock.now()),
            down_since: None,
            attempts: 0,
            cause: None,
            retry_in: None,
            history: spec.history,
            needs_attention: false,
            kbps: 0,
            bytes: 0,
            frames_sent: 0,
            frames_dropped: 0,
            reconnects: 0,
            backlog: Duration::ZERO,
            steps: Vec::new(),
            connected_since: None,
            server: ServerRole::Main,
            uplink: None,
            link: None,
            warning: None,
            rendition: None,
        }
    }
}

/// State of a relay at one moment.
#[derive(Debug, Clone, PartialEq)]
pub struct RelayView {
    /// Name.
    pub name: String,
    /// Feed.
    pub feed: FeedView,
    /// Pushes, in order.
    pub pushes: Vec<PushView>,
}
