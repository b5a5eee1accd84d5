//! The service without its HTTP interface.
//!
//! [`Service`] consists of parts, each with its own locks and loops. A part depends only on those above it:
//!
//! | part | task |
//! |---|---|
//! | [`Records`] | stored records, changed only in a [`Transaction`] |
//! | [`Events`] | live events for subscribers |
//! | [`Journal`] | audit log and logbook lines, also while the disk fails |
//! | [`History`] | states, outages, traffic and bit rates over time |
//! | [`Planner`] | discovery, preflight, rehearsal, budget |
//! | [`Previews`] | stills and surveys |
//! | [`Notifications`] | alert rules and delivery |
//! | [`Reconciler`] | applies stored settings and desired states to the engine |
//! | [`Auth`] | people, sessions and tokens |
//!
//! [`Service::execute`] is the path of every change.

mod auth;
mod backups;
mod change;
mod channel;
mod error;
mod events;
mod history;
mod home;
mod jobs;
mod journal;
mod loops;
mod notifications;
mod planner;
mod previews;
mod process;
mod reconciler;
mod records;
mod rename;
mod restore;
mod secrets;
mod service;
mod stats;
mod sync;
mod time;
mod upgrade;
mod views;

pub use auth::{Auth, SESSION_S, SignInClient, Source};
pub use backups::{BackupPlan, Backups};
pub use change::{Actor, Change, Origin};
pub use error::{DeviceProblem, ServiceError};
pub use events::{Events, LiveEvent};
pub use history::History;
pub use home::{DataDir, DataDirError};
pub use jobs::{JobContext, JobEntry, Jobs, NewJob, Outcome};
pub use journal::Journal;
pub use loops::Loops;
pub use notifications::Notifications;
pub use planner::{PlannedTuning, Planner};
pub use previews::Previews;
pub use process::ProcessStats;
pub use reconciler::Reconciler;
pub use records::{Records, Transaction};
pub use restore::{RestoreOptions, Restored};
pub use secrets::same_secret;
pub use service::Service;
pub use stats::{AlertStats, DiskStats, ServiceStats};
pub use sync::run_blocking;
pub use time::text as time_text;
pub use upgrade::Upgrade;
pub use views::{cause as cause_facts, role_facts};
