//! Receiving side: listeners that encoders publish to, the media that they send, and the grading receiver of rehearsals.

mod channel;
mod grading;
mod media;
mod rtmp;
mod server;
mod srt;
mod stream_info;
mod units;

pub use grading::{GradingReceiver, ReceiverConfig};
pub use media::{MediaEvent, RtmpMedia, TsMedia};
pub use server::{
    FeedAccess, IngestAddresses, IngestConfig, IngestCounts, IngestProtocol, IngestRegistry, IngestServer,
    LinkStats, Publisher, PublisherEnd, PublisherInfo, PublisherMessage, new_key,
};
pub use units::{PublishedUnit, RtmpUnits, TsUnits, UnitEvent};
