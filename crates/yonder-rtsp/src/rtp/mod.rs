//! RTP and RTCP (RFC 3550): packets, jitter buffer, reception statistics, reports and payload formats.

mod aac;
mod depacketizer;
mod drift;
mod h264;
mod h265;
mod latm;
mod packet;
mod payload;
mod reorder;
mod rtcp;
mod source;
mod video;

pub use aac::{AacDepacketizer, AacFormat, AacFrame};
pub use depacketizer::{Depacketizer, TrackUnit};
pub use drift::Drift;
pub use latm::LatmDepacketizer;
pub use packet::{PacketError, RtpPacket};
pub use payload::DropCounts;
pub use reorder::{JitterBuffer, OrderStats};
pub use rtcp::{ReportBlock, Rtcp, SenderReport, empty_report, parse_compound, receiver_report};
pub use source::{Arrival, ReceptionStats, Source};
pub use video::{VideoDepacketizer, VideoFormat, VideoUnit};
