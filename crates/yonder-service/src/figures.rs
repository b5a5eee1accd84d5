//! Figures of the service for metrics. Collecting them does not wait for the disk.

use std::time::SystemTime;

use yonder_api::{Relay, UplinkBudget};
use yonder_engine::{FeedView, RelayView};

use crate::process::ProcessFigures;

/// Figures of one moment.
#[derive(Debug)]
pub struct ServiceFigures {
    /// Version of the program.
    pub version: String,
    /// Resources of the process.
    pub process: ProcessFigures,
    /// All relays, with what is wanted and their condition.
    pub relays: Vec<Relay>,
    /// Relays that the engine runs, with their pushes.
    pub running: Vec<RelayView>,
    /// Feeds that the engine runs.
    pub feeds: Vec<FeedView>,
    /// Alerts and notifications.
    pub alerts: AlertFigures,
    /// Entries of the logbook, the history and the audit trail that wait for the disk; `None` while a write does not return.
    pub unwritten: Option<usize>,
    /// Figures last read from the disk.
    pub disk: DiskFigures,
    /// Time of the newest scheduled backup.
    pub scheduled_backup: Option<SystemTime>,
    /// The last scheduled backup failed.
    pub backup_failed: bool,
}

/// Figures of alerts and notifications.
#[derive(Debug, Default)]
pub struct AlertFigures {
    /// Names of the rules of open alerts, each with whether it is acknowledged.
    pub open: Vec<(String, bool)>,
    /// Contacts of the notifications that are not delivered yet.
    pub undelivered: Vec<String>,
    /// Contacts that could not be reached several times in a row.
    pub unreachable: Vec<String>,
}

/// Figures that are read from the disk about once a minute.
#[derive(Debug, Clone, Default)]
pub struct DiskFigures {
    /// Free space where the records are, in bytes.
    pub free_bytes: Option<u64>,
    /// Size of the records, in bytes.
    pub records_bytes: u64,
    /// Time of the last backup of any kind, in milliseconds since 1970.
    pub last_backup_ms: Option<i64>,
    /// Uplinks with what they carry.
    pub uplinks: Vec<UplinkBudget>,
}
