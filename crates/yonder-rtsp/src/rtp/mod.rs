//! RTP and RTCP (RFC 3550): packets, reception figures, reports, and the payload formats carried.

mod aac;
mod h264;
mod packet;
mod rtcp;
mod source;

pub use aac::{AacDepacketiser, AacFormat, AacFrame};
pub use h264::{H264Depacketiser, H264Unit};
pub use packet::{PacketError, RtpPacket};
pub use rtcp::{ReportBlock, Rtcp, SenderReport, parse_compound, receiver_report};
pub use source::{Arrival, ReceptionFigures, Source};
