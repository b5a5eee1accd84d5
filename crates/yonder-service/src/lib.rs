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
//! | [`Sharing`] | public pages of signposts, their viewers and traffic |
//! | [`Planner`] | discovery, preflight, rehearsal, budget |
//! | [`Previews`] | stills and surveys |
//! | [`Ingest`] | feeds that encoders publish to: keys, addresses |
//! | [`Notifications`] | alert rules and delivery |
//! | [`Reconciler`] | applies stored settings and desired states to the engine |
//! | [`Auth`] | people, sessions and tokens |
//!
//! [`Service::execute`] is the path of every change.

mod auth;
mod backups;
mod channel;
mod events;
mod history;
mod home;
mod ingest;
mod journal;
mod loops;
mod notifications;
mod planner;
mod previews;
mod process;
mod reconciler;
mod rename;
mod restore;
mod service;
mod sharing;
mod stats;
mod upgrade;

pub use auth::{Auth, SESSION_S, SignInClient, Source};
pub use backups::{BackupPlan, Backups};
pub use events::{Events, LiveEvent};
pub use history::History;
pub use home::{DataDir, DataDirError};
pub use ingest::{Ingest, IngestEndpoints, external_host, reachable};
pub use journal::Journal;
pub use loops::Loops;
pub use notifications::Notifications;
pub use planner::{PlannedTuning, Planner};
pub use previews::Previews;
pub use process::ProcessStats;
pub use reconciler::Reconciler;
pub use restore::{RestoreOptions, Restored};
pub use service::Service;
pub use sharing::{Expected, PublicView, Refusal, Sharing, SignpostStats, ViewerId};
pub use stats::{AlertStats, DiskStats, ServiceStats};
pub use upgrade::Upgrade;
pub use yonder_records::secrets::same_secret;
pub use yonder_records::time::text as time_text;
pub use yonder_records::views::{cause as cause_facts, role_facts};
pub use yonder_records::{
    Actor, Change, DeviceProblem, JobContext, JobEntry, Jobs, NewJob, Origin, Outcome, Records, ServiceError,
    Transaction, run_blocking,
};
