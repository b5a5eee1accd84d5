//! Receiving side: publishers over RTMP and SRT, the media that they send, and the grading receiver of rehearsals.

mod channel;
mod grading;
mod media;
mod rtmp;
mod srt;
mod stream_info;
mod units;

pub use grading::{GradingReceiver, ReceiverConfig};
pub use media::{MediaEvent, RtmpMedia, TsMedia};
pub use units::{PublishedUnit, RtmpUnits, TsUnits, UnitEvent};
