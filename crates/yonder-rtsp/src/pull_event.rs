//! Events and statistics of a pull.

use yonder_media::h264::SpsError;
use yonder_media::{Payload, StreamHeaders, Track};

use crate::client::{Channel, DatagramPeer, Offered, Step};
use crate::rtp::{DropCounts, OrderStats, ReceptionStats};

/// Video or audio frame with its RTP time.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RtpAccessUnit {
    /// Track.
    pub track: Track,
    /// RTP time.
    pub rtp_time: u32,
    /// Decoding can start here.
    pub keyframe: bool,
    /// Payload.
    pub payload: Payload,
}

/// Described track that was set up.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Described {
    /// Track.
    pub track: Track,
    /// RTP clock rate in hertz.
    pub clock_rate: u32,
    /// Source of the datagrams, for UDP transport.
    pub peer: Option<DatagramPeer>,
}

/// Path of a datagram: its local port.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct DatagramPath {
    /// Index of the track.
    pub track: usize,
    /// RTP or RTCP.
    pub channel: Channel,
}

/// Event of a pull.
#[derive(Debug, Clone, PartialEq)]
pub enum PullEvent {
    /// A step was completed.
    Step(Step),
    /// The camera has offered Digest authentication.
    DigestOffered,
    /// All media that the camera offers.
    Offered(Vec<Offered>),
    /// Tracks that were set up.
    Tracks(Vec<Described>),
    /// Stream headers, new or changed; they apply from the next unit on.
    Headers(StreamHeaders),
    /// Access unit.
    Unit(RtpAccessUnit),
    /// RTCP sender report, for synchronization.
    SenderReport {
        /// Track.
        track: Track,
        /// 64-bit NTP time.
        ntp: u64,
        /// RTP time of that instant.
        rtp: u32,
    },
    /// The camera restarted its RTP numbering: earlier and later RTP times are unrelated.
    Restarted(Track),
}

/// Statistics of one track.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct TrackStats {
    /// Track.
    pub track: Track,
    /// Packet reception.
    pub reception: ReceptionStats,
    /// Packet order.
    pub order: OrderStats,
    /// Access units dropped because of packet loss.
    pub units_dropped: u64,
    /// Parts of packets that were dropped, by reason.
    pub drops: DropCounts,
    /// Error of the last sequence parameter set, if it could not be parsed.
    pub parameter_problem: Option<SpsError>,
}
