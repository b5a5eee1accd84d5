//! Sockets, timers and tasks: runs feeds, relays and pushes as decided by the supervision state machines.
//!
//! Each feed is one actor on one media thread, with its relays and their pushes; a fault in one does not affect the
//! others. See [`MediaThreads`]. [`Engine`] is the handle for the rest of the service.

mod block;
mod causes;
mod children;
mod clock;
mod connect;
mod deadline;
mod device;
mod driver;
mod engine;
mod feed;
mod find;
mod ids;
mod lease;
mod link;
mod media_threads;
mod output;
mod placement;
mod preview;
mod push;
mod reachability;
mod relay;
mod rendition;
mod running;
mod source;
mod spec;
mod still;
mod survey;
mod tasks;
mod tls;
mod view;

pub use clock::Clock;
pub use device::{CameraTarget, ChangedElsewhere, EncoderReport, SetReport, TuneError};
pub use engine::Engine;
#[cfg(debug_assertions)]
pub use feed::PanicPlace;
pub use find::{FindError, FindRequest, FindTarget, FoundCamera, FoundStream};
pub use media_threads::{Heartbeats, MediaThreads};
pub use preview::PreviewMessage;
pub use reachability::ProbeReport;
pub use rendition::codec_speed;
pub use spec::{
    Adaptation, Binding, FeedSpec, HoldSpec, PushSpec, RelaySpec, RtspSpec, SourceSpec, TransportChoice,
    UplinkSpec,
};
pub use still::{Still, StillError};
pub use survey::{SURVEY_RANGE, StreamView, SurveyRequest, SurveyView};
pub use tls::{Fingerprint, PrivateAuthority, count_authorities, fingerprint_text};
pub use view::{
    CauseView, FeedView, LinkView, PublisherView, PushView, ReceptionView, RelayView, RenditionView,
    RtpTransport, StepView,
};
pub use yonder_codec::is_h265_available;
pub use yonder_rtsp::{DropCounts, Skipped};
pub use yonder_slate::{Picture, PictureError, holding_preview};
