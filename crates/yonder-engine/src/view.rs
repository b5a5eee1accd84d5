//! Views of feeds, relays and pushes. Times are wall times; rates are in kilobits (1000 bits) per second.

use std::time::{Duration, SystemTime};

use yonder_core::{Cause, CauseCode, DialStep, FeedPhase, History, PushPhase, ServerRole, Side};
use yonder_media::Track;
use yonder_rtsp::{DropCounts, Skipped};

use crate::clock::Clock;
use crate::spec::PushSpec;

/// A cause as it is shown.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CauseView {
    /// Code.
    pub kind: CauseCode,
    /// The code as it is written everywhere.
    pub code: &'static str,
    /// Fault domain.
    pub side: Side,
    /// One sentence.
    pub message: String,
    /// Next step.
    pub hint: String,
    /// Likely reasons, likeliest first.
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

/// The measured picture.
#[derive(Debug, Clone, PartialEq)]
pub struct VideoView {
    /// Codec name.
    pub codec: &'static str,
    /// Profile name.
    pub profile: &'static str,
    /// Tier, where the codec has tiers.
    pub tier: Option<&'static str>,
    /// Level as it is written: 4.1 and the like.
    pub level: f64,
    /// Samples.
    pub width: u32,
    /// Samples.
    pub height: u32,
    /// Frames per second that the stream declares.
    pub declared_fps: Option<f64>,
    /// Measured frames per second.
    pub fps: Option<f64>,
    /// Rate of the whole feed.
    pub kbps: u64,
    /// Measured seconds between keyframes.
    pub keyframe_interval_s: Option<f64>,
}

/// The sound.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AudioView {
    /// Codec name.
    pub codec: &'static str,
    /// Sampling rate.
    pub rate_hz: u32,
    /// Channels.
    pub channels: u8,
}

/// How packets travel.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Carrier {
    /// Within the RTSP connection.
    Tcp,
    /// As datagrams.
    Udp,
}

impl Carrier {
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

/// How a track's packets came in one session.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ReceptionView {
    /// Track.
    pub track: Track,
    /// Packets received.
    pub received: u64,
    /// Packets that never came.
    pub lost: u64,
    /// Packets that came after a later one.
    pub reordered: u64,
    /// Packets that came twice, or too late.
    pub repeated: u64,
    /// Units dropped because of loss.
    pub units_dropped: u64,
    /// Parts of packets that were not used, by reason.
    pub drops: DropCounts,
    /// Interarrival jitter (RFC 3550, 6.4.1) in seconds.
    pub jitter_s: f64,
    /// The camera's clock against ours in parts per million, and the standard error of that.
    pub drift_ppm: Option<(f64, f64)>,
}

impl ReceptionView {
    /// Leaves out what was counted before.
    pub(crate) fn count_from(&mut self, before: &Self) {
        self.received = self.received.saturating_sub(before.received);
        self.lost = self.lost.saturating_sub(before.lost);
        self.reordered = self.reordered.saturating_sub(before.reordered);
        self.repeated = self.repeated.saturating_sub(before.repeated);
        self.units_dropped = self.units_dropped.saturating_sub(before.units_dropped);
        self.drops = self.drops.since(before.drops);
    }
}

/// A feed at one moment.
#[derive(Debug, Clone, PartialEq)]
pub struct FeedView {
    /// Name.
    pub name: String,
    /// Time since the feed was looked at. It grows beyond a second only when the feed's media thread stands still.
    pub age: Duration,
    /// State.
    pub state: FeedPhase,
    /// When the state began.
    pub since: SystemTime,
    /// Since when it has been down, over all attempts.
    pub down_since: Option<SystemTime>,
    /// Connection attempts since then.
    pub attempts: u32,
    /// Why it does not flow.
    pub cause: Option<CauseView>,
    /// Time until the next attempt, while waiting or blocked.
    pub retry_in: Option<Duration>,
    /// Parts of its address that have worked since they were set.
    pub history: History,
    /// A person may be needed: it is blocked, or retried at long intervals only.
    pub needs_attention: bool,
    /// Transport in use.
    pub transport: Option<Carrier>,
    /// Picture, once known.
    pub video: Option<VideoView>,
    /// Sound, once known.
    pub audio: Option<AudioView>,
    /// Bytes received since the feed was switched on.
    pub bytes: u64,
    /// Packets lost since the feed was switched on.
    pub packets_lost: u64,
    /// Units dropped because of that, with all that depended on them.
    pub units_dropped: u64,
    /// Bytes and header lines skipped in the camera's RTSP connections.
    pub skipped: Skipped,
    /// Reception of the session that runs, or ran last.
    pub reception: Vec<ReceptionView>,
    /// Steps of the last dial.
    pub steps: Vec<StepView>,
    /// Returns after an absence.
    pub reconnects: u64,
}

/// A step of a push's dialogue, done.
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
    /// Latency that both sides agreed on.
    pub latency: Duration,
    /// Round trip.
    pub rtt: Duration,
    /// Packets reported lost, of those sent, in this connection.
    pub lost: u64,
    /// Packets sent for the first time.
    pub sent: u64,
    /// Packets sent again.
    pub retransmitted: u64,
    /// Packets given up because they were too late.
    pub dropped: u64,
    /// Link capacity estimated by the peer, in kilobits per second, where it is known.
    pub estimated_bandwidth_kbps: Option<u64>,
    /// The media is encrypted.
    pub encrypted: bool,
}

/// A push at one moment.
#[derive(Debug, Clone, PartialEq)]
pub struct PushView {
    /// Name of the destination.
    pub destination: String,
    /// State.
    pub state: PushPhase,
    /// When the state began.
    pub since: SystemTime,
    /// Since when it has been down, over all attempts.
    pub down_since: Option<SystemTime>,
    /// Connection attempts since then.
    pub attempts: u32,
    /// Why it is not live.
    pub cause: Option<CauseView>,
    /// Time until the next attempt, while waiting or blocked.
    pub retry_in: Option<Duration>,
    /// Parts of the destination that have worked since they were set.
    pub history: History,
    /// A person may be needed: it is blocked, or retried at long intervals only.
    pub needs_attention: bool,
    /// Rate going out.
    pub kbps: u64,
    /// Bytes sent since it was switched on.
    pub bytes: u64,
    /// Pictures sent since it was switched on.
    pub frames_sent: u64,
    /// Pictures skipped since it was switched on, because the way was too slow.
    pub frames_dropped: u64,
    /// Returns after an absence.
    pub reconnects: u64,
    /// How far it is behind the feed.
    pub backlog: Duration,
    /// Steps of the last dial.
    pub steps: Vec<StepView>,
    /// Since when its connection stands, where one does.
    pub connected_since: Option<SystemTime>,
    /// Server of the destination that is in use, or is dialed next.
    pub server: ServerRole,
    /// The uplink that it is bound to, where it is.
    pub uplink: Option<String>,
    /// Statistics of the connection, for SRT.
    pub link: Option<LinkView>,
    /// Warning about a push that runs.
    pub warning: Option<&'static str>,
}

impl PushView {
    /// Returns a push that has just been started.
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
        }
    }
}

/// A relay at one moment.
#[derive(Debug, Clone, PartialEq)]
pub struct RelayView {
    /// Name.
    pub name: String,
    /// Feed.
    pub feed: FeedView,
    /// Pushes in order.
    pub pushes: Vec<PushView>,
}
