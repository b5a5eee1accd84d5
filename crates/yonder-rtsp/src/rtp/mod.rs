//! RTP and RTCP (RFC 3550): packets and their order, reception figures, reports, and the payload formats carried.

mod aac;
mod depacketiser;
mod drift;
mod h264;
mod h265;
mod latm;
mod packet;
mod payload;
mod picture;
mod reorder;
mod rtcp;
mod source;

pub use aac::{AacDepacketiser, AacFormat, AacFrame};
pub use depacketiser::{Depacketiser, TrackUnit};
pub use drift::Drift;
pub use latm::LatmDepacketiser;
pub use packet::{PacketError, RtpPacket};
pub use payload::DropCounts;
pub use picture::{Picture, PictureDepacketiser, PictureFormat};
pub use reorder::{OrderFigures, ReorderBuffer};
pub use rtcp::{ReportBlock, Rtcp, SenderReport, empty_report, parse_compound, receiver_report};
pub use source::{Arrival, ReceptionFigures, Source};
