//! The service without its HTTP interface: keeps records and engine in step, watches, notifies, and knows who may do what.

mod auth;
mod error;
mod home;
mod jobs;
mod process;
mod restore;
mod service;
mod tell;
mod time;

pub use auth::same_secret;
pub use error::ServiceError;
pub use home::{Home, HomeError};
pub use jobs::{JobContext, JobEntry, Jobs, NewJob, Outcome};
pub use process::ProcessFigures;
pub use restore::Restored;
pub use service::run_blocking;
pub use time::text as time_text;

pub use service::{Actor, Change, LiveEvent, Loops, Origin, SESSION_S, Service, role_facts};
