//! Decisions without I/O: causes and next steps, supervision of feeds and pushes, planning, history and measurements.
//!
//! All of it is pure: time is passed in as a [`std::time::Duration`] since an epoch of the caller's choice.

#![forbid(unsafe_code)]
#![deny(clippy::disallowed_methods, reason = "no clock is read and no thread sleeps in this crate")]
#![deny(
    clippy::as_conversions,
    clippy::expect_used,
    clippy::indexing_slicing,
    clippy::panic,
    clippy::unwrap_used
)]
#![cfg_attr(test, allow(clippy::as_conversions, reason = "tests build their input by hand"))]

pub mod alerts;
pub mod book;
pub mod budget;
mod cause;
mod condition;
mod default_credentials;
mod dial_step;
pub mod grade;
mod meters;
mod naming;
pub mod on_air;
mod pattern;
pub mod platform;
pub mod preflight;
mod probable_causes;
pub mod record;
mod refusal;
pub mod rendition;
mod role;
pub mod series;
mod stream_info;
mod supervision;
mod survey;
mod ticks;
pub mod tuning;

pub use cause::{Cause, CauseCode, FaultDomain};
pub use condition::{Action, Condition, ConditionLevel, Part, PartCause, action_of};
pub use default_credentials::is_factory_default;
pub use dial_step::DialStep;
pub use meters::{FrameMeter, RateMeter};
pub use naming::{NameError, check_name, nearest_name};
pub use pattern::{
    FilledAddresses, Pattern, PatternError, Placeholder, PlaceholderKind, Values, read_channels,
};
pub use probable_causes::{NetworkLocation, probable_causes};
pub use refusal::{PublishStage, Refusal, RefusalMeaning, RefusalRule};
pub use role::Role;
pub use stream_info::{AudioInfo, MeasuredAudio, MeasuredVideo, VideoInfo};
pub use supervision::{
    Decision, DesiredState, FailureClass, FeedMachine, FeedPhase, FeedState, History, HoldDecision,
    HoldMachine, Phase, PushMachine, PushPhase, PushState, RenditionMachine, RenditionState, RetryPolicy,
    ServerRole, Source,
};
pub use survey::{Advice, Intervals, Measured, SourceKind, SurveyMeter, SurveyedStream, advise};
