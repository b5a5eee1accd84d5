//! Sockets, timers and tasks: pulls, the hub of each feed, pushes, and the tasks that carry out what the
//! supervision machines decide.
//!
//! One task supervises each feed and one each push; a fault in one takes no other down. A feed and all that hangs on
//! it share a thread, see [`MediaThreads`]. [`Engine`] is the handle that the rest of the service holds.

mod alarm;
mod causes;
mod clock;
mod dial;
mod engine;
mod feed;
mod find;
mod hub;
mod media_threads;
mod output;
mod preview;
mod pull;
mod push;
mod reach;
mod resolver;
mod slate;
mod spec;
mod still;
mod survey;
mod tasks;
mod tls;
mod view;

pub use clock::Clock;
pub use engine::Engine;
pub use find::{FindError, FindRequest, FoundCamera, FoundStream};
pub use hub::{Cursor, Entry, Hub, Taken};
pub use media_threads::{Heartbeats, MediaThreads};
pub use preview::PreviewMessage;
pub use reach::Reached;
pub use slate::{Picture, PictureError, holding_preview};
pub use spec::{Binding, FeedSpec, HoldSpec, PushSpec, RelaySpec, TransportChoice, UplinkSpec};
pub use still::{Still, StillError};
pub use survey::{SURVEY_RANGE, StreamView, SurveyRequest, SurveyView};
pub use tls::{Fingerprint, PrivateAuthority, count_authorities, fingerprint_text};
pub use view::{
    AudioView, Carrier, CauseView, FeedView, LinkView, PushView, ReceptionView, RelayView, StepView,
    VideoView,
};
