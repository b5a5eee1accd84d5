//! Statistics of the service for metrics. Collecting them does not block on the disk.

use std::time::SystemTime;

use yonder_api::{Relay, UplinkBudget};
use yonder_engine::{FeedView, RelayView};
use yonder_ingest::IngestCounts;

use crate::process::ProcessStats;
use crate::sharing::SignpostStats;

/// Statistics at one moment.
#[derive(Debug)]
pub struct ServiceStats {
    /// Version of the program.
    pub version: String,
    /// Resources of the process.
    pub process: ProcessStats,
    /// All relays, with their desired states and conditions.
    pub relays: Vec<Relay>,
    /// Running relays with their pushes.
    pub running: Vec<RelayView>,
    /// Running feeds.
    pub feeds: Vec<FeedView>,
    /// Encoders that publish, and refused ones.
    pub ingest: IngestCounts,
    /// Signposts.
    pub signposts: Vec<SignpostStats>,
    /// Alerts and notifications.
    pub alerts: AlertStats,
    /// Entries of logbook, history and audit log that could not be written; `None` while a write blocks.
    pub unwritten: Option<usize>,
    /// Values last read from the disk.
    pub disk: DiskStats,
    /// Time of the newest scheduled backup.
    pub scheduled_backup: Option<SystemTime>,
    /// The last scheduled backup has failed.
    pub backup_failed: bool,
}

/// Statistics of alerts and notifications.
#[derive(Debug, Default)]
pub struct AlertStats {
    /// Rules of open alerts, with whether they are acknowledged.
    pub open: Vec<(String, bool)>,
    /// Contacts of undelivered notifications.
    pub undelivered: Vec<String>,
    /// Contacts with several consecutive failures.
    pub unreachable: Vec<String>,
}

/// Values that are read from the disk about once a minute.
#[derive(Debug, Clone, Default)]
pub struct DiskStats {
    /// Free space where the records are, in bytes.
    pub free_bytes: Option<u64>,
    /// Size of the records, in bytes.
    pub records_bytes: u64,
    /// Time of the last backup of any kind, in milliseconds since 1970.
    pub last_backup_ms: Option<i64>,
    /// Uplinks with their loads.
    pub uplinks: Vec<UplinkBudget>,
}
