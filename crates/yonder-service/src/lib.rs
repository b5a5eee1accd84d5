//! The service without its HTTP interface.
//!
//! [`Service`] is made of parts, each with its own locks and loops. Each depends on those above it alone:
//!
//! | part | task |
//! |---|---|
//! | [`Records`] | everything that is stored, changed in a [`Transaction`] alone |
//! | [`Events`] | live events for subscribers |
//! | [`Journal`] | audit trail and logbook lines, also when the disk does not take them |
//! | [`History`] | states, outages, traffic and bit rates over time |
//! | [`Planner`] | search, preflight, rehearsal, budget |
//! | [`Previews`] | stills and surveys |
//! | [`Notifications`] | alert rules and delivery |
//! | [`Reconciler`] | brings the engine to what is stored and wanted |
//! | [`Auth`] | people, sessions and tokens |
//!
//! [`Service::execute`] is the one path of every change.

mod auth;
mod backups;
mod change;
mod channel;
mod error;
mod events;
mod figures;
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
mod sync;
mod time;
mod upgrade;
mod views;

pub use auth::{Auth, SESSION_S, SignInClient, Source};
pub use backups::{BackupPlan, Backups};
pub use change::{Actor, Change, Origin};
pub use error::ServiceError;
pub use events::{Events, LiveEvent};
pub use figures::{AlertFigures, DiskFigures, ServiceFigures};
pub use history::History;
pub use home::{Home, HomeError};
pub use jobs::{JobContext, JobEntry, Jobs, NewJob, Outcome};
pub use journal::Journal;
pub use loops::Loops;
pub use notifications::Notifications;
pub use planner::Planner;
pub use previews::Previews;
pub use process::ProcessFigures;
pub use reconciler::Reconciler;
pub use records::{Records, Transaction};
pub use restore::{RestoreOptions, Restored};
pub use secrets::same_secret;
pub use service::Service;
pub use sync::run_blocking;
pub use time::text as time_text;
pub use upgrade::Upgrade;
pub use views::{cause as cause_facts, role_facts};
