//! Decisions without I/O: causes with their next steps, supervision of feeds and
//! pushes, names, and measured rates.
//!
//! Everything here is pure: time comes in as a [`std::time::Duration`] since an epoch of the caller's choice.

#![forbid(unsafe_code)]
#![deny(
    clippy::as_conversions,
    clippy::expect_used,
    clippy::indexing_slicing,
    clippy::panic,
    clippy::unwrap_used
)]
#![cfg_attr(test, allow(clippy::as_conversions, reason = "tests build their input by hand"))]

mod account;
pub mod alerts;
pub mod book;
pub mod budget;
mod cause;
mod condition;
mod diagnosis;
mod dial_step;
pub mod grade;
mod measure;
mod names;
pub mod on_air;
mod pattern;
pub mod platform;
pub mod preflight;
pub mod record;
mod refusal;
mod role;
pub mod series;
mod supervision;
mod survey;

pub use account::is_factory_like;
pub use cause::{Cause, CauseCode, Side};
pub use condition::{Action, Condition, ConditionLevel, Part, PartCause, action_of};
pub use diagnosis::{Place, probable_causes};
pub use dial_step::DialStep;
pub use measure::{PictureMeter, RateMeter};
pub use names::{NameError, check_name, nearest_name};
pub use pattern::{
    FilledAddresses, Pattern, PatternError, Placeholder, PlaceholderKind, Values, read_channels,
};
pub use refusal::{PublishStage, Refusal, RefusalMeaning, RefusalRule};
pub use role::Role;
pub use supervision::{
    Decision, DesiredState, FailureClass, FeedMachine, FeedPhase, FeedState, History, HoldDecision,
    HoldMachine, Phase, PushMachine, PushPhase, PushState, RetryPolicy, ServerRole, Source,
};
pub use survey::{Advice, Intervals, Measured, SurveyMeter, SurveyedStream, advise};
