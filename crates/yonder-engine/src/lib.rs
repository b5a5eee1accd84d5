//! Sockets, timers and tasks: feeds with their sources, relays and pushes, which carry out what the supervision machines
//! decide.
//!
//! Each feed is one actor on one media thread, with its relays and their pushes; a fault in one takes no other down. See
//! [`MediaThreads`]. [`Engine`] is the handle that the rest of the service holds.

mod block;
mod causes;
mod children;
mod clock;
mod deadline;
mod dial;
mod driver;
mod engine;
mod feed;
mod find;
mod link;
mod media_threads;
mod output;
mod placement;
mod preview;
mod push;
mod reach;
mod resolver;
mod source;
mod spec;
mod still;
mod survey;
mod sync;
mod tasks;
mod tls;
mod view;
mod watched;

pub use clock::Clock;
pub use engine::Engine;
#[cfg(debug_assertions)]
pub use feed::PanicPlace;
pub use find::{FindError, FindRequest, FindTarget, FoundCamera, FoundStream};
pub use media_threads::{Heartbeats, MediaThreads};
pub use preview::PreviewMessage;
pub use reach::Reached;
pub use spec::{Binding, FeedSpec, HoldSpec, PushSpec, RelaySpec, TransportChoice, UplinkSpec};
pub use still::{Still, StillError};
pub use survey::{SURVEY_RANGE, StreamView, SurveyRequest, SurveyView};
pub use tls::{Fingerprint, PrivateAuthority, count_authorities, fingerprint_text};
pub use view::{
    AudioView, Carrier, CauseView, FeedView, LinkView, PushView, ReceptionView, RelayView, StepView,
    VideoView,
};
pub use yonder_rtsp::{DropCounts, Skipped};
pub use yonder_slate::{Picture, PictureError, holding_preview};
